#include "reach/changed_pairs.h"

#include "jackal/limits.h"
#include "jackal/sorted.h"
#include "reach/speaker.h"

#include <algorithm>
#include <numeric>
#include <unordered_map>

namespace jackal::reach {

using lab::MachineId;
using lab::NicId;

// --- index -------------------------------------------------------------------------------------

ChangedPairs::ChangedPairs(const Pairs& whole) : whole_(whole), lab_(whole.lab_) {
    for (std::uint32_t row = 0; row < whole_.rows_.size(); ++row)
        for (const Alike& alike : whole_.rows_[row].alike) {
            all_senders_.push_back({row, &alike});
            if (!alike.is_plain)
                other_senders_.push_back({row, &alike});
        }
    is_sent_on_to_.resize(lab_.machines.size());
    for (const lab::Duties& duties : lab_.duties)
        for (const lab::Translation& rule : duties.translations)
            if (rule.to)
                for (const lab::Owner& owner : lab_.owners_of(*rule.to))
                    is_sent_on_to_[owner.machine.row] = true;
    std::size_t targets = 0;
    std::size_t other_targets = 0;
    for (net::Family family : net::both_families) {
        std::vector<Members> plain_senders;
        for (const Senders& some : all_senders_)
            if (some.alike->is_plain && some.alike->place[family] != PairOfNics::no_place)
                plain_senders.push_back(
                    members(whole_.rows_[some.row], some.row, *some.alike, family));
        const std::size_t classes = whole_.matrix(family, 0, 0).classes();
        for (const Members& some : plain_senders) {
            weights_[family].add(some.end_class, some.plain, classes);
            if (family == net::Family::ipv6 && some.alike->place.ipv4 == PairOfNics::no_place)
                weights_without_ipv4_.add(some.end_class, some.plain, classes);
        }
        senders_[family].fill(std::move(plain_senders), &Members::end_class, classes);
        std::vector<Members> asked;
        for (std::size_t column = 0; column < whole_.columns_.size(); ++column)
            for (const Alike& alike : whole_.columns_[column].alike)
                if (alike.place[family] != PairOfNics::no_place)
                    asked.push_back(members(whole_.columns_[column], column, alike, family));
        columns_[family].resize(classes);
        for (const Members& some : asked)
            columns_[family][some.end_class].push_back(some.line);
        std::ranges::stable_sort(asked, {}, &Members::end_class);
        targets_[family].fill(std::move(asked), &Members::line, whole_.columns_.size());
    }
    for (const Pairs::Line& line : whole_.columns_)
        for (const Alike& alike : line.alike) {
            targets += alike.nics.size();
            other_targets += alike.is_plain ? 0 : alike.nics.size();
        }
    std::size_t senders = 0;
    for (const Senders& some : all_senders_)
        senders += some.alike->nics.size();
    std::size_t others = other_senders_.size() * targets + senders * other_targets;
    has_others_ = others != 0;
    has_few_others_ = others <= limits::grid_counts;
    add_walks();
    std::vector<std::uint32_t> prefixes;
    for (std::uint32_t prefix = 0; prefix < walks_.has_prefix.size(); ++prefix)
        if (walks_.has_prefix[prefix])
            prefixes.push_back(prefix);
    for (net::Family family : net::both_families)
        index_[family] = std::make_unique<const MatrixIndex>(*whole_.conditions_.front(),
                                                             whole_.matrix(family, 0, 0), prefixes);
}

ChangedPairs::Members ChangedPairs::members(const Pairs::Line& line, std::size_t number,
                                            const Alike& alike, net::Family family) {
    return {.end_class = alike.end_class[family][0],
            .line = static_cast<std::uint32_t>(number),
            .first = alike.nics.front(),
            .last = alike.nics.back(),
            .plain = alike.is_plain ? static_cast<std::uint32_t>(alike.nics.size()) : 0,
            .is_only = line.alike.size() == 1,
            .alike = &alike};
}

void ChangedPairs::Weights::add(std::size_t end_class, std::uint32_t nics, std::size_t classes) {
    of.resize(classes);
    of_word.resize((classes + 63) / 64);
    of[end_class] += nics;
    of_word[end_class / 64] += nics;
    all += nics;
}

void ChangedPairs::Grouped::fill(std::vector<Members> all, std::uint32_t Members::*group,
                                 std::size_t groups) {
    std::ranges::stable_sort(all, {}, group);
    all_ = std::move(all);
    first_.assign(groups + 1, 0);
    for (const Members& some : all_)
        ++first_[some.*group + 1];
    std::partial_sum(first_.begin(), first_.end(), first_.begin());
}

namespace {

std::uint64_t pair_key(std::uint32_t one, std::uint32_t other) {
    return std::uint64_t{one} << 32 | other;
}

constexpr std::uint32_t any_prefix = ~std::uint32_t{0};

} // namespace

// Plain pairs of the target of which only walks tell.
template <class Tell>
void ChangedPairs::each_walked_pair(const Members& target, net::Family family, Tell tell) const {
    const Matrix& matrix = whole_.matrix(family, 0, 0);
    if (matrix.walked() == 0 || target.plain == 0)
        return;
    matrix.each_walked_class(target.alike->place[family], [&](std::size_t from) {
        for (const Members& some : senders_[family].of(from))
            for (NicId sender : some.alike->nics)
                for (NicId asked : target.alike->nics)
                    if (Pairs::family_of(*some.alike, *target.alike) == family
                        && lab_.nics[sender].machine != lab_.nics[asked].machine)
                        tell(some.line, sender, asked);
    });
}

// Plain pairs that were walked, and the walks of as many as are worth keeping.
void ChangedPairs::add_walks() {
    constexpr std::size_t most_walks = 100'000;
    for (std::size_t column = 0; column < whole_.columns_.size(); ++column) {
        walks_.first.push_back(walks_.pairs.size());
        for (net::Family family : net::both_families)
            for (const Members& target : targets_[family].of(column))
                each_walked_pair(target, family, [&](std::uint32_t row, NicId from, NicId to) {
                    walks_.pairs.push_back({row, from, to});
                });
    }
    walks_.first.push_back(walks_.pairs.size());
    walks_.kept = std::min(walks_.pairs.size(), most_walks);
    for (std::uint32_t number = 0; number < walks_.kept; ++number)
        add_walk(number);
}

void ChangedPairs::add_walk(std::uint32_t number) {
    const WalkedPair& walked = walks_.pairs[number];
    const PairOfNics pair = whole_.pair_of(walked.from, walked.to);
    const probe::Exchange found = whole_.walk(*whole_.conditions_.front(), pair, pair.sources[0]);
    for (const auto& journey : {found.out, found.back})
        if (journey)
            add_steps(*journey, number);
    walks_.passed.push_back(found.reaches ? passed_by(found) : Passed{});
}

void ChangedPairs::add_steps(const packet::Journey& journey, std::uint32_t walk) {
    net::Address destination = journey.packet.destination;
    auto rewrite = journey.rewrites.begin();
    for (std::size_t i = 0; i < journey.steps.size(); ++i) {
        for (; rewrite != journey.rewrites.end() && rewrite->step <= i; ++rewrite)
            destination = rewrite->after.destination;
        std::uint32_t prefix = whole_.conditions_.front()->aim(destination).prefix;
        if (prefix != routing::Aim::no_prefix) {
            if (walks_.has_prefix.size() <= prefix)
                walks_.has_prefix.resize(prefix + 1);
            walks_.has_prefix[prefix] = true;
        }
        for (std::uint32_t of : {prefix, any_prefix})
            walks_.by_step[pair_key(journey.steps[i].machine.row, of)].push_back(walk);
    }
    for (const packet::Crossing& crossing : journey.crossings)
        if (crossing.outer)
            add_steps(*crossing.outer, walk);
}

// --- the whole lab -----------------------------------------------------------------------------

// All pairs of which one is not plain.
template <class Tell>
void ChangedPairs::each_other_pair(std::size_t column, Tell tell) const {
    for (const Alike& target : whole_.columns_[column].alike)
        for (const Senders& some : target.is_plain ? other_senders_ : all_senders_)
            for (NicId from : some.alike->nics)
                for (NicId to : target.nics)
                    if (lab_.nics[from].machine != lab_.nics[to].machine)
                        tell(some.row, from, to);
}

std::optional<ChangedPairs::Count> ChangedPairs::count(std::size_t column) const {
    if (!has_few_others_)
        return std::nullopt;
    Count found;
    for (net::Family family : net::both_families)
        for (const Members& target : targets_[family].of(column))
            if (target.plain != 0)
                count_plain(target, family, found);
    each_other_pair(column, [&](std::uint32_t, NicId from, NicId to) {
        const PairOfNics pair = whole_.pair_of(from, to);
        if (!pair.family && whole_.has_addresses(from) && whole_.has_addresses(to))
            return; // of two families
        ++found.pairs;
        found.replies += whole_.gets_answer(pair, 0) ? 1 : 0;
    });
    return found;
}

void ChangedPairs::count_plain(const Members& target, net::Family family, Count& into) const {
    const bool is_second =
        family == net::Family::ipv6 && target.alike->place.ipv4 != PairOfNics::no_place;
    const Weights& weights = is_second ? weights_without_ipv4_ : weights_[family];
    auto answered = [&](std::size_t w) { // but for what was walked
        return index_[family]->answered(target.end_class)[w]
               & ~index_[family]->walked(target.end_class)[w];
    };
    std::uint64_t replies = 0;
    for (std::size_t w = 0; w < weights.of_word.size(); ++w) {
        std::uint64_t bits = answered(w);
        if (~bits == 0) {
            replies += weights.of_word[w];
            continue;
        }
        for (; bits != 0; bits &= bits - 1)
            replies += weights.of[w * 64 + static_cast<std::size_t>(std::countr_zero(bits))];
    }
    into.pairs += weights.all * target.plain;
    into.replies += replies * target.plain;
    for (const Members& some : senders_[family].of(target.end_class)) { // nobody asks itself
        std::vector<NicId> both;
        if (Pairs::family_of(*some.alike, *target.alike) == family)
            std::ranges::set_intersection(some.alike->nics, target.alike->nics,
                                          std::back_inserter(both));
        into.pairs -= both.size();
        if (answered(target.end_class / 64) >> target.end_class % 64 & 1)
            into.replies -= both.size();
    }
    each_walked_pair(target, family, [&](std::uint32_t, NicId from, NicId to) {
        into.replies += whole_.gets_answer(whole_.pair_of(from, to), 0) ? 1 : 0;
    });
}

// --- one change --------------------------------------------------------------------------------

// What becomes of all pairs under another condition.
class ChangedPairs::Comparison {
  public:
    Comparison(const ChangedPairs& all, const routing::Settled& other, Worker& worker,
               const Use& use)
        : all_(all), whole_(all.whole_), lab_(all.lab_), other_(other), use_(use) {
        for (net::Family family : net::both_families)
            matrices_[family] = std::make_unique<ChangedMatrix>(*all.index_[family], other,
                                                                worker.matrices[family]);
    }

