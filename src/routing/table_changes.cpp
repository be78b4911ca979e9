#include "routing/table_changes.h"

#include "jackal/sorted.h"
#include "net/hash.h"
#include "routing/neighbour.h"
#include "routing/prefix_numbers.h"

#include <algorithm>
#include <numeric>
#include <span>

namespace jackal::routing {

using lab::Lab;
using lab::MachineId;
using lab::NicId;

Touched::Touched(const Settled& before, const Settled& after)
    : machines(before.lab().machines.size()), nics(before.lab().nics.size()) {
    const Lab& lab = before.lab();
    const Condition& old = before.condition();
    const Condition& now = after.condition();
    for (MachineId machine : old.difference(now).machines)
        machines[machine.row] = true;
    auto touch = [&](NicId nic) {
        nics[nic.row] = true;
        machines[lab.nics[nic].machine.row] = true;
    };
    std::vector<std::uint32_t> domains;
    each_changed_nic(lab, old, now, [&](NicId nic) {
        touch(nic);
        if (lab.has_wiring())
            domains.push_back(before.wiring().domain(lab, nic));
        else
            std::ranges::for_each(lab.segments[lab.nics[nic].segment].nics, touch);
    });
    sort_unique(domains);
    if (!domains.empty())
        for (NicId nic : lab.nics.ids())
            if (std::ranges::binary_search(domains, before.wiring().domain(lab, nic)))
                touch(nic);
}

namespace {

class Comparison {
  public:
    Comparison(const Settled& before, const Settled& after,
               const std::vector<std::uint32_t>& prefixes, const std::vector<bool>& counted)
        : before_(before), after_(after), lab_(before.lab()),
          numbers_(*before.lessons()->numbers()), prefixes_(prefixes), counted_(counted),
          touched_(before, after) {
        changes_.touched = touched_.machines;
        std::uint32_t next = 0;
        for (std::uint32_t i = 0; i < prefixes.size(); ++i)
            for (; next <= prefixes[i]; ++next)
                place_.push_back(i);
        place_.resize(numbers_.size(), static_cast<std::uint32_t>(prefixes.size()));
    }

    TableChanges run() {
        std::vector<bool> looked_at = changes_.touched;
        for (const lab::Link& link :
             lab_.links) // tunnels work by what others do with their packets
            for (NicId end : {link.first, link.second})
                if (link.is_tunnel)
                    looked_at[lab_.nics[end].machine.row] = true;
        const auto lessons = after_.lessons()->changes(*before_.lessons());
        for (MachineId machine : lab_.machines.ids())
            if (looked_at[machine.row])
                look_at(machine, lessons.has_value());
            else if (!lessons && counted_[machine.row]
                     && (before_.learned(machine).teaches(machine)
                         || after_.learned(machine).teaches(machine)))
                for (std::uint32_t p : prefixes_)
                    compare(machine, p);
        for (const LessonChange& lesson : lessons.value_or(std::vector<LessonChange>{}))
            if (counted_[lesson.machine.row])
                each_inside(lesson.prefix, [&](std::uint32_t p) {
                    if (p == lesson.prefix && lesson.is_alike)
                        changes_.moves.push_back({.prefix = p, .machine = lesson.machine});
                    else
                        compare(lesson.machine, p);
                });
        sort_moves();
        return std::move(changes_);
    }

  private:
    // By prefix, then machine; each once.
    void sort_moves() {
        std::vector<std::uint32_t> next(numbers_.size() + 1);
        for (const TableMove& move : changes_.moves)
            ++next[move.prefix + 1];
        std::partial_sum(next.begin(), next.end(), next.begin());
        std::vector<TableMove> sorted(changes_.moves.size());
        for (const TableMove& move : changes_.moves)
            sorted[next[move.prefix]++] = move;
        auto key = [](const TableMove& move) { return std::pair(move.prefix, move.machine); };
        auto order = [&](const TableMove& move) {
            return std::pair(key(move), move.next_hops == 0); // what was looked at comes first
        };
        for (std::size_t first = 0, p = 0; p < numbers_.size(); first = next[p++])
            if (auto same = std::span(sorted).subspan(first, next[p] - first);
                !std::ranges::is_sorted(same, {}, order)) // few are not
                std::ranges::sort(same, {}, order);
        auto repeated = std::ranges::unique(sorted, {}, key);
        sorted.erase(repeated.begin(), repeated.end());
        changes_.moves = std::move(sorted);
    }

