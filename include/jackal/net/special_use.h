// Addresses that mean something everywhere, and so nothing of their own in a lab.
#pragma once

#include "jackal/api.h"
#include "jackal/net/prefix.h"

#include <span>

namespace jackal::net {

/// One entry of the special-purpose address registries (RFC 6890, RFC 8190) or of the multicast
/// blocks. Ranges for private use (RFC 1918, RFC 4193) are not listed: labs are made of them.
struct SpecialUse {
    Prefix prefix;
    std::string_view meaning; ///< "loopback"
    std::string_view source;  ///< "RFC 1122"
    bool works = false;       ///< hosts treat its addresses like any other unicast address
};

JACKAL_API std::span<const SpecialUse> special_uses();

/// True for addresses of private use, which nobody routes between networks (RFC 1918, RFC 6598, RFC
/// 4193, RFC 3927).
JACKAL_API bool is_private(Address address);

/// True for IPv6 addresses that are of one link only (fe80::/10, RFC 4291 section 2.5.6).
constexpr bool is_link_local(Address address) {
    return address.family() == Family::ipv6 && address.high() >> 54 == 0xfe80U >> 6;
}

/// The first entry that shares an address with `prefix`, or null.
JACKAL_API const SpecialUse* special_use(const Prefix& prefix);

} // namespace jackal::net
