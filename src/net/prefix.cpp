#include "jackal/net/prefix.h"

#include "hash.h"

#include <algorithm>
#include <charconv>
#include <fmt/format.h>

namespace jackal::net {

namespace {

struct Mask {
    std::uint64_t high;
    std::uint64_t low;
};

constexpr std::uint64_t ones(int bits) {
    return bits <= 0 ? 0 : bits >= 64 ? ~std::uint64_t{0} : ~std::uint64_t{0} << (64 - bits);
}

constexpr Mask mask_of(int bits) {
    return {ones(bits), ones(bits - 64)};
}

} // namespace

Prefix::Prefix(Address address, int length) : family_(address.family()) {
    int bits = std::clamp(length, 0, address_bits(family_)) + offset();
    bits_ = static_cast<std::uint8_t>(bits);
    Mask mask = mask_of(bits);
    base_ = Address(address.high() & mask.high, address.low() & mask.low);
}

Prefix Prefix::everything(Family family) {
    return family == Family::ipv4 ? Prefix(Address::ipv4(0), 0) : Prefix();
}

Address Prefix::last() const {
    Mask mask = mask_of(bits_);
    return {base_.high() | ~mask.high, base_.low() | ~mask.low};
}

std::uint64_t Prefix::size() const {
    return std::uint64_t{1} << std::min(host_bits(), 63);
}

bool Prefix::contains(Address address) const {
    Mask mask = mask_of(bits_);
    return address.family() == family_ && (address.high() & mask.high) == base_.high()
           && (address.low() & mask.low) == base_.low();
}

bool Prefix::contains(const Prefix& other) const {
    return other.family_ == family_ && other.bits_ >= bits_ && contains(other.base_);
}

Address Prefix::first_usable() const {
    return host_bits() <= 1 ? base_ : base_.plus(1);
}

Address Prefix::last_usable() const {
    return family_ == Family::ipv4 && host_bits() > 1 ? last().minus(1) : last();
}

std::uint64_t Prefix::usable() const {
    if (host_bits() <= 1)
        return size();
    return family_ == Family::ipv4 ? size() - 2 : size() - 1;
}

bool Prefix::is_network_address(Address address) const {
    return host_bits() > 1 && address == base_;
}

bool Prefix::is_broadcast_address(Address address) const {
    return family_ == Family::ipv4 && host_bits() > 1 && address == last();
}

Prefix Prefix::lower_half() const {
    return {base_, length() + 1};
}

Prefix Prefix::upper_half() const {
    Prefix half = lower_half();
    half.base_ = half.last().plus(1);
    return half;
}

std::optional<AddressWithLength> parse_address_with_length(std::string_view text) {
    std::size_t slash = text.rfind('/');
    if (slash == text.npos)
        return std::nullopt;
    auto address = parse_address(text.substr(0, slash));
    std::string_view digits = text.substr(slash + 1);
    int length = -1;
    auto [end, error] = std::from_chars(digits.data(), digits.data() + digits.size(), length);
    if (!address || error != std::errc{} || end != digits.data() + digits.size() || length < 0
        || length > address_bits(address->family()))
        return std::nullopt;
    return AddressWithLength{*address, length};
}

Prefix unique_local_prefix(std::string_view words) {
    std::uint64_t h = spread(hash(words));
    constexpr int length = 48;
    return {Address(std::uint64_t{0xfd} << 56 | (h & 0xff'ffff'ffff) << 16, 0), length};
}

std::optional<Prefix> parse_prefix(std::string_view text) {
    auto parsed = parse_address_with_length(text);
    if (!parsed)
        return std::nullopt;
    return parsed->prefix();
}

std::vector<Prefix> outermost(std::vector<Prefix> prefixes) {
    std::ranges::sort(prefixes);
    std::vector<Prefix> found;
    for (const Prefix& prefix : prefixes)
        if (found.empty() || !found.back().contains(prefix))
            found.push_back(prefix);
    return found;
}

std::string to_string(const Prefix& prefix) {
    return fmt::format("{}/{}", to_string(prefix.first()), prefix.length());
}

Address moved(Address address, const Prefix& from, const Prefix& to) {
    std::uint64_t borrow = address.low() < from.first().low() ? 1 : 0;
    Address low = to.first().plus(address.low() - from.first().low());
    return {low.high() + (address.high() - from.first().high() - borrow), low.low()};
}

} // namespace jackal::net
