#include "jackal/net/mac.h"

#include "hash.h"

#include <charconv>
#include <fmt/format.h>

namespace jackal::net {

Mac mac_from_names(std::string_view machine, std::string_view nic) {
    std::uint64_t h = spread(hash(nic, hash("/", hash(machine))));
    return Mac{((h & 0xffff'ffff'ffff) & ~(std::uint64_t{3} << 40)) | std::uint64_t{2} << 40};
}

std::optional<Mac> parse_mac(std::string_view text) {
    if (text.size() != 17)
        return std::nullopt;
    Mac mac;
    for (std::size_t i = 0; i < 17; i += 3) {
        unsigned byte = 0;
        auto [end, error] = std::from_chars(text.data() + i, text.data() + i + 2, byte, 16);
        bool joined =
            i == 15 || ((text[i + 2] == ':' || text[i + 2] == '-') && text[i + 2] == text[2]);
        if (error != std::errc{} || end != text.data() + i + 2 || !joined)
            return std::nullopt;
        mac.bits = mac.bits << 8 | byte;
    }
    return mac;
}

Address link_local_address(Mac mac) {
    constexpr std::uint64_t link_local = std::uint64_t{0xfe80} << 48;
    constexpr std::uint64_t universal = std::uint64_t{2} << 56;
    return {link_local,
            ((mac.bits >> 24 << 40) | (std::uint64_t{0xfffe} << 24) | (mac.bits & 0xffffff))
                ^ universal};
}

std::string to_string(Mac mac) {
    return fmt::format("{:02x}:{:02x}:{:02x}:{:02x}:{:02x}:{:02x}", mac.bits >> 40 & 255,
                       mac.bits >> 32 & 255, mac.bits >> 24 & 255, mac.bits >> 16 & 255,
                       mac.bits >> 8 & 255, mac.bits & 255);
}

} // namespace jackal::net
