#include "export/wire/packets.h"

#include <algorithm>
#include <array>
#include <tins/rawpdu.h>

namespace jackal::exports {

namespace {

using packet::IcmpError;

constexpr std::size_t ipv4_header = 20;
constexpr std::size_t ipv6_header = 40;

Bytes slice(const Bytes& whole, std::size_t header, const probe::Fragment& piece) {
    const std::size_t first = std::min(whole.size(), header + piece.first_byte);
    const std::size_t last = std::min(whole.size(), first + piece.bytes);
    return {whole.begin() + static_cast<std::ptrdiff_t>(first),
            whole.begin() + static_cast<std::ptrdiff_t>(last)};
}

} // namespace

Tins::IPv4Address to_ipv4(net::Address address) {
    return Tins::IPv4Address(__builtin_bswap32(static_cast<std::uint32_t>(address.low())));
}

Tins::IPv6Address to_ipv6(net::Address address) {
    std::array<std::uint8_t, 16> bytes{};
    for (std::size_t i = 0; i < 8; ++i) {
        bytes[i] = static_cast<std::uint8_t>(address.high() >> (56 - 8 * i));
        bytes[8 + i] = static_cast<std::uint8_t>(address.low() >> (56 - 8 * i));
    }
    return Tins::IPv6Address(bytes.data());
}

Tins::HWAddress<6> to_hardware(net::Mac mac) {
    std::array<std::uint8_t, 6> bytes{};
    for (std::size_t i = 0; i < bytes.size(); ++i)
        bytes[i] = static_cast<std::uint8_t>(mac.bits >> (40 - 8 * i));
    return Tins::HWAddress<6>(bytes.data());
}

Tins::ICMP icmp_error(IcmpError error, unsigned mtu_bytes) {
    Tins::ICMP icmp;
    icmp.type(error == IcmpError::time_exceeded ? Tins::ICMP::TIME_EXCEEDED
                                                : Tins::ICMP::DEST_UNREACHABLE);
    icmp.code(error == IcmpError::host_unreachable   ? 1
              : error == IcmpError::port_unreachable ? 3
              : error == IcmpError::packet_too_big   ? 4
                                                     : 0);
    if (error == IcmpError::packet_too_big)
        icmp.mtu(static_cast<std::uint16_t>(mtu_bytes));
    return icmp;
}

Tins::ICMPv6 icmpv6_error(IcmpError error, unsigned mtu_bytes) {
    Tins::ICMPv6 icmp;
    icmp.type(error == IcmpError::time_exceeded    ? Tins::ICMPv6::TIME_EXCEEDED
              : error == IcmpError::packet_too_big ? Tins::ICMPv6::PACKET_TOOBIG
                                                   : Tins::ICMPv6::DEST_UNREACHABLE);
    icmp.code(error == IcmpError::host_unreachable   ? 3
              : error == IcmpError::port_unreachable ? 4
                                                     : 0);
    if (error == IcmpError::packet_too_big) {
        // It stands where an echo has its two numbers (RFC 4443 section 3.2).
        icmp.identifier(static_cast<std::uint16_t>(mtu_bytes >> 16));
        icmp.sequence(static_cast<std::uint16_t>(mtu_bytes));
    }
    return icmp;
}

Tins::IP piece_of(const Tins::IP& like, const Bytes& whole, const probe::Fragment& piece) {
    constexpr std::size_t protocol_at = 9;
    const Bytes content = slice(whole, ipv4_header, piece);
    Tins::IP ip(like.dst_addr(), like.src_addr());
    ip.ttl(like.ttl());
    ip.id(like.id());
    ip.protocol(whole[protocol_at]);
    ip.fragment_offset(static_cast<std::uint16_t>(piece.first_byte / 8));
    if (!piece.is_last)
        ip.flags(Tins::IP::MORE_FRAGMENTS);
    return ip /= Tins::RawPDU(content.begin(), content.end());
}

Tins::IPv6 piece_of(const Tins::IPv6& like, const Bytes& whole, const probe::Fragment& piece,
                    std::uint32_t id) {
    constexpr std::size_t next_header_at = 6;
    constexpr std::uint8_t fragment_header = 44;
    const unsigned place = piece.first_byte | (piece.is_last ? 0U : 1U);
    Bytes content{whole[next_header_at],
                  0,
                  static_cast<std::uint8_t>(place >> 8),
                  static_cast<std::uint8_t>(place),
                  static_cast<std::uint8_t>(id >> 24),
                  static_cast<std::uint8_t>(id >> 16),
                  static_cast<std::uint8_t>(id >> 8),
                  static_cast<std::uint8_t>(id)};
    const Bytes rest = slice(whole, ipv6_header, piece);
    content.insert(content.end(), rest.begin(), rest.end());
    Tins::IPv6 ip(like.dst_addr(), like.src_addr());
    ip.hop_limit(like.hop_limit());
    ip.next_header(fragment_header);
    return ip /= Tins::RawPDU(content.begin(), content.end());
}

} // namespace jackal::exports
