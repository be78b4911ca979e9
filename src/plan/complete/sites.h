// What the plan says of two sites that peer.
#pragma once

#include "jackal/plan/sites.h"

namespace jackal::plan {

/// What the two sides say, whatever space they own.
PeeringState consent(const Peering& peering);

/// Which ranges of two lists overlap; each list holds disjoint ones in order.
std::vector<Overlap> overlaps(const std::vector<net::Prefix>& ones,
                              const std::vector<net::Prefix>& others);

} // namespace jackal::plan
