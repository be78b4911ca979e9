// Rows with a prefix, looked at with those that hold them.
#pragma once

#include "jackal/net/prefix.h"

#include <algorithm>
#include <vector>

namespace jackal::lab {

/// Sorts rows by their prefixes, and calls use(row, around) for each with those rows before it
/// that reach as far, outermost first. Those hold it, but for `::/0` around IPv4.
template <class Row, class Use>
void each_with_those_around(std::vector<Row>& rows, Use use) {
    std::ranges::stable_sort(rows, {}, &Row::prefix);
    std::vector<const Row*> around;
    for (const Row& row : rows) {
        while (!around.empty() && around.back()->prefix.last() < row.prefix.first())
            around.pop_back();
        use(row, around);
        around.push_back(&row);
    }
}

} // namespace jackal::lab