    bool run() {
        if (!matrices_.ipv4->is_known() || !matrices_.ipv6->is_known())
            return false;
        find_moved_walks();
        const std::vector<bool> columns = this->columns();
        for (std::size_t column = 0; column < columns.size(); ++column) {
            if (!columns[column])
                continue;
            changes_.clear();
            compare_walked(column);
            for (net::Family family : net::both_families)
                tell_cells(family, column);
            if (all_.has_others_)
                compare_others(column);
            if (!changes_.empty())
                use_(column, changes_);
        }
        return true;
    }

  private:
    // True of those that may change.
    std::vector<bool> columns() const {
        const ChangedPairs::Walks& walks = all_.walks_;
        if (all_.has_others_ || walks.kept < walks.pairs.size())
            return std::vector<bool>(whole_.columns_.size(), true);
        std::vector<bool> found(whole_.columns_.size());
        for (net::Family family : net::both_families) {
            const std::vector<bool> changed = matrices_[family]->changed();
            for (std::size_t to = 0; to < changed.size(); ++to)
                for (std::size_t i = 0; changed[to] && i < all_.columns_[family][to].size(); ++i)
                    found[all_.columns_[family][to][i]] = true;
        }
        for (std::uint32_t walk : moved_walks_)
            found[walks.column(walk)] = true;
        return found;
    }

