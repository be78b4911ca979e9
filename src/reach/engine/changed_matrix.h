// What becomes of a matrix where little of the lab changes.
#pragma once

#include "reach/engine/matrix_ways.h"

#include <bit>

namespace jackal::reach {

/// What is looked up for every change. Refers to what it is made from; threads may share one.
class MatrixIndex {
  public:
    /// Of a matrix that keeps its ways.
    MatrixIndex(const routing::Settled& settled, const Matrix& whole,
                const std::vector<std::uint32_t>& more_prefixes);

    const MatrixWays* ways() const { return ways_; } ///< null if it has no ends
    const ColumnIndex& columns() const { return *columns_; }
    const std::uint64_t* answered(std::uint32_t to) const { return &answered_[to * words_]; }
    /// Senders of which only walks tell.
    const std::uint64_t* walked(std::uint32_t to) const { return &walked_[to * words_]; }

  private:
    const MatrixWays* ways_;
    std::unique_ptr<const ColumnIndex> columns_;
    std::size_t words_;
    const std::vector<std::uint64_t>& answered_;
    const std::vector<std::uint64_t>& walked_;
};

enum class CellChange : std::uint8_t {
    lost,
    gained,
    moved,  ///< answered before and after, by another way there or back
    walked, ///< only walks tell now
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
        std::unique_ptr<Column> column_;
        std::unique_ptr<Rows::Worker> rows_;
    };

    ChangedMatrix(const MatrixIndex& index, const routing::Settled& without, Worker& worker);

    /// False if all has to be worked out anew.
    bool is_known() const { return !columns_ || columns_->is_known(); }

    /// True of rows that may not be as they were: of others nothing is told.
    std::vector<bool> changed() const {
        return columns_ ? columns_->changed() : std::vector<bool>{};
    }
    /// Calls use(from, change) for the cells of a row that are not as they were, but for those that
    /// only walks told of before.
    template <class Use>
    void each(std::uint32_t to, Use use) {
        const std::uint64_t* answered = index_.answered(to);
        const Rows::ChangedRow* row =
            index_.ways()->rows.changed_row(to, *columns_, answered, *worker_.rows_);
        if (row == nullptr)
            return;
        const std::uint64_t* walked = index_.walked(to);
        for (std::size_t w : row->words) {
            std::uint64_t settled = row->looked_at[w] & ~walked[w];
            tell(w, settled & row->now.unsettled[w], CellChange::walked, use);
            settled &= ~row->now.unsettled[w];
            std::uint64_t now = row->now.answered[w];
            tell(w, settled & answered[w] & ~now, CellChange::lost, use);
            tell(w, settled & ~answered[w] & now, CellChange::gained, use);
            tell(w, settled & answered[w] & now & row->moved[w], CellChange::moved, use);
        }
    }
    /// What differs in the tables; null if the matrix has no ends.
    const routing::TableChanges* tables() const { return columns_ ? &columns_->tables() : nullptr; }

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
