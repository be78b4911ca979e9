// Ethernet MAC addresses (IEEE 802, EUI-48).
#pragma once

#include "jackal/net/address.h"

#include <compare>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

namespace jackal::net {

struct Mac {
    std::uint64_t bits = 0; ///< 48 bits, the first byte on the wire most significant.

    bool is_multicast() const { return bits >> 40 & 1; }

    friend constexpr auto operator<=>(const Mac&, const Mac&) = default;
};

/// A locally administered unicast address (IEEE 802c, the second-lowest bit of the first byte
/// set, the lowest clear) that depends on the two names and on nothing else.
JACKAL_API Mac mac_from_names(std::string_view machine, std::string_view nic);

/// Reads six pairs of hexadecimal digits joined by ':' or by '-'.
JACKAL_API std::optional<Mac> parse_mac(std::string_view text);

/// The IPv6 address that a NIC of that MAC has on its own link: fe80::/64 and the modified EUI-64
/// (RFC 4291 sections 2.5.6 and appendix A), as the kernel makes it unless told otherwise.
JACKAL_API Address link_local_address(Mac mac);

/// `02:1f:9c:40:00:07`.
JACKAL_API std::string to_string(Mac mac);

} // namespace jackal::net
