// The pairs of a grid: who asks whom, and which pairs one answer holds for.
#pragma once

#include "jackal/probe/exchange.h"
#include "jackal/reach/grid.h"

#include <algorithm>
#include <array>
#include <atomic>

namespace jackal::reach {

/// A machine that asks and a NIC that is to answer, for as many that are alike.
struct PairOfNics {
    lab::NicId from; ///< of the machine that asks
    lab::NicId to;
    std::uint64_t pairs = 1;
    std::optional<net::Family> family; ///< none if one of the two has no address
    /// What the machine sends from under each condition, in the matrices.
    std::array<std::uint32_t, 2> sources{no_place, no_place};
    std::uint32_t target = no_place;

    static constexpr std::uint32_t no_place = ~std::uint32_t{0};
};

/// Who passes the packets of an exchange on, and by which NIC but the last of them, there and back:
/// what Matrix::way stands for.
std::vector<std::pair<lab::MachineId, lab::NicId>> passed_by(const probe::Exchange& exchange);

/// Every pair that a question is about, and the verdicts on them, for each of `askings`. Refers to
/// what it is made from. Throws as grid() does.
class Pairs {
  public:
    /// `asks_once`: a machine with several NICs asks in the row of the first alone.
    Pairs(const routing::Settled& settled, const GridQuestion& question,
          const std::vector<Asking>& askings, bool asks_once = false);
    /// The same pairs under another condition besides, condition 1, worked out by one thread.
    /// Shares the verdicts of `whole`, and refers to what that does.
    Pairs(const Pairs& whole, const routing::Settled& other);

    std::vector<std::string> rows() const { return names(rows_); }
    std::vector<std::string> columns() const { return names(columns_); }

    /// Calls `use` for the pairs of a cell; pairs that have no address family in common are left
    /// out.
    template <class Use>
    void each(std::size_t row, std::size_t column, Use use) const {
        for (const Alike& to : columns_[column].alike) // as the matrix lies in memory
            for (const Alike& from : rows_[row].alike)
                if (!from.is_plain || !to.is_plain)
                    each_other(from, to, use);
                else if (auto pair = plain_pair(from, to))
                    use(*pair);
                else if (has_common_family(from, to))
                    each_other(from, to, use);
    }
    bool gets_answer(const PairOfNics& pair, std::size_t asking, std::size_t condition = 0) const;
    /// Throws std::length_error if the cells are too many to keep each.
    void refuse_many_cells() const;
    /// True if the packets of a pair that gets an answer under both conditions go by another way,
    /// there or back. Needs Asking::keeps_ways.
    bool is_moved(const PairOfNics& pair) const;

    /// NICs that nothing tells apart to whom they ask and who asks them.
    struct Alike {
        std::vector<lab::NicId> nics;
        /// Of the same classes, and the only ones of their machines, with one address of a family
        /// at most. Others stand alone.
        bool is_plain = false;
        lab::PerFamily<std::uint32_t> place; ///< of the first, in the matrices; or no_place
        lab::PerFamily<std::array<std::uint32_t, 2>> end_class; // under each condition
    };
    /// A row or a column.
    struct Line {
        std::string name;
        std::vector<lab::NicId> nics;
        std::vector<Alike> alike;
    };

  private:
    friend class ChangedPairs;
    static std::vector<std::string> names(const std::vector<Line>& lines);

    void make_matrices();
    void add_matrices(const routing::Settled& settled, unsigned threads);
    std::uint32_t place(const lab::InterfaceAddress* row) const;
    void sort_out_all();
    void sort_out(Line& line) const;
    std::size_t addresses(lab::MachineId machine, net::Family family) const;
    static net::Family family_of(const Alike& from, const Alike& to) {
        return from.place.ipv4 != PairOfNics::no_place && to.place.ipv4 != PairOfNics::no_place
                   ? net::Family::ipv4
                   : net::Family::ipv6;
    }
    static bool has_common_family(const Alike& from, const Alike& to) {
        net::Family family = family_of(from, to);
        return from.place[family] != PairOfNics::no_place
               && to.place[family] != PairOfNics::no_place;
    }
    // The pairs of two plain ones as one, if one answer holds for all.
    std::optional<PairOfNics> plain_pair(const Alike& from, const Alike& to) const {
        const net::Family family = family_of(from, to);
        const std::uint32_t source = from.place[family];
        const std::uint32_t target = to.place[family];
        const auto& from_class = from.end_class[family];
        const auto& to_class = to.end_class[family];
        if (!has_common_family(from, to) || from_class[0] == to_class[0]
            || (conditions_.size() > 1 && from_class[1] == to_class[1])
            || is_walked(family, {source, source}, target))
            return std::nullopt;
        return PairOfNics{.from = from.nics.front(),
                          .to = to.nics.front(),
                          .pairs = std::uint64_t{from.nics.size()} * to.nics.size(),
                          .family = family,
                          .sources = {source, source},
                          .target = target};
    }
    // The exchange of a pair, sent from a place in the matrices.
    probe::Exchange walk(const routing::Settled& settled, const PairOfNics& pair,
                         std::uint32_t source) const;
    bool is_walked(net::Family family, const std::array<std::uint32_t, 2>& sources,
                   std::uint32_t target) const {
        for (std::size_t i = 0; i < matrices_[family].size(); ++i)
            if (std::uint32_t source = sources[i / askings_.size()];
                source != PairOfNics::no_place && matrices_[family][i]->is_walked(source, target))
                return true;
        return false;
    }
    using Use = std::function<void(const PairOfNics&)>;
    void each_other(const Alike& from, const Alike& to, const Use& use) const;
    bool is_settled(const PairOfNics& sample) const;
    void tell_alike(const std::vector<lab::NicId>& from, const std::vector<lab::NicId>& to,
                    const Use& use) const;
    void tell(lab::NicId from, lab::NicId to, std::uint64_t pairs, const Use& use) const;
    PairOfNics pair_of(lab::NicId from, lab::NicId to) const;
    bool has_addresses(lab::NicId nic) const;
    const lab::InterfaceAddress* source_of(const routing::Settled& settled, lab::NicId from,
                                           lab::NicId to, net::Family family) const;

    const Matrix& matrix(net::Family family, std::size_t asking, std::size_t condition) const {
        return *matrices_[family][condition * askings_.size() + asking];
    }

    std::vector<const routing::Settled*> conditions_;
    const lab::Lab& lab_;
    const GridQuestion& question_;
    const std::vector<Asking> askings_;
    std::vector<Line> rows_;
    std::vector<Line> columns_;
    std::vector<std::uint32_t> place_; // in the matrices of its family, by address
    lab::PerFamily<std::vector<lab::AddressId>> ends_;
    lab::PerFamily<std::vector<std::shared_ptr<const Matrix>>> matrices_;
    mutable std::atomic<std::size_t> counted_ = 0; // pairs that were told one by one
};

} // namespace jackal::reach
