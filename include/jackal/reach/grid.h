// How many pairs of machines get a reply, subnet by subnet, site by site or machine by machine, and
// why the others do not.
//
//     reach::Grid grid = reach::grid(settled, {.by = reach::By::site});
//     if (const reach::Cell& cell = grid.cell(from, to); cell.replies < cell.pairs) …
//
// Every machine asks every NIC of every other, as it would by itself: from the address that its
// route chooses, in IPv4 where both have it, else in IPv6. The verdicts are those of
// reach/matrix.h. Of pairs without a reply one for each kind is diagnosed.
#pragma once

#include "jackal/api.h"
#include "jackal/probe/diagnosis.h"
#include "jackal/reach/matrix.h"

namespace jackal::reach {

enum class By : std::uint8_t { subnet, site, machine };

/// "subnet", "site" or "machine".
JACKAL_API std::string_view to_string(By by);

enum class Kind : std::uint8_t {
    guests,
    infrastructure, ///< routers, and the cores of sites
    all,
};

/// What is asked.
struct GridQuestion {
    By by = By::subnet;
    Kind kind = Kind::guests;
    std::vector<std::string> from;       ///< names of subnets, sites and machines; none: the lab
    std::vector<std::string> to;         ///< the same; none: the lab, and what is outside
    std::optional<net::Family> family;   ///< unset: see above
    std::optional<net::Service> service; ///< unset: an echo request
    unsigned threads = 1;
};

/// Pairs of a machine that asks and a NIC that is to answer, which have an address family in
/// common.
struct Cell {
    std::uint64_t pairs = 0;
    std::uint64_t replies = 0;
};

/// Pairs without a reply for one cause at one place.
struct GridGap {
    std::uint64_t pairs = 0;
    std::string from; ///< the first pair
    std::string to;
    probe::Diagnosis first; ///< why that fails
};

struct JACKAL_API Grid {
    std::vector<std::string> rows;    ///< who asks
    std::vector<std::string> columns; ///< who is asked: the same, and what is outside
    std::vector<Cell> cells;          ///< row by row
    std::vector<GridGap> gaps;        ///< those of most pairs first
    std::uint64_t unexplained = 0;    ///< pairs without a reply that nobody looked into

    const Cell& cell(std::size_t row, std::size_t column) const {
        return cells[row * columns.size() + column];
    }
    Cell total() const;
};

/// The grid of the lab and condition of `settled`. Throws std::invalid_argument for a name that the
/// lab does not have, and std::length_error beyond limits::grid_cells, limits::grid_counts and what
/// matrix() has.
JACKAL_API Grid grid(const routing::Settled& settled, const GridQuestion& question,
                     const std::function<void(std::size_t, std::size_t)>& progress = {});

} // namespace jackal::reach
