#include "jackal/reach/matrix.h"

#include "jackal/limits.h"
#include "jackal/probe/exchange.h"
#include "reach/engine/matrix_ways.h"
#include "reach/parallel.h"

#include <algorithm>
#include <bit>
#include <fmt/format.h>
#include <stdexcept>

namespace jackal::reach {

using lab::AddressId;

std::vector<AddressId> ends(const lab::Lab& lab, net::Family family) {
    std::vector<AddressId> found;
    for (AddressId id : lab.addresses.ids())
        if (lab.addresses[id].address.family() == family)
            found.push_back(id);
    return found;
}

std::uint64_t Matrix::replies() const {
    std::uint64_t count = 0;
    for (std::size_t w = 0; w < cells_.size(); ++w) {
        std::size_t to = w / words_;
        for (std::uint64_t left = cells_[w]; left != 0; left &= left - 1) {
            std::size_t from = w % words_ * 64 + static_cast<std::size_t>(std::countr_zero(left));
            count += std::uint64_t{sizes_[from]} * (from == to ? sizes_[to] - 1 : sizes_[to]);
        }
    }
    for (const auto& [cell, pairs] : each_)
        count += static_cast<std::uint64_t>(std::ranges::count(pairs, true));
    return count;
}

// --- ways --------------------------------------------------------------------------------------

namespace {

std::vector<EndClass> few(std::vector<EndClass> classes) {
    if (classes.size() * ((classes.size() + 63) / 64) > limits::matrix_words)
        throw std::length_error(fmt::format(
            "{} machines that differ to packets are too many for a matrix", classes.size()));
    return classes;
}

} // namespace

MatrixWays::MatrixWays(const routing::Settled& settled, const std::vector<AddressId>& ends,
                       const Asking& asking)
    : packets(settled.lab().addresses[ends.front()].address.family(), asking),
      classes(few(reach::classes(settled, ends, packets))),
      columns(settled, classes, packets, std::max(1U, asking.threads)),
      rows(settled.lab(), classes, packets, columns) {}

std::uint64_t Matrix::way(std::size_t from, std::size_t to) const {
    return ways_->columns.between(class_of_[from], class_of_[to]).way();
}

// Works out the classes, the columns, the rows, and what is left.
class MatrixMaker {
  public:
    MatrixMaker(const routing::Settled& settled, std::vector<AddressId> ends, const Asking& asking)
        : settled_(settled), lab_(settled.lab()), asking_(asking),
          threads_(std::max(1U, asking.threads)) {
        matrix_.ends_ = std::move(ends);
    }

    Matrix run() {
        if (matrix_.ends_.empty())
            return std::move(matrix_);
        auto ways = std::make_shared<const MatrixWays>(settled_, matrix_.ends_, asking_);
        number_members(ways->classes);
        fill_rows(ways->rows);
        walk_the_rest(ways->classes);
        if (asking_.keeps_ways)
            matrix_.ways_ = std::move(ways);
        return std::move(matrix_);
    }

  private:
    void number_members(const std::vector<EndClass>& classes) {
        matrix_.class_of_.resize(matrix_.ends_.size());
        matrix_.place_.resize(matrix_.ends_.size());
        for (const EndClass& one : classes) {
            const std::vector<std::uint32_t>& members = one.members;
            auto c = static_cast<std::uint32_t>(matrix_.sizes_.size());
            matrix_.sizes_.push_back(static_cast<std::uint32_t>(members.size()));
            for (std::uint32_t i = 0; i < members.size(); ++i) {
                matrix_.class_of_[members[i]] = c;
                matrix_.place_[members[i]] = i;
            }
        }
        matrix_.words_ = (classes.size() + 63) / 64;
        matrix_.cells_.resize(classes.size() * matrix_.words_);
        matrix_.unsettled_.resize(classes.size() * matrix_.words_);
        matrix_.self_.resize(matrix_.words_);
    }