    // For those prefixes that are inside one, by its number.
    template <class Use>
    void each_inside(std::uint32_t around, Use use) const {
        for (std::uint32_t i = place_[around]; i < prefixes_.size(); ++i) {
            if (prefixes_[i] != around
                && !numbers_[around].contains(numbers_[prefixes_[i]].first()))
                break;
            use(prefixes_[i]);
        }
    }

    void look_at(MachineId machine, bool has_known_lessons) {
        const auto old = before_.own_prefixes(machine);
        const auto now = after_.own_prefixes(machine);
        if (counted_[machine.row] && has_known_lessons && old && now
            && !after_.finds_otherwise(machine, before_)) {
            for (const auto* own : {&*old, &*now})
                for (std::uint32_t prefix : *own)
                    each_inside(prefix, [&](std::uint32_t p) { compare(machine, p); });
            return;
        }
        if (counted_[machine.row]) {
            for (std::uint32_t p : prefixes_)
                compare(machine, p);
            return;
        }
        for (NicId nic : lab_.nics_of(machine))
            for (lab::AddressId id : lab_.addresses_of(nic))
                each_inside(numbers_.find(lab_.addresses[id].prefix()), [&](std::uint32_t p) {
                    changes_.moves.push_back({p, machine, true, 0});
                });
    }

    void compare(MachineId machine, std::uint32_t prefix) {
        const Aim aim{.address = {}, .prefix = prefix, .owners = {}};
        Settled::Choice old = before_.choice(machine, aim);
        Settled::Choice now = after_.choice(machine, aim);
        TableMove move{.prefix = prefix, .machine = machine};
        bool differs = old.ways != now.ways;
        for (std::uint32_t way = 0; way < std::max(old.ways, now.ways); ++way) {
            const Hop* from = way == 0 ? old.hop : before_.hop(machine, aim, way);
            const Hop* to = way == 0 ? now.hop : after_.hop(machine, aim, way);
            bool was_on_link = from != nullptr && from->kind == RouteKind::connected;
            bool is_on_link = to != nullptr && to->kind == RouteKind::connected;
            // Who answers on a segment is asked with every packet.
            bool may_find_others = (was_on_link || is_on_link || (to != nullptr && !to->neighbour))
                                   && (is_touched(from) || is_touched(to));
            bool is_tunnel = to != nullptr && to->is_tunnel;
            move.is_on_link = move.is_on_link || was_on_link || is_on_link;
            differs = differs || is_tunnel || !is_same(from, to) || may_find_others;
            move.next_hops = net::spread(move.next_hops ^ reinterpret_cast<std::uintptr_t>(to));
        }
        if (differs)
            changes_.moves.push_back(move);
    }

    bool is_touched(const Hop* hop) const { return hop != nullptr && touched_.nics[hop->out.row]; }

    bool is_same(const Hop* one, const Hop* other) const {
        if (one == nullptr || other == nullptr)
            return one == other;
        auto parts = [](const Hop& hop) {
            return std::tuple(hop.out, hop.neighbour, hop.machine, hop.source, hop.mtu_bytes,
                              hop.kind == RouteKind::connected, hop.neighbour_takes_less,
                              hop.source_is_shared, hop.is_tunnel);
        };
        return parts(*one) == parts(*other)
               && (one->kind == RouteKind::connected
                   || before_.next_hop(*one) == after_.next_hop(*other));
    }

    const Settled& before_;
    const Settled& after_;
    const Lab& lab_;
    const PrefixNumbers& numbers_;
    const std::vector<std::uint32_t>& prefixes_;
    const std::vector<bool>& counted_;
    const Touched touched_;
    std::vector<std::uint32_t> place_; // by prefix: of the first of `prefixes_` that is no smaller
    TableChanges changes_;
};

} // namespace

std::optional<TableChanges> table_changes(const Settled& before, const Settled& after,
                                          const std::vector<std::uint32_t>& prefixes,
                                          const std::vector<bool>& counted) {
    if (before.condition().wiring() != after.condition().wiring())
        return std::nullopt;
    return Comparison(before, after, prefixes, counted).run();
}

} // namespace jackal::routing
