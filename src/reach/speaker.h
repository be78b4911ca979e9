// Who asks and answers for a subnet.
#pragma once

#include "jackal/routing/settled.h"

namespace jackal::reach {

/// The machine that speaks for a subnet: its first guest that is up and has an address, else its
/// first other machine.
std::optional<lab::NicId> speaker(const routing::Settled& settled, const lab::Subnet& subnet);

} // namespace jackal::reach
