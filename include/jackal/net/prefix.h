// Address prefixes of both families, and the arithmetic on them.
//
// A Prefix is a base address and a length, the bits beyond the length all zero (RFC 4632 for
// IPv4, RFC 4291 section 2.3 for IPv6). A prefix never covers addresses of the other family:
// `::/0` does not hold the IPv4-mapped block in which IPv4 addresses are kept.
#pragma once

#include "jackal/api.h"
#include "jackal/net/address.h"

namespace jackal::net {

class JACKAL_API Prefix {
  public:
    /// `::/0`.
    constexpr Prefix() = default;

    /// The prefix of `length` bits that holds `address`; `length` counts in the address's own
    /// family (0 to 32, or 0 to 128) and is cut to that maximum.
    Prefix(Address address, int length);

    /// `0.0.0.0/0` or `::/0`.
    static Prefix everything(Family family);

    Family family() const { return family_; }
    Address first() const { return base_; }
    Address last() const;
    /// Bits, in the family's own count: 24 for `10.0.0.0/24`.
    int length() const { return bits_ - offset(); }
    /// Bits counted in the 128-bit form: 120 for `10.0.0.0/24`.
    int bits128() const { return bits_; }
    /// Bits that are left to number the hosts: 8 for `10.0.0.0/24`.
    int host_bits() const { return 128 - bits_; }
    /// How many addresses it holds, at most 2^63.
    std::uint64_t size() const;

    bool contains(Address address) const;
    bool contains(const Prefix& other) const;
    bool overlaps(const Prefix& other) const { return contains(other) || other.contains(*this); }

    /// Addresses that a host may have: all but the network and broadcast address (RFC 1122
    /// section 3.2.1.3), all of a /31 (RFC 3021) and /32; in IPv6 all but the subnet-router
    /// anycast address (RFC 4291 section 2.6.1), all of a /127 (RFC 6164) and /128.
    Address first_usable() const;
    Address last_usable() const;
    /// How many addresses lie from first_usable() to last_usable(), at most 2^63.
    std::uint64_t usable() const;
    /// True for the all-zero host number, where it is not usable.
    bool is_network_address(Address address) const;
    /// True for the all-ones host number of IPv4, where it is not usable.
    bool is_broadcast_address(Address address) const;

    /// The half below and the half above. Must not be asked of a single address.
    Prefix lower_half() const;
    Prefix upper_half() const;

    friend constexpr auto operator<=>(const Prefix&, const Prefix&) = default;
    friend constexpr bool operator==(const Prefix&, const Prefix&) = default;

  private:
    int offset() const { return family_ == Family::ipv4 ? 96 : 0; }

    Address base_;
    std::uint8_t bits_ = 0;
    Family family_ = Family::ipv6;
};

/// A prefix of 48 bits for private use (RFC 4193), the same for the same words: a global id that a
/// lab keeps without drawing lots.
JACKAL_API Prefix unique_local_prefix(std::string_view words);

/// Number of bits in an address of the family: 32 or 128.
constexpr int address_bits(Family family) {
    return family == Family::ipv4 ? 32 : 128;
}

/// Reads `ADDRESS/LENGTH`. Bits beyond the length are cleared; compare first() with the address
/// in the text to see whether there were any.
JACKAL_API std::optional<Prefix> parse_prefix(std::string_view text);

/// An address together with the length of the prefix that it is configured on.
struct AddressWithLength {
    Address address;
    int length = 0;

    Prefix prefix() const { return {address, length}; }
};

/// Reads `ADDRESS/LENGTH` and keeps all bits of the address.
JACKAL_API std::optional<AddressWithLength> parse_address_with_length(std::string_view text);

/// The prefixes in order, without those that are part of another. O(n log n).
JACKAL_API std::vector<Prefix> outermost(std::vector<Prefix> prefixes);

/// `10.40.8.0/26`.
JACKAL_API std::string to_string(const Prefix& prefix);

/// The address at the same place in `to` that `address` has in `from`.
JACKAL_API Address moved(Address address, const Prefix& from, const Prefix& to);

} // namespace jackal::net
