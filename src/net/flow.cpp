#include "jackal/net/flow.h"

#include <charconv>
#include <fmt/format.h>

namespace jackal::net {

namespace {

std::optional<std::uint16_t> parse_port(std::string_view text) {
    std::uint16_t port = 0;
    auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), port);
    if (error != std::errc{} || end != text.data() + text.size() || port == 0)
        return std::nullopt;
    return port;
}

} // namespace

std::string_view to_string(Protocol protocol) {
    switch (protocol) {
    case Protocol::icmp: return "icmp";
    case Protocol::tcp: return "tcp";
    case Protocol::udp: return "udp";
    case Protocol::ospf: return "ospf";
    case Protocol::any: break;
    }
    return "any";
}

std::string to_string(Ports ports) {
    return ports.first == ports.last ? fmt::format("{}", ports.first)
                                     : fmt::format("{}-{}", ports.first, ports.last);
}

std::optional<Ports> parse_ports(std::string_view text) {
    std::size_t dash = text.find('-');
    auto first = parse_port(text.substr(0, dash));
    auto last = dash == text.npos ? first : parse_port(text.substr(dash + 1));
    if (!first || !last || *first > *last)
        return std::nullopt;
    return Ports{*first, *last};
}

std::string to_string(Service service) {
    return fmt::format("{}/{}", to_string(service.protocol), service.port);
}

std::optional<Service> parse_service(std::string_view text) {
    for (Protocol protocol : {Protocol::tcp, Protocol::udp}) {
        std::string_view name = to_string(protocol);
        if (!text.starts_with(name) || !text.substr(name.size()).starts_with('/'))
            continue;
        if (auto port = parse_port(text.substr(name.size() + 1)))
            return Service{protocol, *port};
    }
    return std::nullopt;
}

} // namespace jackal::net
