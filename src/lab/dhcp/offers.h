// Which DHCP server is heard where, and what it gives out there.
#pragma once

#include "jackal/lab/lab.h"
#include "jackal/lab/wiring.h"

namespace jackal::lab {

/// What is offered with everything as the plan says.
std::vector<DhcpOffer> offers(const plan::Plan& plan, const Lab& lab);

/// The part of a subnet's prefix that a region is, cut off where the prefix ends; or nothing.
std::optional<net::Range> region_in(const net::Prefix& prefix, const plan::Region& region);

} // namespace jackal::lab
