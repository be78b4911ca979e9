// The bounds of values, as the reader keeps them and a plan that a program fills in must.
#pragma once

#include <chrono>
#include <cstdint>

namespace jackal::plan {

constexpr std::uint16_t least_mtu_bytes = 68; // RFC 791: every host takes as many
constexpr std::uint16_t most_vlan = 4094;     // IEEE 802.1Q: 0 and 4095 are reserved
constexpr std::uint64_t most_hosts = 16'000'000;
constexpr std::chrono::microseconds longest_delay = std::chrono::hours(1);

} // namespace jackal::plan
