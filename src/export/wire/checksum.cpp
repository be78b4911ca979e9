#include "export/wire/checksum.h"

#include "export/wire/pieces.h"

namespace jackal::exports {

namespace {

constexpr std::uint8_t of_icmp = 1;
constexpr std::uint8_t of_tcp = 6;
constexpr std::uint8_t of_udp = 17;
constexpr std::uint8_t of_icmpv6 = 58;

std::uint64_t word_sum(std::span<const std::uint8_t> bytes) {
    std::uint64_t sum = 0;
    for (std::size_t i = 0; i < bytes.size(); ++i)
        sum += std::uint64_t{bytes[i]} << (i % 2 == 0 ? 8 : 0);
    return sum;
}

// A right sum, with the checksum in it, is all ones.
bool is_right(std::uint64_t sum) {
    while (sum > 0xffff)
        sum = (sum >> 16) + (sum & 0xffff);
    return sum == 0xffff;
}

// `addresses` are both of the packet, one behind the other.
bool is_sound(std::uint8_t protocol, std::span<const std::uint8_t> content,
              std::span<const std::uint8_t> addresses) {
    constexpr std::size_t udp_checksum = 6;
    const bool is_ipv4 = addresses.size() == 8;
    if (protocol == of_icmp && is_ipv4)
        return is_right(word_sum(content));
    if (protocol != of_tcp && protocol != of_udp && (protocol != of_icmpv6 || is_ipv4))
        return true;
    if (protocol == of_udp && content.size() >= 8 && is_ipv4 && content[udp_checksum] == 0
        && content[udp_checksum + 1] == 0)
        return true; // it has none (RFC 768)
    return is_right(word_sum(addresses) + protocol + content.size() + word_sum(content));
}

} // namespace

bool is_sound_content(std::span<const std::uint8_t> packet) {
    constexpr std::size_t header_v6 = 40;
    if (packet.size() > 20 && packet[0] >> 4 == 4) {
        const std::size_t header = std::size_t{packet[0] & 0xfU} * 4;
        const std::size_t told = std::size_t{packet[2]} << 8 | packet[3];
        return header >= 20 && told >= header && told <= packet.size()
               && is_sound(packet[9], packet.subspan(header, told - header), packet.subspan(12, 8));
    }
    if (packet.size() > header_v6 && packet[0] >> 4 == 6) {
        const std::size_t told = (std::size_t{packet[4]} << 8 | packet[5]) + header_v6;
        return told <= packet.size()
               && is_sound(packet[6], packet.subspan(header_v6, told - header_v6),
                           packet.subspan(8, 32));
    }
    return true;
}

bool is_sound(std::span<const std::uint8_t> packet) {
    if (packet.size() > 20 && packet[0] >> 4 == 4) {
        const std::size_t header = std::size_t{packet[0] & 0xfU} * 4;
        if (header < 20 || header > packet.size() || !is_right(word_sum(packet.first(header))))
            return false;
    }
    return Pieces::is_piece(packet) || is_sound_content(packet);
}

} // namespace jackal::exports
