#include "jackal/net/address.h"

#include <arpa/inet.h>

#include <array>
#include <cstring>
#include <fmt/format.h>

namespace jackal::net {

namespace {

std::uint64_t big_endian(const unsigned char* bytes, int count) {
    std::uint64_t value = 0;
    for (int i = 0; i < count; ++i)
        value = value << 8 | bytes[i];
    return value;
}

// RFC 5952 section 4.2: the longest run of two or more zero groups becomes "::", the first of
// equally long ones.
std::string ipv6_text(const std::array<unsigned, 8>& groups) {
    int best = -1;
    int best_length = 1;
    for (int i = 0; i < 8; ++i) {
        int end = i;
        while (end < 8 && groups[static_cast<std::size_t>(end)] == 0)
            ++end;
        if (end - i > best_length) {
            best = i;
            best_length = end - i;
        }
    }
    std::string text;
    for (int i = 0; i < 8; ++i) {
        if (i == best) {
            text += "::";
            i += best_length - 1;
            continue;
        }
        if (!text.empty() && text.back() != ':')
            text += ':';
        fmt::format_to(std::back_inserter(text), "{:x}", groups[static_cast<std::size_t>(i)]);
    }
    return text;
}

} // namespace

std::optional<Address> parse_address(std::string_view text) {
    std::array<char, INET6_ADDRSTRLEN> copy{};
    if (text.empty() || text.size() >= copy.size() || text.find('\0') != text.npos)
        return std::nullopt;
    std::memcpy(copy.data(), text.data(), text.size());
    std::array<unsigned char, 16> bytes{};
    if (inet_pton(AF_INET, copy.data(), bytes.data()) == 1)
        return Address::ipv4(static_cast<std::uint32_t>(big_endian(bytes.data(), 4)));
    if (inet_pton(AF_INET6, copy.data(), bytes.data()) == 1)
        return Address(big_endian(bytes.data(), 8), big_endian(bytes.data() + 8, 8));
    return std::nullopt;
}

std::string to_string(Address a) {
    if (a.family() == Family::ipv4)
        return fmt::format("{}.{}.{}.{}", a.low() >> 24 & 255, a.low() >> 16 & 255,
                           a.low() >> 8 & 255, a.low() & 255);
    std::array<unsigned, 8> groups{};
    for (unsigned i = 0; i < 8; ++i)
        groups[i] = (i < 4 ? a.high() : a.low()) >> (48 - 16 * (i % 4)) & 0xffff;
    return ipv6_text(groups);
}

std::string_view to_string(Family family) {
    return family == Family::ipv4 ? "IPv4" : "IPv6";
}

} // namespace jackal::net
