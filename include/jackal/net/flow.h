// What packets belong together: protocol, addresses and ports.
#pragma once

#include "jackal/api.h"
#include "jackal/net/address.h"

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

namespace jackal::net {

enum class Protocol : std::uint8_t { any, icmp, tcp, udp, ospf };

/// "any", "icmp" (of both address families), "tcp", "udp" or "ospf".
JACKAL_API std::string_view to_string(Protocol protocol);

/// True for the protocols whose packets bear ports.
constexpr bool has_ports(Protocol protocol) {
    return protocol == Protocol::tcp || protocol == Protocol::udp;
}

/// A range of ports, both ends included.
struct Ports {
    std::uint16_t first = 0;
    std::uint16_t last = 65535;

    friend bool operator==(const Ports&, const Ports&) = default;
};

/// `22`, `8000-8099`.
JACKAL_API std::string to_string(Ports ports);
/// From 1 to 65535, the first not after the last; nothing for any other text.
JACKAL_API std::optional<Ports> parse_ports(std::string_view text);

/// A port that something may listen on.
struct Service {
    Protocol protocol = Protocol::tcp; ///< tcp or udp
    std::uint16_t port = 0;

    friend auto operator<=>(const Service&, const Service&) = default;
};

/// `tcp/22`.
JACKAL_API std::string to_string(Service service);
JACKAL_API std::optional<Service> parse_service(std::string_view text);

/// A packet's ends. Without ports (icmp) both are 0.
struct Flow {
    Address source;
    Address destination;
    Protocol protocol = Protocol::icmp;
    std::uint16_t source_port = 0;
    std::uint16_t destination_port = 0;

    /// The flow of what is answered to it.
    Flow reversed() const { return {destination, source, protocol, destination_port, source_port}; }
    friend auto operator<=>(const Flow&, const Flow&) = default;
};

} // namespace jackal::net
