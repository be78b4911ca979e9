// The routes that a machine has of its own: local, broadcast, connected and static.
#pragma once

#include "jackal/routing/settled.h"

namespace jackal::routing {

/// By prefix, best first; none if the machine is off. What the kernel would not take of the plan's
/// routes is added to `refused`, unless that is null.
std::vector<Route> own_routes(const lab::Lab& lab, const Condition& condition,
                              lab::MachineId machine, std::vector<RefusedRoute>* refused);

} // namespace jackal::routing
