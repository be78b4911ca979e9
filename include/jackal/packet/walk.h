// The life of one packet: machine after machine, until it is delivered or lost.
//
//     packet::Journey journey = packet::walk(settled, sender, {.source = a, .destination = b});
//     if (journey.ending == packet::Ending::delivered) …
//
// What each machine does is decided in decide.h; the walk goes from one to the next and writes down
// what they did. It costs one longest-prefix match, and then a table access for each machine; it
// visits at most 255 of them. It draws no random numbers: delay, jitter and loss of the links that
// were crossed are for the caller to add up. Filters and translations remember no flows of other
// walks: an answer is walked together with the journey that it answers, and passes where that
// passed.
#pragma once

#include "jackal/api.h"
#include "jackal/packet/decide.h"

namespace jackal::packet {

/// What one machine did with the packet.
struct Step {
    lab::MachineId machine;
    lab::NicId in;  ///< none at the sender
    lab::NicId out; ///< none where it ends
    Action action = Action::send;
};

/// What a machine changed of a packet in passing.
struct Rewrite {
    std::uint32_t step = 0;
    net::Flow before;
    net::Flow after;
};

/// A machine that had several equal next hops for the packet.
struct Fork {
    std::uint32_t step = 0;
    std::uint32_t ways = 0;
    std::uint32_t taken = 0; ///< from 0
};

struct JACKAL_API Journey {
    Packet packet;  ///< as it was sent
    net::Flow flow; ///< as it ended
    std::vector<Step> steps;
    std::vector<Rewrite> rewrites;   ///< by step
    std::vector<Crossing> crossings; ///< by step: of tunnels
    std::vector<Fork> forks;         ///< by step
    Denial denial;                   ///< of filtered
    Ending ending = Ending::no_route;
    int ttl_left = 0;
    /// Of no_neighbour and which_neighbour; of shared_source the source; of to_broadcast what it
    /// came to if it was not to be sent to all of a segment, but came so and was then translated.
    net::Address next_hop;
    std::vector<lab::NicId> answering; ///< of which_neighbour
    net::Flow told; ///< of an error that was delivered: the packet that it tells of, as it says

    lab::MachineId last_machine() const { return steps.back().machine; }
    /// How many machines passed it on.
    int forwarded() const;
    /// The packet as it left the machine of a step.
    net::Flow flow_at(std::size_t step) const;
    /// True if a machine on the way sent it on to another destination.
    bool redirected() const { return flow.destination != packet.destination; }
};

/// What becomes of `packet` when `sender` sends it. `request` is the journey that an echo reply, or
/// whatever else comes back from a service, answers.
JACKAL_API Journey walk(const routing::Settled& settled, lab::MachineId sender,
                        const Packet& packet, const Journey* request = nullptr);

/// What becomes of a packet that comes in by a NIC, whoever has sent it there.
JACKAL_API Journey walk_in(const routing::Settled& settled, lab::NicId by, const Packet& packet);

/// What becomes of the ICMP error that the last machine of `failed` sends from `source`. It is let
/// through, and turned back by translations, as the packet it tells of was (RFC 5508 section 4).
JACKAL_API Journey walk_error(const routing::Settled& settled, const Journey& failed,
                              net::Address source);

} // namespace jackal::packet
