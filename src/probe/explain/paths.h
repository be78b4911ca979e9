// The way that packets could take if every machine on it had the routes: a search over the wiring.
#pragma once

#include "jackal/routing/settled.h"

namespace jackal::probe {

/// From a NIC of one machine across a segment to a NIC of the next.
struct Hop {
    lab::NicId out;
    lab::NicId in;
};

/// True if the one NIC looks for the first address of the other on their segment.
bool is_on_link(const lab::Lab& lab, const Hop& hop, net::Family family);

/// What the search may pass through.
enum class Through : std::uint8_t {
    working, ///< machines that are on and forward, NICs and links that are up and have addresses
    all,     ///< also what is off, down or unaddressed, and routers that do not forward
    wires,   ///< all but tunnels
};

/// The fewest hops from one machine to another, empty if there is no way or they are the same. What
/// is outside the lab is passed only where nothing else leads there.
std::vector<Hop> shortest_path(const routing::Settled& settled, lab::MachineId from,
                               lab::MachineId to, net::Family family, Through through);

} // namespace jackal::probe
