#include "reach/engine/changed_columns.h"

#include "jackal/sorted.h"
#include "net/hash.h"

#include <algorithm>

namespace jackal::reach {

using lab::MachineId;
using lab::NicId;

// --- index -------------------------------------------------------------------------------------

ColumnIndex::ColumnIndex(const routing::Settled& settled, const Columns& columns,
                         const std::vector<lab::AddressId>& ends,
                         const std::vector<std::uint32_t>& more_prefixes)
    : settled_(settled), columns_(columns), prefixes_(more_prefixes),
      entrance_at_(columns.doors().count(), Columns::nowhere) {
    const lab::Lab& lab = settled.lab();
    const std::vector<EndClass>& classes = columns.classes();
    counted_.resize(lab.machines.size());
    entrances_.resize(lab.machines.size());
    others_.resize(lab.machines.size());
    hosts_.resize(lab.machines.size());
    is_host_.resize(lab.machines.size());
    answering_.resize(classes.size());
    answerers_.resize(columns.entrances().size());
    for (MachineId machine : lab.machines.ids())
        counted_[machine.row] = lab.machines[machine].forwards_any();
    for (std::uint32_t e = 0; e < columns.entrances().size(); ++e) {
        MachineId machine = columns.doors().machine(columns.entrances()[e]);
        entrance_at_[columns.entrances()[e]] = e;
        entrances_[machine.row].push_back(e);
        counted_[machine.row] = true;
    }
    using Shared = std::pair<const Columns::Fates*, const Columns::Fates*>;
    std::map<Shared, std::uint32_t> known;
    for (std::uint32_t c = 0; c < classes.size(); ++c) {
        column_of_.push_back(c);
        if (classes[c].is_host)
            column_of_.back() =
                known
                    .try_emplace(
                        {columns.requests_to(c).fates.get(), columns.answers_to(c).fates.get()}, c)
                    .first->second;
        const lab::InterfaceAddress& first = lab.addresses[classes[c].first];
        MachineId machine = lab.nics[first.nic].machine;
        (classes[c].is_host ? hosts_ : others_)[machine.row].push_back(c);
        std::uint32_t prefix = settled.aim(first.address).prefix;
        if (!classes[c].is_walked && prefix != routing::Aim::no_prefix) {
            if (targets_.size() <= prefix)
                targets_.resize(prefix + 1);
            targets_[prefix].push_back(c);
            prefixes_.push_back(prefix);
        }
        for (std::uint32_t member : classes[c].members)
            if (classes[c].is_host)
                is_host_[lab.nics[lab.addresses[ends[member]].nic].machine.row] = true;
        if (!classes[c].is_host) {
            answering_[c].push_back(columns.entrance(c));
            for (NicId in : lab.nics_of(machine))
                answering_[c].push_back(columns.answers_from(c, columns.doors().door(in)));
            sort_unique(answering_[c]);
        }
        for (std::uint32_t e :
             classes[c].is_host ? columns.entrance_range(c) : std::span(answering_[c]))
            if (e != Columns::nowhere)
                answerers_[e].push_back(c);
    }
    sort_unique(prefixes_);
}

std::shared_ptr<const ColumnIndex::Senders> ColumnIndex::senders(std::uint32_t target) const {
    constexpr std::size_t most_kept_words = 50'000'000;
    const Columns::Fates* column = columns_.requests_to(target).fates.get();
    {
        std::scoped_lock alone(kept_mutex_);
        if (auto found = kept_.find(column); found != kept_.end())
            return found->second;
    }
    const lab::Lab& lab = settled_.lab();
    auto made = senders_to(settled_.aim(lab.addresses[columns_.classes()[target].first].address));
    std::scoped_lock alone(kept_mutex_);
    if (kept_words_ > most_kept_words) {
        kept_.clear();
        kept_words_ = 0;
    }
    kept_words_ += made->first_.size() + made->senders_.size() + 2 * made->onward_.size();
    kept_.emplace(column, made);
    return made;
}

std::shared_ptr<const ColumnIndex::Senders> ColumnIndex::senders_to(const routing::Aim& aim) const {
    std::vector<std::pair<MachineId, MachineId>> pairs; // to whom, and who
    for (std::uint32_t m = 0; m < counted_.size(); ++m) {
        if (!counted_[m])
            continue;
        const MachineId machine{m};
        const routing::Settled::Choice choice = settled_.choice(machine, aim);
        for (std::uint32_t way = 0; way < choice.ways; ++way) {
            const routing::Hop* hop = way == 0 ? choice.hop : settled_.hop(machine, aim, way);
            if (hop == nullptr)
                continue;
            if (hop->machine)
                pairs.emplace_back(hop->machine, machine);
            if (hop->kind == routing::RouteKind::connected)
                for (const lab::Owner& owner : aim.owners)
                    pairs.emplace_back(owner.machine, machine);
        }
    }
    sort_unique(pairs);
    auto made = std::make_shared<Senders>();
    made->first_.resize(counted_.size() + 1);
    for (const auto& [to, from] : pairs) {
        ++made->first_[to.row + 1];
        made->senders_.push_back(from);
    }
    for (std::size_t m = 0; m < counted_.size(); ++m)
        made->first_[m + 1] += made->first_[m];
    made->onward_ = std::vector<std::atomic<std::uint64_t>>(columns_.entrances().size());
    return made;
}

std::optional<Column::Onward> ColumnIndex::Senders::onward(std::uint32_t entrance) const {
    std::uint64_t kept = onward_[entrance].load(std::memory_order_relaxed);
    if (kept == 0)
        return std::nullopt;
    return Column::Onward{.to = static_cast<Doors::Place>(kept >> 33),
                          .out = {static_cast<std::uint32_t>(kept >> 1)},
                          .is_passed_on = (kept & 1) != 0};
}

void ColumnIndex::Senders::keep(std::uint32_t entrance, const Column::Onward& onward) const {
    onward_[entrance].store(std::uint64_t{onward.to} << 33 | std::uint64_t{onward.out.row} << 1
                                | (onward.is_passed_on ? 1 : 0),
                            std::memory_order_relaxed);
}

// --- what changes ------------------------------------------------------------------------------

ChangedColumns::Followed::Followed(const ColumnIndex& index)
    : index_(index), turns_(index.settled().lab().machines.size()), moved_(turns_.size()) {}

ChangedColumns::ChangedColumns(const ColumnIndex& index, const routing::Settled& without,
                               Column& column)
    : index_(index), columns_(index.columns()), without_(without), lab_(without.lab()),
      unit_of_(columns_.classes().size(), none), followed_(index) {
    auto changes =
        routing::table_changes(index.settled(), without, index.prefixes(), index.counted());
    if (!changes)
        return;
    changes_ = std::move(*changes);
    is_known_ = find_gateways();
    if (!is_known_)
        return;
    make_units();
    column.go_by(without);
    for (Unit& unit : units_)
        follow(unit, column);
    for (std::uint32_t u = 0; u < units_.size(); ++u)
        for (const auto& [entrance, fate] : units_[u].fates[1])
            answered_.emplace_back(entrance, u);
    std::ranges::sort(answered_);
    for (auto& side : near_)
        std::ranges::sort(side, {},
                          [](const NearFate& near) { return std::pair(near.target, near.sender); });
    for (const NearFate& near : near_[0])
        near_pairs_.emplace_back(near.target, near.sender);
    for (const NearFate& near : near_[1])
        near_pairs_.emplace_back(near.sender, near.target);
    sort_unique(near_pairs_);
}

// Who takes what plain hosts send to others than their neighbours. False if some are not in one
// class with the others of it any more, or send from where nobody did.
bool ChangedColumns::find_gateways() {
    const routing::Condition& old = index_.settled().condition();
    const routing::Condition& now = without_.condition();
    for (MachineId machine : lab_.machines.ids()) {
        if (!changes_.touched[machine.row])
            continue;
        bool is_itself = old.machine_on(machine) != now.machine_on(machine);
        for (NicId nic : lab_.nics_of(machine))
            is_itself = is_itself || old.nic_up(nic) != now.nic_up(nic);
        if (is_itself && index_.is_host(machine))
            return false;
        for (std::uint32_t c : index_.hosts(machine)) {
            EndClass sender = columns_.classes()[c];
            if (!sender.is_plain)
                continue;
            NicId gateway = sender.gateway;
            find_gateway(without_, columns_.packets(), sender);
            if (!sender.is_plain)
                return false;
            if (sender.gateway == gateway)
                continue;
            std::uint32_t entrance = sender.gateway
                                         ? index_.entrance_at(columns_.doors().door(sender.gateway))
                                         : Columns::nowhere;
            if (sender.gateway && entrance == Columns::nowhere)
                return false;
            elsewhere_.push_back(c);
            elsewhere_of_.emplace(c, entrance);
        }
    }
    return true;
}

void ChangedColumns::make_units() {
    const std::vector<routing::TableMove>& moves = changes_.moves;
    std::vector<MachineId> moved;
    for (std::size_t first = 0, last = 0; first < moves.size(); first = last) {
        moved.clear();
        std::uint64_t next_hops = 0;
        bool is_on_link = false;
        for (; last < moves.size() && moves[last].prefix == moves[first].prefix; ++last) {
            moved.push_back(moves[last].machine);
            is_on_link = is_on_link || moves[last].is_on_link;
            next_hops = net::spread(next_hops ^ moves[last].machine.row);
            next_hops = net::spread(next_hops ^ moves[last].next_hops);
        }
        for (std::uint32_t c : index_.targets(moves[first].prefix))
            add_to_unit(c, next_hops, is_on_link, moved);
    }
    // A machine whose NICs are touched may take packets itself otherwise.
    for (MachineId machine : lab_.machines.ids())
        if (changes_.touched[machine.row])
            for (std::uint32_t c : index_.others(machine))
                if (!columns_.classes()[c].is_walked)
                    add_to_unit(c, 0, true, {machine});
    for (Unit& unit : units_) {
        std::ranges::sort(unit.classes);
        for (std::uint32_t c : unit.classes)
            if (!unit.stretches.empty() && unit.stretches.back().second == c)
                ++unit.stretches.back().second;
            else
                unit.stretches.emplace_back(c, c + 1);
        sort_unique(unit.moved);
    }
}

// Targets share what becomes of packets to them if they did before, and where machines send
// otherwise now, it is to the same next hops.
void ChangedColumns::add_to_unit(std::uint32_t c, std::uint64_t next_hops, bool is_alone,
                                 const std::vector<MachineId>& moved) {
    std::uint32_t number = unit_of_[c];
    if (number == none) {
        const UnitKey key{index_.column(c), is_alone ? c : none, is_alone ? 0 : next_hops};
        auto [found, is_new] = known_.try_emplace(key, static_cast<std::uint32_t>(units_.size()));
        number = found->second;
        if (is_new)
            units_.emplace_back();
        units_[number].classes.push_back(c);
        unit_of_[c] = number;
    }
    if (is_alone || units_[number].classes.size() == 1)
        units_[number].moved.insert(units_[number].moved.end(), moved.begin(), moved.end());
}

// --- following ---------------------------------------------------------------------------------

// The machines that send otherwise, and those whose packets came to them before.
void ChangedColumns::find_upstream(const Unit& unit, const ColumnIndex::Senders& senders) {
    followed_.start();
    upstream_ = unit.moved;
    for (MachineId machine : upstream_) {
        followed_.add(machine);
        followed_.add_moved(machine);
    }
    for (std::size_t i = 0; i < upstream_.size(); ++i)
        for (MachineId other : senders.to(upstream_[i]))
            if (!followed_.has(other)) {
                followed_.add(other);
                if (changes_.touched[other.row])
                    followed_.add_moved(other);
                upstream_.push_back(other);
            }
}

void ChangedColumns::follow(Unit& unit, Column& column) {
    const std::uint32_t sample = unit.classes.front();
    const bool had_answers = &columns_.answers_to(sample) != &columns_.requests_to(sample);
    const auto senders = index_.senders(sample);
    find_upstream(unit, *senders);
    followed_.know(*senders,
                   lab_.nics[lab_.addresses[columns_.classes()[sample].first].nic].machine);
    bool differs = had_answers;
    for (bool is_answer : {false, true}) {
        auto& changed = unit.fates[is_answer ? 1 : 0];
        if (is_answer && !differs) {
            changed = unit.fates[0];
            break;
        }
        const Columns::Fates& before =
            *(is_answer ? columns_.answers_to(sample) : columns_.requests_to(sample)).fates;
        columns_.aim_at(sample, is_answer, column);
        followed_.know(before);
        column.know(&followed_);
        for (MachineId machine : upstream_)
            for (std::uint32_t e : index_.entrances(machine)) {
                Fate fate = columns_.fate(sample, columns_.entrances()[e], column);
                if (fate != before[e])
                    changed.emplace_back(e, fate);
            }
        std::ranges::sort(changed, {}, [](const auto& change) { return change.first; });
        differs = differs || column.differs_for_answers();
    }
    follow_near(unit, column);
}

// Who is near sends directly as ever, unless its segment is touched.
void ChangedColumns::follow_near(const Unit& unit, Column& column) {
    auto sender = [&](std::uint32_t target, std::uint32_t near) {
        const EndClass& end_class = columns_.classes()[near];
        lab::AddressId end = near == target ? end_class.second : end_class.first;
        return lab_.nics[lab_.addresses[end].nic].machine;
    };
    auto may_differ = [&](const Fate& fate, MachineId machine) {
        return fate.kind != Fate::Kind::delivered || fate.passes != 0
               || changes_.touched[machine.row];
    };
    for (std::uint32_t c : unit.classes)
        for (bool is_answer : {false, true}) {
            bool is_aimed = false;
            for (const auto& [near, fate] :
                 (is_answer ? columns_.answers_to(c) : columns_.requests_to(c)).near) {
                MachineId machine = sender(c, near);
                if (!may_differ(fate, machine))
                    continue;
                if (!is_aimed) {
                    columns_.aim_at(c, is_answer, column);
                    column.know(nullptr);
                }
                is_aimed = true;
                Fate now = columns_.fate(c, columns_.doors().sender(machine), column);
                if (now != fate)
                    near_[is_answer ? 1 : 0].push_back({c, near, now});
            }
        }
}

// --- asking ------------------------------------------------------------------------------------

namespace {

// What stands beside a number in an ascending list of pairs.
std::vector<std::uint32_t> beside(const std::vector<std::pair<std::uint32_t, std::uint32_t>>& pairs,
                                  std::uint32_t number) {
    std::vector<std::uint32_t> found;
    auto first = std::ranges::lower_bound(pairs, std::pair(number, std::uint32_t{0}));
    for (; first != pairs.end() && first->first == number; ++first)
        found.push_back(first->second);
    return found;
}

} // namespace

std::vector<std::uint32_t> ChangedColumns::answered_otherwise(std::uint32_t entrance) const {
    return beside(answered_, entrance);
}

std::vector<bool> ChangedColumns::changed() const {
    if (!elsewhere_.empty()) // whose requests come from there, and whose answers go there
        return std::vector<bool>(unit_of_.size(), true);
    std::vector<bool> found(unit_of_.size());
    for (const Unit& unit : units_)
        if (!unit.fates[0].empty())
            for (std::uint32_t c : unit.classes)
                found[c] = true;
    for (std::size_t i = 0; i < answered_.size(); ++i)
        if (i == 0 || answered_[i].first != answered_[i - 1].first)
            for (std::uint32_t c : index_.answerers(answered_[i].first))
                found[c] = true;
    for (const auto& [to, from] : near_pairs_)
        found[to] = true;
    return found;
}

std::vector<std::uint32_t> ChangedColumns::changed_near(std::uint32_t to) const {
    return beside(near_pairs_, to);
}

std::uint32_t ChangedColumns::entrance(std::uint32_t c) const {
    auto found = elsewhere_of_.find(c);
    return found == elsewhere_of_.end() ? columns_.entrance(c) : found->second;
}

Fate ChangedColumns::fate(std::uint32_t target, std::uint32_t entrance, bool is_answer) const {
    if (entrance == Columns::nowhere)
        return {.kind = Fate::Kind::lost};
    if (unit_of_[target] != none) {
        const auto& changed = units_[unit_of_[target]].fates[is_answer ? 1 : 0];
        auto found = std::ranges::lower_bound(changed, entrance, {},
                                              [](const auto& change) { return change.first; });
        if (found != changed.end() && found->first == entrance)
            return found->second;
    }
    return (
        *(is_answer ? columns_.answers_to(target) : columns_.requests_to(target)).fates)[entrance];
}

Fate ChangedColumns::answer(std::uint32_t from, std::uint32_t to, const Fate& request) const {
    if (request.kind != Fate::Kind::delivered)
        return {.kind = Fate::Kind::lost};
    return fate(from,
                columns_.classes()[to].is_host ? entrance(to)
                                               : columns_.answers_from(to, request.door),
                true);
}

Columns::Between ChangedColumns::far_between(std::uint32_t from, std::uint32_t to) const {
    const Fate request = fate(to, entrance(from), false);
    return {.request = request, .answer = answer(from, to, request)};
}

const Fate* ChangedColumns::find(const std::vector<NearFate>& list, std::uint32_t target,
                                 std::uint32_t sender) {
    auto found =
        std::ranges::lower_bound(list, std::pair(target, sender), {}, [](const NearFate& near) {
            return std::pair(near.target, near.sender);
        });
    return found != list.end() && found->target == target && found->sender == sender ? &found->fate
                                                                                     : nullptr;
}

Columns::Between ChangedColumns::between(std::uint32_t from, std::uint32_t to) const {
    Columns::Between found = far_between(from, to);
    if (const Fate* request = columns_.near_request(from, to)) {
        const Fate* changed = find(near_[0], to, from);
        found.is_near = true;
        found.request = changed != nullptr ? *changed : *request;
        found.answer = answer(from, to, found.request);
    }
    if (const Fate* near = columns_.near_answer(from, to)) {
        const Fate* changed = find(near_[1], from, to);
        found.answer = changed != nullptr ? *changed : *near;
    }
    return found;
}

} // namespace jackal::reach
