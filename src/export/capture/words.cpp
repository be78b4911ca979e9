#include "jackal/export/capture.h"

#include <array>
#include <fmt/format.h>

namespace jackal::exports {

using probe::Bears;
using probe::Frame;

namespace {

std::string with_port(net::Address address, std::uint16_t port) {
    const std::string text = net::to_string(address);
    return port == 0 ? text : fmt::format("{} port {}", text, port);
}

std::string tcp_text(probe::TcpPart part) {
    switch (part) {
    case probe::TcpPart::syn: return "TCP SYN";
    case probe::TcpPart::syn_ack: return "TCP SYN, ACK";
    case probe::TcpPart::ack:
    case probe::TcpPart::last_ack: return "TCP ACK";
    case probe::TcpPart::client_fin:
    case probe::TcpPart::server_fin: return "TCP FIN, ACK";
    case probe::TcpPart::reset: break;
    }
    return "TCP RST";
}

std::string datagram_text(const lab::Lab& lab, const Frame& frame) {
    if (frame.inside)
        return fmt::format("VXLAN {} with {}", frame.vni, frame_text(lab, *frame.inside));
    if (frame.lease) {
        constexpr std::array parts{"DISCOVER", "OFFER", "REQUEST", "ACK"};
        return fmt::format("DHCP {}", parts[static_cast<std::size_t>(frame.lease->part)]);
    }
    if (!frame.name)
        return "UDP";
    if (!frame.name->is_answer)
        return fmt::format("DNS question for {}", frame.name->name);
    return fmt::format("DNS answer, {} {}", frame.name->name,
                       frame.name->address ? "is " + net::to_string(*frame.name->address)
                                           : "is unknown");
}

} // namespace

std::string what_text(const lab::Lab& lab, const Frame& frame) {
    switch (frame.bears) {
    case Bears::echo_request: return fmt::format("echo request {}", frame.number);
    case Bears::echo_reply: return fmt::format("echo reply {}", frame.number);
    case Bears::error:
        return fmt::format("{}, of {} to {}", packet::to_string(frame.error),
                           net::to_string(frame.told->flow.source),
                           net::to_string(frame.told->flow.destination));
    case Bears::tcp: return tcp_text(frame.tcp);
    default: return datagram_text(lab, frame);
    }
}

std::string frame_text(const lab::Lab& lab, const Frame& frame) {
    const bool is_arp = frame.flow.source.family() == net::Family::ipv4;
    const std::string from = net::to_string(frame.flow.source);
    const std::string to = net::to_string(frame.flow.destination);
    const std::string tag = frame.vlan == 0 ? "" : fmt::format(", VLAN {}", frame.vlan);
    if (frame.bears == Bears::neighbour_ask)
        return fmt::format("{} looks for {} by {}{}", from, to, is_arp ? "ARP" : "ND", tag);
    if (frame.bears == Bears::neighbour_answer)
        return fmt::format("{} is at {}{}", from, net::to_string(frame.from), tag);
    std::string text = fmt::format("{} to {}  {}, TTL {}, {} bytes{}",
                                   with_port(frame.flow.source, frame.flow.source_port),
                                   with_port(frame.flow.destination, frame.flow.destination_port),
                                   what_text(lab, frame), frame.ttl, frame.size_bytes, tag);
    if (frame.fragment)
        text += fmt::format(", bytes {} to {} of {}", frame.fragment->first_byte,
                            frame.fragment->first_byte + frame.fragment->bytes,
                            frame.fragment->whole_bytes);
    return text;
}

} // namespace jackal::exports
