// A packet as it is sent, and what machines keep of a flow.
#pragma once

#include "jackal/api.h"
#include "jackal/lab/lab.h"

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
    /// How many tunnels it travels in, as the outer packet of the last.
    int tunnels = 0;

    net::Flow flow() const {
        return {source, destination, protocol, source_port, destination_port};
    }
};

} // namespace jackal::packet