    static std::uint64_t cell(std::uint32_t from, std::uint32_t to) { return pair_key(to, from); }

    void tell_cells(net::Family family, std::size_t column) {
        if (all_.has_others_)
            cells_[family].clear();
        const std::span<const Members> targets = all_.targets_[family].of(column);
        for (auto first = targets.begin(); first != targets.end();) {
            const std::uint32_t to = first->end_class;
            const auto last = std::find_if(first, targets.end(), [&](const Members& target) {
                return target.end_class != to;
            });
            matrices_[family]->each(to, [&](std::uint32_t from, CellChange change) {
                if (all_.has_others_)
                    cells_[family].emplace(cell(from, to), change);
                for (const Members& some : all_.senders_[family].of(from))
                    for (auto target = first; target != last; ++target)
                        if (target->plain != 0
                            && (family == net::Family::ipv4 // is taken where both have it
                                || Pairs::family_of(*some.alike, *target->alike) == family))
                            tell(some, *target, change);
            });
            first = last;
        }
    }

    // Walks that meet a machine which may do otherwise with them.
    void find_moved_walks() {
        const ChangedPairs::Walks& walks = all_.walks_;
        if (walks.kept == 0)
            return;
        auto mark = [&](MachineId machine, std::uint32_t prefix) {
            if (auto found = walks.by_step.find(pair_key(machine.row, prefix));
                found != walks.by_step.end())
                moved_walks_.insert(moved_walks_.end(), found->second.begin(), found->second.end());
        };
        for (net::Family family : net::both_families) {
            const routing::TableChanges* tables = matrices_[family]->tables();
            if (tables == nullptr)
                continue;
            for (const routing::TableMove& move : tables->moves)
                if (move.prefix < walks.has_prefix.size() && walks.has_prefix[move.prefix])
                    mark(move.machine, move.prefix);
            for (MachineId machine : lab_.machines.ids())
                if (tables->touched[machine.row])
                    mark(machine, any_prefix);
        }
        sort_unique(moved_walks_);
    }

