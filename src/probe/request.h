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

/// The addresses that a question is asked from and to; no destination if the ends have no address
/// family in common, no source if the sender has none to send from.
struct Ends {
    std::optional<net::Address> source;
    std::optional<net::Address> destination;
};
Ends chosen_ends(const routing::Settled& settled, const PingQuestion& question);

} // namespace jackal::probe
