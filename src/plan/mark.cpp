#include "jackal/plan/mark.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::plan {

std::string to_string(Mark at, std::string_view file) {
    return at ? fmt::format("{}:{}:{}", file, at.line, at.column) : std::string(file);
}

namespace {

// Optimal string alignment distance: insert, delete, replace, swap neighbours.
std::size_t distance(std::string_view a, std::string_view b) {
    std::vector<std::size_t> two_above(b.size() + 1);
    std::vector<std::size_t> above(b.size() + 1);
    std::vector<std::size_t> row(b.size() + 1);
    for (std::size_t j = 0; j <= b.size(); ++j)
        above[j] = j;
    for (std::size_t i = 1; i <= a.size(); ++i) {
        row[0] = i;
        for (std::size_t j = 1; j <= b.size(); ++j) {
            std::size_t replaced = above[j - 1] + (a[i - 1] == b[j - 1] ? 0 : 1);
            row[j] = std::min({above[j] + 1, row[j - 1] + 1, replaced});
            if (i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1])
                row[j] = std::min(row[j], two_above[j - 2] + 1);
        }
        two_above.swap(above);
        above.swap(row);
    }
    return above[b.size()];
}

} // namespace

std::string_view nearest_word(std::string_view word, const std::vector<std::string_view>& known) {
    constexpr std::size_t longest = 64;
    std::string_view best;
    std::size_t best_distance = std::max<std::size_t>(1, std::min(word.size(), longest) / 3) + 1;
    for (std::string_view candidate : known) {
        std::size_t gap =
            std::max(word.size(), candidate.size()) - std::min(word.size(), candidate.size());
        if (gap >= best_distance || word.size() > longest)
            continue;
        if (std::size_t d = distance(word, candidate); d < best_distance) {
            best = candidate;
            best_distance = d;
        }
    }
    return best;
}

std::string did_you_mean(std::string_view near) {
    return near.empty() ? "" : "; did you mean " + std::string(near) + "?";
}

} // namespace jackal::plan