    // Plain pairs that were walked before.
    void compare_walked(std::size_t column) {
        const ChangedPairs::Walks& walks = all_.walks_;
        const std::size_t end = walks.first[column + 1];
        for (; next_moved_ < moved_walks_.size() && moved_walks_[next_moved_] < end; ++next_moved_)
            compare_plain_walks(walks.pairs[moved_walks_[next_moved_]],
                                &walks.passed[moved_walks_[next_moved_]]);
        for (std::size_t i = std::max(walks.first[column], walks.kept); i < end; ++i)
            compare_plain_walks(walks.pairs[i]);
    }

    void compare_plain_walks(const WalkedPair& walked, const Passed* passed = nullptr) {
        PairOfNics pair = whole_.pair_of(walked.from, walked.to);
        pair.sources[1] = pair.sources[0];
        compare_walks(walked.row, pair, passed);
    }

    // Plain NICs of two classes.
    void tell(const Members& some, const Members& target, CellChange change) {
        if (change == CellChange::walked) {
            for (NicId sender : some.alike->nics)
                for (NicId asked : target.alike->nics)
                    if (lab_.nics[sender].machine != lab_.nics[asked].machine)
                        compare_plain_walks({some.line, sender, asked});
            return;
        }
        std::uint64_t pairs = std::uint64_t{some.plain} * target.plain;
        if (some.end_class == target.end_class) { // a machine does not ask itself
            std::vector<NicId> both;
            std::ranges::set_intersection(some.alike->nics, target.alike->nics,
                                          std::back_inserter(both));
            pairs -= both.size();
        }
        if (pairs != 0)
            changes_.push_back({.row = some.line,
                                .from = some.first,
                                .to = target.last,
                                .replied = change != CellChange::gained,
                                .replies = change != CellChange::lost,
                                .is_whole_cell = some.is_only && target.is_only,
                                .pairs = pairs});
    }

    void compare_others(std::size_t column) {
        all_.each_other_pair(column, [&](std::uint32_t row, NicId from, NicId to) {
            compare(row, whole_.pair_of(from, to));
        });
    }

    void compare(std::uint32_t row, PairOfNics pair) {
        if (!pair.family || pair.target == PairOfNics::no_place)
            return;
        const net::Family family = *pair.family;
        const Matrix& matrix = whole_.matrix(family, 0, 0);
        pair.sources[1] = pair.sources[0];
        if (whole_.addresses(lab_.nics[pair.from].machine, family) > 1)
            pair.sources[1] = whole_.place(whole_.source_of(other_, pair.from, pair.to, family));
        const std::optional<CellChange> change = change_of(pair);
        if (pair.sources[0] != pair.sources[1] || change == CellChange::walked)
            return compare_walks(row, pair);
        if (change && pair.sources[0] != PairOfNics::no_place)
            changes_.push_back({.row = row,
                                .from = pair.from,
                                .to = pair.to,
                                .replied = matrix.reaches(pair.sources[0], pair.target),
                                .replies = *change != CellChange::lost});
    }

