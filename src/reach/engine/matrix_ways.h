// What the verdicts of a matrix are read from.
#pragma once

#include "jackal/reach/matrix.h"
#include "reach/engine/rows.h"

namespace jackal::reach {

class MatrixWays {
  public:
    /// Throws std::length_error beyond limits::matrix_words.
    MatrixWays(const routing::Settled& settled, const std::vector<lab::AddressId>& ends,
               const Asking& asking);

    const Packets packets;
    const std::vector<EndClass> classes;
    const Columns columns;
    const Rows rows;
};

} // namespace jackal::reach
