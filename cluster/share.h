// How many cuts a rank is given at a time.
#pragma once

#include <algorithm>
#include <cstdint>

namespace jackal::cluster {

/// Of so many that are left: the fewer there are, the smaller, so that all ranks end together.
constexpr std::uint64_t share(std::uint64_t left, std::uint64_t ranks) {
    constexpr std::uint64_t most = 64; // so that little is lost with a rank
    return std::clamp<std::uint64_t>(left / (8 * ranks), 1, most);
}

} // namespace jackal::cluster
