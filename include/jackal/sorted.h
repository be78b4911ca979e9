// Sets as sorted vectors.
#pragma once

#include <algorithm>
#include <vector>

namespace jackal {

/// Sorts the values and drops repetitions.
template <class T>
void sort_unique(std::vector<T>& values) {
    std::ranges::sort(values);
    auto repeated = std::ranges::unique(values);
    values.erase(repeated.begin(), repeated.end());
}

/// The union of stretches, each of which has a first and a last value: ascending, and none
/// overlapping another.
template <class Stretch>
std::vector<Stretch> merged(std::vector<Stretch> stretches) {
    std::ranges::sort(stretches, {}, &Stretch::first);
    std::vector<Stretch> result;
    for (const Stretch& next : stretches)
        if (!result.empty() && !(result.back().last < next.first))
            result.back().last = std::max(result.back().last, next.last);
        else
            result.push_back(next);
    return result;
}

} // namespace jackal
