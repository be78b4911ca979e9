#include "jackal/export/changes.h"

#include <algorithm>
#include <iterator>
#include <map>

namespace jackal::exports {

namespace {

// Rows of the one list that the other lacks, sorted.
std::vector<Row> missing(std::vector<Row> from, std::vector<Row> others) {
    std::ranges::sort(from);
    std::ranges::sort(others);
    std::vector<Row> found;
    std::ranges::set_difference(from, others, std::back_inserter(found));
    return found;
}

} // namespace

std::vector<Change> changes(const std::vector<Row>& before, const std::vector<Row>& after,
                            std::size_t key) {
    std::vector<Change> found;
    std::map<Row, std::size_t> position; // by key, in `found`
    auto collect = [&](const std::vector<Row>& rows, const std::vector<Row>& changed,
                       std::vector<Row> Change::*side) {
        for (const Row& row : rows) {
            if (!std::ranges::binary_search(changed, row))
                continue;
            Row thing(row.begin(), row.begin() + static_cast<std::ptrdiff_t>(key));
            auto [known, is_new] = position.try_emplace(std::move(thing), found.size());
            if (is_new)
                found.emplace_back();
            (found[known->second].*side).push_back(row);
        }
    };
    collect(before, missing(before, after), &Change::was);
    collect(after, missing(after, before), &Change::is);
    return found;
}

} // namespace jackal::exports
