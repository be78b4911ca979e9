// Whether a packet is what its sender sent (RFC 1071).
#pragma once

#include <cstdint>
#include <span>

namespace jackal::exports {

/// False if the IPv4 header's checksum is wrong, or, of a packet that is no piece of another, that
/// of what it bears: ICMP, ICMPv6, UDP or TCP right behind the header. `packet` begins with its IP
/// header; what is no IP packet is sound.
bool is_sound(std::span<const std::uint8_t> packet);
/// The same of what a whole packet bears alone.
bool is_sound_content(std::span<const std::uint8_t> packet);

} // namespace jackal::exports
