// What becomes of a matrix where little of the lab changes.
#pragma once

#include "reach/engine/matrix_ways.h"

#include <bit>

namespace jackal::reach {

/// What is looked up for every change. Refers to what it is made from; threads may share one.
class MatrixIndex {
  public:
    /// Of a matrix that keeps its ways.
    MatrixIndex(const routing::Settled& settled, const Matrix& whole);

    const MatrixWays* ways() const { return ways_; } ///< null if it has no ends
    const ColumnIndex& columns() const { return *columns_; }
    std::size_t words() const { return words_; }
    const std::uint64_t* answered(std::uint32_t to) const { return &answered_[to * words_]; }
    const std::uint64_t* unsettled(std::uint32_t to) const { return &unsettled_[to * words_]; }

  private:
    const MatrixWays* ways_;
    std::unique_ptr<const ColumnIndex> columns_;
    std::size_t words_;
    const std::vector<std::uint64_t>& answered_;
    const std::vector<std::uint64_t>& unsettled_;
};

enum class CellChange : std::uint8_t {
    lost,
    gained,
    moved,  ///< answered before and after, by another way there or back
    walked, ///< only walks tell
};

/// See above. Refers to what it is made from.
class ChangedMatrix {
  public:
    /// What one thread uses for one change after another.
    class Worker {
      public:
        explicit Worker(const MatrixIndex& index);

      private:
        friend class ChangedMatrix;
        void make_room();

        const MatrixIndex& index_;
        std::unique_ptr<Points> points_;
        std::unique_ptr<Rows::Worker> rows_;
    };

    ChangedMatrix(const MatrixIndex& index, const routing::Settled& without, Worker& worker);

    /// False if all has to be worked out anew.
    bool is_known() const { return !columns_ || columns_->is_known(); }

    /// Calls use(from, change) for the cells of a row that are not as they were, and for those that
    /// only walks tell of, before or after.
    template <class Use>
    void each(std::uint32_t to, Use use) {
        const Rows::ChangedRow* row =
            index_.ways()->rows.changed_row(to, *columns_, *worker_.rows_);
        const std::uint64_t* answered = index_.answered(to);
        const std::uint64_t* unsettled = index_.unsettled(to);
        for (std::size_t w = 0; w < index_.words(); ++w) {
            std::uint64_t walked = unsettled[w];
            if (row != nullptr)
                walked |= row->looked_at[w] & row->now.unsettled[w];
            tell(w, walked, CellChange::walked, use);
            std::uint64_t settled = row != nullptr ? row->looked_at[w] & ~walked : 0;
            if (settled == 0)
                continue;
            std::uint64_t now = row->now.answered[w];
            tell(w, settled & answered[w] & ~now, CellChange::lost, use);
            tell(w, settled & ~answered[w] & now, CellChange::gained, use);
            tell(w, settled & answered[w] & now & row->moved[w], CellChange::moved, use);
        }
    }

  private:
    template <class Use>
    static void tell(std::size_t word, std::uint64_t bits, CellChange change, Use use) {
        for (; bits != 0; bits &= bits - 1)
            use(static_cast<std::uint32_t>(word * 64
                                           + static_cast<std::size_t>(std::countr_zero(bits))),
                change);
    }

    const MatrixIndex& index_;
    Worker& worker_;
    std::unique_ptr<const ChangedColumns> columns_; // null if the matrix has no ends
};

} // namespace jackal::reach