    // What becomes of its cell.
    std::optional<CellChange> change_of(const PairOfNics& pair) const {
        if (pair.sources[1] == PairOfNics::no_place)
            return std::nullopt;
        const Matrix& matrix = whole_.matrix(*pair.family, 0, 0);
        if (matrix.is_walked(pair.sources[1], pair.target))
            return CellChange::walked;
        auto found = cells_[*pair.family].find(
            cell(matrix.class_of(pair.sources[1]), matrix.class_of(pair.target)));
        return found == cells_[*pair.family].end() ? std::nullopt : std::optional(found->second);
    }

    // `passed` is what the packets passed before, where that is known.
    void compare_walks(std::uint32_t row, const PairOfNics& pair, const Passed* passed = nullptr) {
        auto walk = [&](const routing::Settled& settled, std::uint32_t source) {
            return source == PairOfNics::no_place
                       ? std::nullopt
                       : std::optional(whole_.walk(settled, pair, source));
        };
        const bool replied = whole_.gets_answer(pair, 0);
        const auto now = walk(other_, pair.sources[1]);
        const bool replies = now && now->reaches;
        auto passes_otherwise = [&] {
            return passed != nullptr
                       ? *passed != passed_by(*now)
                       : passed_by(*walk(*whole_.conditions_.front(), pair.sources[0]))
                             != passed_by(*now);
        };
        if (replied != replies || (replied && passes_otherwise()))
            changes_.push_back({.row = row,
                                .from = pair.from,
                                .to = pair.to,
                                .replied = replied,
                                .replies = replies});
    }

    const ChangedPairs& all_;
    const Pairs& whole_;
    const lab::Lab& lab_;
    const routing::Settled& other_;
    const Use& use_;
    lab::PerFamily<std::unique_ptr<ChangedMatrix>> matrices_;
    lab::PerFamily<std::unordered_map<std::uint64_t, CellChange>> cells_; // of one column
    std::vector<std::uint32_t> moved_walks_; // that may fare otherwise, column by column
    std::size_t next_moved_ = 0;
    std::vector<Change> changes_; // of one column
};

bool ChangedPairs::each(const routing::Settled& other, Worker& worker, const Use& use) const {
    return has_few_others_ && Comparison(*this, other, worker, use).run();
}

// --- leaves ------------------------------------------------------------------------------------

bool ChangedPairs::is_leaf(MachineId machine) const {
    if (lab_.machines[machine].nic_count != 1 || is_sent_on_to_[machine.row])
        return false;
    bool is_host = false;
    for (NicId nic : lab_.nics_of(machine))
        for (lab::AddressId id : lab_.addresses_of(nic)) {
            std::uint32_t place = whole_.place_[id.row];
            if (place == PairOfNics::no_place)
                continue;
            net::Family family = lab_.addresses[id].address.family();
            is_host = index_[family]
                          ->ways()
                          ->classes[whole_.matrix(family, 0, 0).class_of(place)]
                          .is_host;
            if (!is_host)
                return false;
        }
    return is_host;
}

void ChangedPairs::each_of_leaf(MachineId machine, const Use& use) const {
    std::vector<Change> changes; // of one column
    auto add = [&](std::size_t row, NicId from, NicId to) {
        if (lab_.nics[from].machine != lab_.nics[to].machine
            && whole_.gets_answer(whole_.pair_of(from, to), 0))
            changes.push_back({.row = static_cast<std::uint32_t>(row),
                               .from = from,
                               .to = to,
                               .replied = true,
                               .replies = false});
    };
    const NicId nic = lab_.machines[machine].first_nic;
    auto lines_with = [&](const std::vector<Pairs::Line>& lines) {
        std::vector<std::size_t> found;
        for (std::size_t i = 0; i < lines.size(); ++i)
            if (std::ranges::find(lines[i].nics, nic) != lines[i].nics.end())
                found.push_back(i);
        return found;
    };
    const std::vector<std::size_t> asks = lines_with(whole_.rows_);
    const std::vector<std::size_t> is_asked = lines_with(whole_.columns_);
    for (std::size_t column = 0; column < whole_.columns_.size(); ++column) {
        changes.clear();
        for (std::size_t row : asks)
            for (NicId to : whole_.columns_[column].nics)
                add(row, nic, to);
        if (std::ranges::binary_search(is_asked, column))
            for (std::size_t row = 0; row < whole_.rows_.size(); ++row)
                for (NicId from : whole_.rows_[row].nics)
                    add(row, from, nic);
        if (!changes.empty())
            use(column, changes);
    }
}

} // namespace jackal::reach
