// The pairs of a grid: who asks whom, and which pairs one answer holds for.
#pragma once

#include "jackal/reach/grid.h"

#include <algorithm>

namespace jackal::reach {

/// A machine that asks and a NIC that is to answer, for as many that are alike.
struct PairOfNics {
    lab::NicId from; ///< of the machine that asks
    lab::NicId to;
    std::uint64_t pairs = 1;
    std::optional<net::Family> family; ///< none if one of the two has no address
    std::uint32_t source = no_place;   ///< what the machine sends from, in the matrices
    std::uint32_t target = no_place;

    static constexpr std::uint32_t no_place = ~std::uint32_t{0};
};

/// Every pair that a question is about, and the verdicts on them, for each of `askings`. Refers to
/// what it is made from. Throws as grid() does.
class Pairs {
  public:
    Pairs(const routing::Settled& settled, const GridQuestion& question,
          const std::vector<Asking>& askings);

    std::vector<std::string> rows() const { return names(rows_); }
    std::vector<std::string> columns() const { return names(columns_); }

    /// Calls `use` for the pairs of a cell; pairs that have no address family in common are left
    /// out.
    template <class Use>
    void each(std::size_t row, std::size_t column, Use use) {
        for (const Alike& to : columns_[column].alike) // as the matrix lies in memory
            for (const Alike& from : rows_[row].alike)
                if (!from.is_plain || !to.is_plain)
                    each_other(from, to, use);
                else if (auto pair = plain_pair(from, to))
                    use(*pair);
                else if (has_common_family(from, to))
                    each_other(from, to, use);
    }
    bool gets_answer(const PairOfNics& pair, std::size_t asking) const;

    /// NICs that nothing tells apart to whom they ask and who asks them.
    struct Alike {
        std::vector<lab::NicId> nics;
        /// Of the same classes, and the only ones of their machines, with one address of a family
        /// at most. Others stand alone.
        bool is_plain = false;
        lab::PerFamily<std::uint32_t> place; ///< of the first, in the matrices; or no_place
        lab::PerFamily<std::uint32_t> end_class;
    };
    /// A row or a column.
    struct Line {
        std::string name;
        std::vector<lab::NicId> nics;
        std::vector<Alike> alike;
    };

  private:
    static std::vector<std::string> names(const std::vector<Line>& lines);

    void make_matrices(const std::vector<Asking>& askings);
    std::uint32_t place(const lab::InterfaceAddress* row) const;
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
        if (!has_common_family(from, to) || from.end_class[family] == to.end_class[family]
            || is_walked(family, source, target))
            return std::nullopt;
        return PairOfNics{.from = from.nics.front(),
                          .to = to.nics.front(),
                          .pairs = std::uint64_t{from.nics.size()} * to.nics.size(),
                          .family = family,
                          .source = source,
                          .target = target};
    }
    bool is_walked(net::Family family, std::uint32_t source, std::uint32_t target) const {
        return std::ranges::any_of(matrices_[family], [&](const Matrix& matrix) {
            return matrix.is_walked(source, target);
        });
    }
    using Use = std::function<void(const PairOfNics&)>;
    void each_other(const Alike& from, const Alike& to, const Use& use);
    bool is_settled(const PairOfNics& sample) const;
    void tell_alike(const std::vector<lab::NicId>& from, const std::vector<lab::NicId>& to,
                    const Use& use);
    void tell(lab::NicId from, lab::NicId to, std::uint64_t pairs, const Use& use);
    PairOfNics pair_of(lab::NicId from, lab::NicId to) const;
    bool has_addresses(lab::NicId nic) const;
    const lab::InterfaceAddress* source_of(lab::NicId from, lab::NicId to,
                                           net::Family family) const;

    const routing::Settled& settled_;
    const lab::Lab& lab_;
    const GridQuestion& question_;
    std::vector<Line> rows_;
    std::vector<Line> columns_;
    std::vector<std::uint32_t> place_; // in the matrices of its family, by address
    lab::PerFamily<std::vector<Matrix>> matrices_;
    std::size_t counted_ = 0;
};

} // namespace jackal::reach
