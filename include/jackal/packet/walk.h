// The life of one packet: machine after machine, until it is delivered or lost.
//
//     packet::Journey journey = packet::walk(settled, sender, {.source = a, .destination = b});
//     if (journey.ending == packet::Ending::delivered) …
//
// Each machine behaves as a Linux host with default settings. The walk costs one longest-prefix
// match, and then a table access for each machine; it visits at most 255 of them. It draws no
// random numbers: delay, jitter and loss of the links that were crossed are for the caller to add
// up. Filters and translations remember no flows of other walks: an answer is walked together with
// the journey that it answers, and passes where that passed.
#pragma once

#include "jackal/api.h"
#include "jackal/routing/settled.h"

#include <memory>
#include <span>

namespace jackal::packet {

/// What a machine keeps of a flow that it has passed on: whatever belongs to that flow is treated
/// as its first packet was, and no rule is asked again.
struct Record {
    lab::MachineId machine;
    net::Flow came; ///< as it came to the machine
    net::Flow left; ///< as it left, or was taken
    lab::NicId out; ///< which it left by first; none where it was taken
    bool answered = false;
};

/// What of a packet decides its way.
struct Packet {
    net::Address source;
    net::Address destination;
    int ttl = 64;             ///< IPv4 TTL, IPv6 hop limit
    unsigned size_bytes = 84; ///< of the whole IP packet, header included
    /// An answer of a kernel, an echo reply or an error. Unlike an echo request it is sent even to
    /// the broadcast address of a segment, where the machine that has that address takes it, and
    /// may be fragmented: in IPv4 anywhere (RFC 791), in IPv6 by its sender (RFC 8200).
    bool is_reply = false;
    /// Of an echo reply: the NIC that the request came in by. IPv6 on Linux prefers it where
    /// several NICs are on the destination's prefix.
    lab::NicId asked_by;
    net::Protocol protocol = net::Protocol::icmp;
    std::uint16_t source_port = 0;
    std::uint16_t destination_port = 0;
    /// Which of equal next hops it takes, machine after machine; once they are used up, or where
    /// there are none, the one that falls to its two addresses.
    std::span<const std::uint32_t> shares = {};
    /// What machines keep of earlier packets of its flow.
    std::span<const Record> records = {};

    net::Flow flow() const {
        return {source, destination, protocol, source_port, destination_port};
    }
};

enum class Action : std::uint8_t {
    send,    ///< the sender puts it on a segment
    forward, ///< a machine passes it on
    deliver, ///< a machine takes it as its own
    drop,    ///< it ends here
};

/// "send", "forward", "deliver" or "drop".
JACKAL_API std::string_view to_string(Action action);

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

/// What dropped a packet.
struct Denial {
    lab::FilterId filter;
    std::uint32_t rule = lab::RuleIndex::none; ///< position, or none: the filter's default
    plan::Way way = plan::Way::in;
    lab::NicId nic; ///< where the filter stands, or none: on the machine
};

/// How a journey ended, always at the machine of its last step.
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

struct Journey;

/// How a packet got from one end of a tunnel to the other, or why not: the journey of the packet
/// around it. Of a tunnel that does not work it may be the one the other way, as the two ends must
/// find each other (ARP, RFC 826; ND, RFC 4861) before anything is sent.
struct Crossing {
    std::uint32_t step = 0; ///< which put it in
    lab::LinkId tunnel;
    bool works = false;
    bool is_way_back = false;
    std::shared_ptr<const Journey> outer; ///< null if the ends have no addresses of one family
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

/// What becomes of the ICMP error that the last machine of `failed` sends from `source`. It is let
/// through, and turned back by translations, as the packet it tells of was (RFC 5508 section 4).
JACKAL_API Journey walk_error(const routing::Settled& settled, const Journey& failed,
                              net::Address source);

/// Whether a packet of `size_bytes` that enters the tunnel at `from` comes out at the other end:
/// its outer packet (UDP to port 4789, RFC 7348) arrives, and so would one that comes back.
JACKAL_API Crossing cross(const routing::Settled& settled, lab::NicId from, unsigned size_bytes);

/// The address that `sender` would send from to reach `destination`, if it has a route; of several
/// equal next hops by that of number `share`.
JACKAL_API std::optional<net::Address> source_address(const routing::Settled& settled,
                                                      lab::MachineId sender,
                                                      net::Address destination,
                                                      std::uint32_t share = 0);

/// The error message that the journey's last machine sends back to the packet's source.
enum class IcmpError : std::uint8_t {
    none,
    net_unreachable,  ///< RFC 792 type 3 code 0; RFC 4443 type 1 code 0
    host_unreachable, ///< RFC 792 type 3 code 1; RFC 4443 type 1 code 3
    time_exceeded,    ///< RFC 792 type 11 code 0; RFC 4443 type 3 code 0
    packet_too_big,   ///< RFC 1191 type 3 code 4; RFC 4443 type 2
    port_unreachable, ///< RFC 792 type 3 code 3; RFC 4443 type 1 code 4
};

/// "net unreachable", "host unreachable", …; empty for none.
JACKAL_API std::string_view to_string(IcmpError error);

/// The address that the journey's last machine sends its error from: in IPv4 as for any packet back
/// to the source, in IPv6 one of the NIC that the packet came in by, as Linux chooses it. Nothing
/// if it has none, or sends none.
JACKAL_API std::optional<net::Address> error_source(const routing::Settled& settled,
                                                    const Journey& journey);

/// Which error `ending` gives; it is told to the sender's own program if the machine is the sender.
JACKAL_API IcmpError icmp_error(Ending ending);

} // namespace jackal::packet
