// The packets that questions are asked with.
#pragma once

#include "jackal/probe/exchange.h"

namespace jackal::probe {

/// The port that requests are sent from: the first dynamic one (RFC 6335 section 6).
constexpr std::uint16_t asking_port = 49152;

/// The size of the whole IP packet; that of TCP is a SYN with its options.
constexpr unsigned packet_bytes(net::Family family, net::Protocol protocol,
                                unsigned payload_bytes) {
    unsigned ip_header = family == net::Family::ipv4 ? 20 : 40;
    unsigned icmp_header = 8; // also of udp
    unsigned syn = 40;
    return ip_header + (protocol == net::Protocol::tcp ? syn : icmp_header + payload_bytes);
}

/// What the last machine of a request sends back: it starts with the usual TTL, and goes out by the
/// NIC that a ping came in by where that is preferred.
inline packet::Packet answer_to(const packet::Journey& request, unsigned size_bytes) {
    const net::Flow flow = request.flow.reversed();
    const bool is_ping = flow.protocol == net::Protocol::icmp;
    return {.source = flow.source,
            .destination = flow.destination,
            .size_bytes = size_bytes,
            .is_reply = is_ping,
            .asked_by = is_ping ? request.steps.back().in : lab::NicId{},
            .protocol = flow.protocol,
            .source_port = flow.source_port,
            .destination_port = flow.destination_port};
}

/// The addresses that a question is asked from and to; no destination if the ends have no address
/// family in common, no source if the sender has none to send from.
struct Ends {
    std::optional<net::Address> source;
    std::optional<net::Address> destination;
};
Ends chosen_ends(const routing::Settled& settled, const PingQuestion& question);

} // namespace jackal::probe
