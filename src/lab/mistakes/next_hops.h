// Gateways and next hops that lead nowhere.
#pragma once

#include "lab/mistakes/inspection.h"

namespace jackal::lab {

/// A next hop that a machine's kernel refuses, or that nobody has.
struct BadNextHop {
    enum class Why : std::uint8_t {
        off_link,  ///< on none of the machine's subnets
        own,       ///< an address of the machine itself
        routed,    ///< itself reached by another route
        broadcast, ///< a broadcast address
        unclaimed, ///< on a subnet of the machine, and nobody's there
    };
    MachineId machine;
    const StaticRoute* route = nullptr;
    Why why = Why::off_link;
    SegmentId segment; ///< of unclaimed: where it is looked for
};
/// What mends it depends on what is known of the ways: the caller adds that.
Finding describe(const Lab& lab, const BadNextHop& mistake, Seen seen);

/// A next hop that was given as a machine which shares no segment with the route's owner.
Finding describe(const Lab& lab, const UnresolvedRoute& mistake, Seen seen);

/// Where a machine would look for an address, by its own prefixes alone.
struct OnLink {
    bool on_link = false; ///< some prefix of the machine holds it
    bool own = false;     ///< it is the machine's own
    SegmentId segment;
    NicId nic; ///< by which
};
OnLink on_link(const Lab& lab, MachineId machine, net::Address address);

} // namespace jackal::lab
