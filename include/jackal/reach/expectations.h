// What reaches what today, as expectations: who freezes it is told of every later change.
//
//     for (const plan::Expectation& wanted : reach::expectations(settled)) …
#pragma once

#include "jackal/api.h"
#include "jackal/reach/matrix.h"

namespace jackal::reach {

/// Expectations that all hold, and together say of every ordered pair of guests (of routers on
/// subnets without guests) whether it gets a reply, or an answer from the service: sites before
/// subnets before machines, the fewest that come of splitting sites into subnets and those into
/// machines. Subnets outside are left out. Throws std::length_error beyond limits::frozen_ends, and
/// what matrix() throws.
JACKAL_API std::vector<plan::Expectation> expectations(const routing::Settled& settled,
                                                       const Asking& asking = {});

} // namespace jackal::reach
