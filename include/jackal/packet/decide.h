// What one machine does with one packet: takes it, passes it on, or drops it.
//
//     packet::Header header = packet::header_of(settled, packet);
//     packet::Decision d = packet::decide(settled, machine, header);
//     if (d.action == packet::Action::forward) …    // header is what it passes on, to d.neighbour
//
// A machine behaves as a Linux host with default settings. Nothing is written down: who follows a
// packet keeps of each decision what it needs (walk.h keeps all of it). The addresses are looked up
// once, in header_of() and where a translation changes them; a decision then costs a table access,
// and a look through the filters and translations that the machine has.
#pragma once

#include "jackal/api.h"
#include "jackal/packet/packet.h"
#include "jackal/packet/tunnel.h"
#include "jackal/routing/settled.h"

#include <optional>
#include <vector>

namespace jackal::packet {

enum class Action : std::uint8_t {
    send,    ///< the sender puts it on a segment
    forward, ///< a machine passes it on
    deliver, ///< a machine takes it as its own
    drop,    ///< it ends here
};

/// "send", "forward", "deliver" or "drop".
JACKAL_API std::string_view to_string(Action action);

/// What dropped a packet.
struct Denial {
    lab::FilterId filter;
    std::uint32_t rule = lab::RuleIndex::none; ///< position, or none: the filter's default
    plan::Way way = plan::Way::in;
    lab::NicId nic; ///< where the filter stands, or none: on the machine
};

/// How a packet ended at a machine.
enum class Ending : std::uint8_t {
    delivered,
    machine_off,     ///< the sender is off
    no_route,        ///< no route; a router says net unreachable (RFC 792; RFC 4443 3.1)
    not_forwarding,  ///< came to a machine that is not the destination and does not forward
    no_neighbour,    ///< nobody answers for the next hop, or the tunnel to it does not work; host
                     ///< unreachable from here
    which_neighbour, ///< several NICs answer for the next hop, or share a MAC with either end
    shared_source,   ///< the next hop has the asking machine's address too, so it does not answer
    ttl_expired,     ///< time exceeded from here (RFC 792; RFC 4443 3.3)
    too_big,         ///< larger than the MTU of the way out (RFC 1191, RFC 8201)
    too_big_to_take, ///< larger than the MTU of the NIC it arrives at; dropped in silence
    own_source,      ///< arrived from outside bearing this machine's own address; dropped
    filtered,        ///< a filter dropped it
    not_relayed,     ///< a core passes nothing on from one peer to another; dropped
    to_broadcast,    ///< the destination is a broadcast address here; not sent, not forwarded
    older_flow,      ///< the flow was translated to the address of a NIC that it leaves by no more:
                     ///< the machine drops it once and forgets it
};

/// A packet in front of a machine.
struct Header {
    routing::Aim destination;
    routing::Aim source;
    net::Protocol protocol = net::Protocol::icmp;
    std::uint16_t source_port = 0;
    std::uint16_t destination_port = 0;
    int ttl = 64;
    unsigned size_bytes = 84; ///< of the packet, or of its largest fragment
    lab::NicId in;            ///< by which it came; none at its sender
    lab::NicId asked_by;      ///< see Packet
    net::Flow told;           ///< of an error: the packet it tells of, as the machine knows it
    net::Address
        as_broadcast;      ///< the broadcast address that it was sent to the segment of, if it was
    bool is_reply = false; ///< see Packet
    bool is_error = false; ///< an ICMP error
    bool begins_flow = true;                 ///< translations by rule may change it
    bool may_not_fit = false;                ///< `in` takes less than the NIC that it left by
    int tunnels = 0;                         ///< see Packet
    std::optional<std::uint32_t> share = {}; ///< of equal next hops; unset: by its two addresses

    net::Flow flow() const {
        return {source.address, destination.address, protocol, source_port, destination_port};
    }
};

/// The packet in front of its sender.
JACKAL_API Header header_of(const routing::Settled& settled, const Packet& packet);

/// What a machine remembers of the flow that a packet belongs to.
struct Memory {
    /// What it did with the packet that this one answers, or tells of.
    struct Passage {
        net::Flow came;
        net::Flow left;
    };
    std::optional<Passage> passage;
    const Record* kept = nullptr; ///< what it did with an earlier packet of the same flow
    bool lets_all_pass = false;   ///< its filters are not asked: for who asks them apart
};

/// What a machine does with a packet.
struct Decision {
    Action action = Action::drop;
    Ending ending = Ending::no_route;  ///< of deliver and drop
    lab::NicId out;                    ///< by which it leaves, or would have left
    lab::NicId neighbour;              ///< of send and forward: who gets it
    lab::MachineId machine;            ///< whose NIC that is
    std::uint32_t ways = 1;            ///< how many equal next hops there were
    std::uint32_t taken = 0;           ///< of those, from 0
    Denial denial;                     ///< of filtered
    net::Address next_hop;             ///< see Journey
    std::vector<lab::NicId> answering; ///< of which_neighbour
    Crossing crossing; ///< of the tunnel that it enters, or was to; else without one
};

/// True if a packet of that size is longer than the NIC takes: Ethernet devices take frames that
/// are longer than the MTU by a VLAN tag (IEEE 802.1Q).
constexpr bool is_too_big_to_take(const lab::Nic& nic, unsigned size_bytes) {
    constexpr unsigned vlan_tag_bytes = 4;
    return size_bytes > nic.mtu_bytes + vlan_tag_bytes;
}

/// What the machine does with what is in front of it. `header` is as the packet came, and becomes
/// as it leaves, is taken, or is dropped; its `in` is then that of the next machine.
JACKAL_API Decision decide(const routing::Settled& settled, lab::MachineId machine, Header& header,
                           const Memory& memory = {});

/// The same into a decision that was made before, for who makes many: what `action` and `ending` do
/// not speak of stays in it as it was.
JACKAL_API void decide(const routing::Settled& settled, lab::MachineId machine, Header& header,
                       const Memory& memory, Decision& into);

} // namespace jackal::packet
