// Dense tables and the typed ids that index them.
#pragma once

#include <cassert>
#include <compare>
#include <cstdint>
#include <ranges>
#include <vector>

namespace jackal::lab {

/// A row number in the table of `Row`s; ids of different tables do not mix. The default is no row.
template <class Row>
struct Id {
    static constexpr std::uint32_t no_row = ~std::uint32_t{0};

    std::uint32_t row = no_row;

    explicit operator bool() const { return row != no_row; }
    friend auto operator<=>(Id, Id) = default;
};

/// A vector of rows indexed by their id. Threads may share one that none of them changes.
template <class Row>
class Table {
  public:
    Id<Row> add(Row row) {
        rows_.push_back(std::move(row));
        return {static_cast<std::uint32_t>(rows_.size() - 1)};
    }
    Row& operator[](Id<Row> id) { return rows_[check(id)]; }
    const Row& operator[](Id<Row> id) const { return rows_[check(id)]; }

    /// Makes room for so many rows at once.
    void reserve(std::size_t rows) { rows_.reserve(rows); }

    /// Gives back what the table has reserved and does not need.
    void shrink() { rows_.shrink_to_fit(); }

    std::size_t size() const { return rows_.size(); }
    auto begin() const { return rows_.begin(); }
    auto end() const { return rows_.end(); }

    /// All ids, in order.
    auto ids() const {
        return std::views::iota(std::uint32_t{0}, static_cast<std::uint32_t>(rows_.size()))
               | std::views::transform([](std::uint32_t row) { return Id<Row>{row}; });
    }
    /// The ids of `count` rows from `first` on.
    static auto ids(Id<Row> first, std::uint32_t count) {
        return std::views::iota(first.row, first.row + count)
               | std::views::transform([](std::uint32_t row) { return Id<Row>{row}; });
    }

  private:
    std::size_t check(Id<Row> id) const {
        assert(id.row < rows_.size());
        return id.row;
    }

    std::vector<Row> rows_;
};

} // namespace jackal::lab
