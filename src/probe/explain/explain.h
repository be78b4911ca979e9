// From the end of a journey to its cause and the change that mends it.
#pragma once

#include "jackal/probe/diagnosis.h"

namespace jackal::probe {

class Ground;

/// One leg of a ping that did not get where it should.
struct Leg {
    const packet::Journey* journey = nullptr;
    lab::NicId target;      ///< the NIC with the destination address, or none if it is nobody's
    bool returning = false; ///< the echo reply on its way home
    const packet::Journey* request = nullptr; ///< of a leg that returns: what it answers
    int tunnels = 0;                          ///< that the packet is the outer one of
};

/// The first step to whose machine the packet came again; their number if there is none.
std::size_t loop_start(const packet::Journey& journey);

/// The last step by which a packet left the lab, or null.
const packet::Step* leaving(const lab::Lab& lab, const packet::Journey& journey);

/// The first step by which a packet left a machine by one of its default routes that has another
/// one with another next hop, or null. Default routes of leases do not count as the one used.
const packet::Step* by_one_default(const routing::Settled& settled, const packet::Journey& journey);

/// Why the leg failed.
Diagnosis explain(const Leg& leg, Ground& ground);

/// Why a service's answer that arrives with another source than it was asked at counts for nothing.
Diagnosis explain_other_source(const routing::Settled& settled, const packet::Journey& out,
                               const packet::Journey& back);

/// Why two ends without a common address family cannot talk, or why one of them has no address.
Diagnosis explain_no_address(const lab::Lab& lab, const Endpoint& from, const Endpoint& to);

/// Why nobody gets to an end by the NIC of its own way out.
Diagnosis explain_own_way_out(const lab::Lab& lab, const Endpoint& from, const Endpoint& to);

/// Why a machine treats a packet as part of a flow that began before the network changed.
Diagnosis explain_older_flow(const lab::Lab& lab, const packet::Journey& journey,
                             lab::MachineId where);

} // namespace jackal::probe
