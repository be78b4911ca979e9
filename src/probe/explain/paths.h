// The way that packets could take if every machine on it had the routes: a search over the wiring.
#pragma once

#include "jackal/routing/settled.h"

#include <map>
#include <tuple>

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

/// What many explanations under one condition look at, worked out when it is first asked for.
class Ground {
  public:
    /// Refers to it.
    explicit Ground(const routing::Settled& settled) : settled_(settled) {}

    const routing::Settled& settled() const { return settled_; }

    /// The fewest hops from one machine to another, empty if there is no way or they are the same.
    /// What is outside the lab is passed only where nothing else leads there.
    std::vector<Hop> shortest_path(lab::MachineId from, lab::MachineId to, net::Family family,
                                   Through through);

    /// Of all machines, as that one knows them.
    const std::vector<routing::Neighbour>& neighbours(lab::MachineId known_by);

  private:
    using Start = std::tuple<lab::MachineId, net::Family, Through, bool>;
    using Ways = std::vector<Hop>; // by machine: the last hop to it

    const Ways& ways(const Start& start);

    const routing::Settled& settled_;
    std::map<Start, Ways> ways_;
    std::map<const routing::Learned*, std::vector<routing::Neighbour>> neighbours_;
};

} // namespace jackal::probe
