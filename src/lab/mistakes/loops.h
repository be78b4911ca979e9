// Routes that lead in a circle.
#pragma once

#include "lab/mistakes/inspection.h"

namespace jackal::lab {

/// Machines that send packets round.
struct RouteLoop {
    std::vector<MachineId> machines; ///< in the order of the way, each once
    MachineId culprit;               ///< the one that should send elsewhere
    plan::Mark at;                   ///< of its route
    net::Family family = net::Family::ipv4;
    bool default_routes = true; ///< nothing but those lead round
    bool replies = false;       ///< of a packet: an answer
    MachineId home = {};        ///< of a packet that comes back to its sender: that drops it
};
/// What mends it depends on what is known of the ways: the caller adds that.
Finding describe(const Lab& lab, const RouteLoop& mistake, Seen seen);

/// Takes a route out of a circle that nothing better is known for.
Remedy take_out(const Lab& lab, MachineId machine, const StaticRoute& route);

} // namespace jackal::lab
