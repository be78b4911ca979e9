#include "jackal/reach/grid.h"

#include "jackal/limits.h"
#include "reach/pairs.h"
#include "reach/speaker.h"

#include <algorithm>
#include <map>

namespace jackal::reach {

using lab::MachineId;

std::string_view to_string(By by) {
    switch (by) {
    case By::subnet: return "subnet";
    case By::site: return "site";
    case By::machine: break;
    }
    return "machine";
}

Cell Grid::total() const {
    Cell total;
    for (const Cell& cell : cells) {
        total.pairs += cell.pairs;
        total.replies += cell.replies;
    }
    return total;
}

namespace {

// Looks into pairs without a reply.
class Gaps {
  public:
    Gaps(const routing::Settled& settled, const GridQuestion& question)
        : settled_(settled), lab_(settled.lab()), question_(question), diagnoser_(settled) {}

    void add(const PairOfNics& pair) {
        if (looked_into_ >= limits::gap_walks) {
            unexplained_ += pair.pairs;
            return;
        }
        ++looked_into_;
        MachineId from = lab_.nics[pair.from].machine;
        probe::Exchange exchange = probe::exchange(settled_, {.from = end_at(lab_, from),
                                                              .to = end_at(lab_, pair.to),
                                                              .service = question_.service,
                                                              .family = question_.family,
                                                              .count = 1});
        if (!diagnoser_.knows(exchange) && gaps_.size() >= limits::explained_gaps) {
            unexplained_ += pair.pairs;
            return;
        }
        const probe::Diagnosis& d = diagnoser_.of(exchange);
        bool has_place = d.cause != plan::Cause::nothing_listens; // else as many as targets
        GridGap& gap = gaps_[{d.cause, has_place ? d.at.line : 0, has_place ? d.at.column : 0,
                              d.at ? MachineId{} : d.where}];
        if (gap.pairs == 0) {
            gap.first = d;
            gap.from = lab_.machines[from].name;
            gap.to = lab_.nic_name(pair.to);
        }
        gap.pairs += pair.pairs;
    }

    void move_into(Grid& grid) {
        for (auto& [key, gap] : gaps_)
            grid.gaps.push_back(std::move(gap));
        std::ranges::stable_sort(grid.gaps, std::greater(), &GridGap::pairs);
        grid.unexplained = unexplained_;
    }

  private:
    const routing::Settled& settled_;
    const lab::Lab& lab_;
    const GridQuestion& question_;
    probe::Diagnoser diagnoser_;
    std::size_t looked_into_ = 0;
    std::uint64_t unexplained_ = 0;
    // By cause and place in the plan, or who it is at if that is not written there.
    std::map<std::tuple<plan::Cause, std::uint32_t, std::uint32_t, MachineId>, GridGap> gaps_;
};

} // namespace

Grid grid(const routing::Settled& settled, const GridQuestion& question,
          const std::function<void(std::size_t, std::size_t)>& progress) {
    Pairs pairs(settled, question, {{.service = question.service}});
    pairs.refuse_many_cells();
    Gaps gaps(settled, question);
    Grid grid;
    grid.rows = pairs.rows();
    grid.columns = pairs.columns();
    for (std::size_t row = 0; row < grid.rows.size(); ++row) {
        for (std::size_t column = 0; column < grid.columns.size(); ++column) {
            Cell& cell = grid.cells.emplace_back();
            pairs.each(row, column, [&](const PairOfNics& pair) {
                cell.pairs += pair.pairs;
                if (pairs.gets_answer(pair, 0))
                    cell.replies += pair.pairs;
                else
                    gaps.add(pair);
            });
        }
        if (progress)
            progress(row + 1, grid.rows.size());
    }
    gaps.move_into(grid);
    return grid;
}

} // namespace jackal::reach
