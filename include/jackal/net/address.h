// Internet addresses of both families in one type.
//
// An Address is 128 bits. An IPv4 address is held as its IPv4-mapped form ::ffff:a.b.c.d
// (RFC 4291 section 2.5.5.2), so that prefixes, tables and planners need only one code path.
// Text is always in the family's own notation: dotted quad, or RFC 5952 for IPv6.
//
//     auto a = net::parse_address("10.40.0.1");   // std::optional<Address>
//     a->family();                                // Family::ipv4
//     net::to_string(a->plus(1));                 // "10.40.0.2"
//
// All operations are constant time and allocate nothing, except to_string.
#pragma once

#include "jackal/api.h"
#include <compare>
#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <string_view>

namespace jackal::net {

enum class Family : std::uint8_t { ipv4 = 4, ipv6 = 6 };

constexpr Family both_families[] = {Family::ipv4, Family::ipv6};

class Address {
  public:
    /// The IPv6 unspecified address, `::`.
    constexpr Address() = default;
    constexpr Address(std::uint64_t high, std::uint64_t low) : high_(high), low_(low) {}

    /// The address with the 32 bits of an IPv4 address, most significant byte first in `bits`.
    static constexpr Address ipv4(std::uint32_t bits) { return {0, mapped_ | bits}; }

    constexpr Family family() const {
        return high_ == 0 && low_ >> 32 == 0xffff ? Family::ipv4 : Family::ipv6;
    }
    constexpr std::uint64_t high() const { return high_; }
    constexpr std::uint64_t low() const { return low_; }

    /// The address `n` above this one, modulo 2^128.
    constexpr Address plus(std::uint64_t n) const {
        std::uint64_t low = low_ + n;
        return {high_ + (low < n ? 1 : 0), low};
    }
    /// The address `n` below this one, modulo 2^128.
    constexpr Address minus(std::uint64_t n) const {
        return {high_ - (low_ < n ? 1 : 0), low_ - n};
    }

    friend constexpr auto operator<=>(const Address&, const Address&) = default;
    friend constexpr bool operator==(const Address&, const Address&) = default;

  private:
    static constexpr std::uint64_t mapped_ = std::uint64_t{0xffff} << 32;

    std::uint64_t high_ = 0;
    std::uint64_t low_ = 0;
};

/// Reads a dotted quad or an IPv6 address; nothing else is accepted, no zone, no port, no spaces.
JACKAL_API std::optional<Address> parse_address(std::string_view text);

/// The address in its family's notation (RFC 5952 section 4 for IPv6).
JACKAL_API std::string to_string(Address address);

/// "IPv4" or "IPv6".
JACKAL_API std::string_view to_string(Family family);

} // namespace jackal::net

/// @cond
template <>
struct std::hash<jackal::net::Address> {
    std::size_t operator()(const jackal::net::Address& a) const noexcept {
        std::uint64_t x = (a.high() ^ (a.low() * 0x9e3779b97f4a7c15)) + a.low();
        x ^= x >> 32;
        return static_cast<std::size_t>(x * 0xd6e8feb86659fd93);
    }
};
/// @endcond
