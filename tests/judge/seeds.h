// Which random labs a test asks for: those of the first seeds, or those of JACKAL_SEEDS, FIRST or
// FIRST:COUNT.
#pragma once

#include "../sanitized.h"

#include <cstdint>
#include <cstdlib>
#include <ranges>

namespace judge {

/// `few` where sanitizers make each slow.
inline auto seeds(std::uint64_t usual, std::uint64_t few) {
    std::uint64_t first = 1;
    std::uint64_t count = sanitized ? few : usual;
    if (const char* asked = std::getenv("JACKAL_SEEDS")) {
        char* end = nullptr;
        first = std::strtoull(asked, &end, 10);
        count = *end == ':' ? std::strtoull(end + 1, nullptr, 10) : 3000;
    }
    return std::views::iota(first, first + count);
}

} // namespace judge
