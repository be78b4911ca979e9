// What changed from one answer to another, where both are rows of cells.
//
//     auto changes = exports::changes(rows_of(whole), rows_of(cut), 2);
#pragma once

#include "jackal/api.h"

#include <string>
#include <vector>

namespace jackal::exports {

using Row = std::vector<std::string>;

/// Rows about one thing that stood there before, and that stand there now.
struct Change {
    std::vector<Row> was;
    std::vector<Row> is;
};

/// The rows of the one answer that the other does not have. Rows whose first `key` cells agree are
/// about the same thing, and stand in one change; changes come in the order of the first answer,
/// then of the second. O(n log n) in the number of rows.
JACKAL_API std::vector<Change> changes(const std::vector<Row>& before,
                                       const std::vector<Row>& after, std::size_t key);

} // namespace jackal::exports
