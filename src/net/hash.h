// A hash of texts that stays the same everywhere and for ever: plans depend on it.
#pragma once

#include <cstdint>
#include <string_view>

namespace jackal::net {

/// FNV-1a, 64 bits, going on from `seed`.
inline std::uint64_t hash(std::string_view text, std::uint64_t seed = 0xcbf29ce484222325) {
    for (unsigned char c : text)
        seed = (seed ^ c) * 0x100000001b3;
    return seed;
}

/// Spreads a difference in the last letter over all bits.
inline std::uint64_t spread(std::uint64_t h) {
    h = (h ^ h >> 30) * 0xbf58476d1ce4e5b9;
    return h ^ h >> 27;
}

} // namespace jackal::net