    void fill_rows(const Rows& rows) {
        constexpr std::size_t stretch = 64; // a word of self_ belongs to one worker
        std::vector<std::unique_ptr<Rows::Worker>> workers(threads_);
        in_parallel(matrix_.sizes_.size(), stretch, threads_,
                    [&](unsigned number, std::size_t first, std::size_t last) {
                        auto& worker = workers[number];
                        if (!worker)
                            worker = std::make_unique<Rows::Worker>(rows);
                        for (std::size_t to = first; to < last; ++to) {
                            const Rows::Row& row =
                                rows.row(static_cast<std::uint32_t>(to), *worker);
                            auto at = static_cast<std::ptrdiff_t>(to * matrix_.words_);
                            std::ranges::copy(row.answered, matrix_.cells_.begin() + at);
                            std::ranges::copy(row.unsettled, matrix_.unsettled_.begin() + at);
                            if (row.self)
                                set_bit(matrix_.self_, to);
                        }
                    });
    }

    // --- what only walks tell --------------------------------------------------------------------

    void walk_the_rest(const std::vector<EndClass>& classes) {
        std::vector<std::size_t> cells;
        for (std::size_t w = 0; w < matrix_.unsettled_.size(); ++w)
            for (std::uint64_t left = matrix_.unsettled_[w]; left != 0; left &= left - 1)
                cells.push_back(w * 64 + static_cast<std::size_t>(std::countr_zero(left)));
        for (std::size_t cell : cells) {
            std::size_t pairs = std::size_t{matrix_.sizes_[to(cell)]} * matrix_.sizes_[from(cell)];
            matrix_.walked_ += pairs;
            if (matrix_.walked_ > limits::walked_pairs)
                throw std::length_error(fmt::format(
                    "more than {} pairs of addresses can only be walked", limits::walked_pairs));
            matrix_.each_[cell].resize(pairs);
        }
        constexpr std::size_t stretch = 16;
        in_parallel(cells.size(), stretch, threads_,
                    [&](unsigned, std::size_t first, std::size_t last) {
                        for (std::size_t i = first; i < last; ++i)
                            walk(classes, cells[i], matrix_.each_.at(cells[i]));
                    });
        for (std::uint32_t c = 0; c < classes.size(); ++c)
            if (classes[c].is_walked && gets_answer(classes[c].first, classes[c].first))
                set_bit(matrix_.self_, c);
    }

    std::size_t to(std::size_t cell) const { return cell / 64 / matrix_.words_; }
    std::size_t from(std::size_t cell) const { return cell % (matrix_.words_ * 64); }

    void walk(const std::vector<EndClass>& classes, std::size_t cell,
              std::vector<bool>& into) const {
        std::size_t at = 0;
        for (std::uint32_t target : classes[to(cell)].members)
            for (std::uint32_t sender : classes[from(cell)].members)
                into[at++] =
                    sender != target && gets_answer(matrix_.ends_[sender], matrix_.ends_[target]);
    }

    bool gets_answer(AddressId from, AddressId to) const {
        auto end = [&](AddressId id) {
            lab::NicId nic = lab_.addresses[id].nic;
            return probe::Endpoint{.name = {},
                                   .machine = lab_.nics[nic].machine,
                                   .nic = nic,
                                   .address = lab_.addresses[id].address};
        };
        const probe::Exchange found =
            probe::exchange(settled_, {.from = end(from),
                                       .to = end(to),
                                       .service = asking_.service,
                                       .is_served = asking_.is_served,
                                       .source = lab_.addresses[from].address,
                                       .count = 1});
        if (asking_.is_one_way)
            return found.back && found.out->last_machine() == found.question.to.machine;
        return found.reaches;
    }

    const routing::Settled& settled_;
    const lab::Lab& lab_;
    const Asking asking_;
    const unsigned threads_;
    Matrix matrix_;
};

Matrix matrix(const routing::Settled& settled, std::vector<AddressId> ends, const Asking& asking) {
    return MatrixMaker(settled, std::move(ends), asking).run();
}

} // namespace jackal::reach
