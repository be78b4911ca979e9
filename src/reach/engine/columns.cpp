#include "reach/engine/columns.h"

#include "jackal/sorted.h"
#include "reach/parallel.h"

#include <algorithm>
#include <memory>

namespace jackal::reach {

namespace {

bool is_same(Fate one, const Points& ones, const Fate& other, const Points& others) {
    if (!ones.is_same(one.points, others, other.points))
        return false;
    one.points = other.points;
    return one == other;
}

} // namespace

Columns::Columns(const routing::Settled& settled, const std::vector<EndClass>& classes,
                 const Packets& packets, unsigned threads)
    : settled_(settled), lab_(settled.lab()), classes_(classes), packets_(packets),
      doors_(settled, packets), points_(lab_), near_answers_(classes.size()) {
    find_entrances();
    find_leaders();
    fill_all(threads);
    for (std::uint32_t c = 0; c < classes_.size(); ++c)
        for (const auto& [from, fate] : answers_to(c).near)
            near_answers_[from].emplace_back(c, fate);
}

std::uint32_t Columns::add_entrance(Doors::Place place) {
    auto [found, is_new] =
        entrance_numbers_.try_emplace(place, static_cast<std::uint32_t>(entrances_.size()));
    if (is_new)
        entrances_.push_back(place);
    return found->second;
}

void Columns::find_entrances() {
    for (std::uint32_t c = 0; c < classes_.size(); ++c) {
        const EndClass& sender = classes_[c];
        std::uint32_t number = nowhere;
        if (!sender.is_plain)
            number = add_entrance(doors_.sender(machine(sender.first)));
        else if (sender.gateway)
            number = add_entrance(doors_.door(sender.gateway));
        entrance_of_.push_back(number);
        if (sender.is_host)
            hosts_[lab_.addresses[sender.first].prefix()].push_back(c);
        else
            for (lab::NicId in : lab_.nics_of(machine(sender.first)))
                add_entrance(doors_.answerer(doors_.door(in)));
    }
    for (const auto& [prefix, hosts] : hosts_)
        host_lengths_.push_back(prefix.length());
    sort_unique(host_lengths_);
}

std::uint32_t Columns::answers_from(std::uint32_t end_class, Doors::Place door) const {
    if (classes_[end_class].is_host || door == Fate::none)
        return entrance_of_[end_class];
    return entrance_numbers_.at(doors_.answerer(door));
}

Fate Columns::answer_from(std::uint32_t to, const Fate& request, const Fates& fates) const {
    std::uint32_t entrance = answers_from(to, request.door);
    return entrance == nowhere ? Fate{.kind = Fate::Kind::lost} : fates[entrance];
}

namespace {

const Fate* find(const Columns::Near& list, std::uint32_t other) {
    auto found = std::ranges::lower_bound(list, other, {}, [](const auto& n) { return n.first; });
    return found != list.end() && found->first == other ? &found->second : nullptr;
}

} // namespace

const Fate* Columns::near_request(std::uint32_t from, std::uint32_t to) const {
    return find(requests_to(to).near, from);
}

const Fate* Columns::near_answer(std::uint32_t from, std::uint32_t to) const {
    return find(near_answers_[to], from);
}

Columns::Between Columns::far_between(std::uint32_t from, std::uint32_t to) const {
    const Fate lost{.kind = Fate::Kind::lost};
    Between found{.request = lost, .answer = lost};
    if (entrance(from) != nowhere)
        found.request = (*requests_to(to).fates)[entrance(from)];
    if (found.request.kind == Fate::Kind::delivered)
        found.answer = answer_from(to, found.request, *answers_to(from).fates);
    return found;
}

Columns::Between Columns::between(std::uint32_t from, std::uint32_t to) const {
    Between found = far_between(from, to);
    if (const Fate* request = near_request(from, to)) {
        found = {.request = *request, .answer = {.kind = Fate::Kind::lost}, .is_near = true};
        if (request->kind == Fate::Kind::delivered)
            found.answer = answer_from(to, *request, *answers_to(from).fates);
    }
    if (const Fate* answer = near_answer(from, to))
        found.answer = *answer;
    return found;
}

void Columns::find_leaders() {
    std::vector<bool> counted(lab_.machines.size());
    for (lab::MachineId id : lab_.machines.ids())
        counted[id.row] =
            lab_.machines[id].forwards_any() || entrance_numbers_.contains(doors_.sender(id));
    const routing::AlikePrefixes alike = settled_.alike(counted);
    std::map<std::uint32_t, std::uint32_t> known;
    leader_of_.assign(classes_.size(), nowhere);
    for (std::uint32_t c = 0; c < classes_.size(); ++c) {
        std::uint32_t prefix = settled_.aim(lab_.addresses[classes_[c].first].address).prefix;
        if (!classes_[c].is_host || classes_[c].is_walked || prefix == routing::Aim::no_prefix)
            continue;
        auto [found, is_new] =
            known.try_emplace(alike.group[prefix], static_cast<std::uint32_t>(leaders_.size()));
        leader_of_[c] = found->second;
        if (!is_new)
            continue;
        Leader& leader = leaders_.emplace_back();
        leader.target = c;
        for (lab::MachineId machine : alike.on_link[prefix]) {
            leader.places.push_back(doors_.sender(machine));
            for (lab::NicId nic : lab_.nics_of(machine)) {
                leader.places.push_back(doors_.door(nic));
                leader.places.push_back(doors_.answerer(doors_.door(nic)));
            }
        }
        sort_unique(leader.places);
    }
}

// What one thread needs.
struct Columns::Worker {
    explicit Worker(const Columns& all)
        : points(all.lab_), column(all.settled_, all.packets_, all.doors_, points) {}

    Points points;
    Column column;
    std::vector<std::uint32_t> filled;
    std::vector<std::shared_ptr<Fates>> made;
};

// First the leaders, then those that may be like them.
void Columns::fill_all(unsigned threads) {
    constexpr std::size_t stretch = 16;
    for (auto& side : columns_)
        side.resize(classes_.size());
    std::vector<std::unique_ptr<Worker>> workers;
    for (unsigned i = 0; i < threads; ++i)
        workers.push_back(std::make_unique<Worker>(*this));
    std::vector<std::uint32_t> all[2];
    for (std::uint32_t c = 0; c < classes_.size(); ++c) {
        bool follows = leader_of_[c] != nowhere && leaders_[leader_of_[c]].target != c;
        all[follows ? 1 : 0].push_back(c);
    }
    for (const std::vector<std::uint32_t>& some : all) {
        in_parallel(some.size(), stretch, threads,
                    [&](unsigned number, std::size_t first, std::size_t last) {
                        for (std::size_t i = first; i < last; ++i)
                            fill(some[i], *workers[number]);
                    });
        for (const auto& worker : workers)
            merge(*worker);
    }
}

// From now on the lists of what the worker has filled are those of all.
void Columns::merge(Worker& worker) {
    std::vector<std::uint32_t> numbers = points_.merge(worker.points);
    auto renumber = [&](Fate& fate) { fate.points = numbers[fate.points]; };
    for (const auto& fates : worker.made)
        std::ranges::for_each(*fates, renumber);
    for (std::uint32_t c : worker.filled) {
        for (auto& side : columns_)
            for (auto& [from, fate] : side[c].near)
                renumber(fate);
        if (leader_of_[c] != nowhere && leaders_[leader_of_[c]].target == c)
            for (Fates& fates : leaders_[leader_of_[c]].fates)
                std::ranges::for_each(fates, renumber);
    }
    worker.made.clear();
    worker.filled.clear();
}

void Columns::aim_at(std::uint32_t c, bool is_answer, Column& column) const {
    column.aim_at(lab_.addresses[classes_[c].first].address, is_answer);
}

Fate Columns::fate(std::uint32_t c, Doors::Place place, Column& column) const {
    Fate fate = column.fate(place);
    if (classes_[c].is_host && fate.kind == Fate::Kind::delivered && fate.door != Fate::none)
        fate.door = Fate::only;
    return fate;
}

void Columns::fill(std::uint32_t c, Worker& worker) {
    if (classes_[c].is_walked)
        return;
    worker.filled.push_back(c);
    Leader* leader = leader_of_[c] != nowhere ? &leaders_[leader_of_[c]] : nullptr;
    if (leader != nullptr && leader->target != c && follow(c, *leader, worker))
        return;
    Column& column = worker.column;
    bool differs = false;
    for (bool is_answer : {false, true}) {
        if (is_answer && !differs)
            break;
        aim_at(c, is_answer, column);
        auto fates = std::make_shared<Fates>();
        fates->reserve(entrances_.size());
        for (Doors::Place place : entrances_)
            fates->push_back(fate(c, place, column));
        worker.made.push_back(fates);
        columns_[is_answer ? 1 : 0][c].fates = std::move(fates);
        fill_near(c, is_answer, worker);
        if (leader != nullptr && leader->target == c)
            for (Doors::Place place : leader->places)
                leader->fates[is_answer ? 1 : 0].push_back(fate(c, place, column));
        differs = differs || column.differs_for_answers();
    }
    if (leader != nullptr && leader->target == c)
        leader->differs = differs;
}

// Shares what the leader has if the machines on link do with packets to both the same. False, and
// nothing done, if they do not.
bool Columns::follow(std::uint32_t c, const Leader& leader, Worker& worker) {
    Column& column = worker.column;
    for (bool is_answer : {false, true}) {
        if (is_answer && !leader.differs)
            break;
        aim_at(c, is_answer, column);
        const Fates& known = leader.fates[is_answer ? 1 : 0];
        for (std::size_t i = 0; i < leader.places.size(); ++i)
            if (!is_same(fate(c, leader.places[i], column), worker.points, known[i], points_))
                return false;
        if (column.differs_for_answers() && !leader.differs)
            return false;
    }
    for (bool is_answer : {false, true}) {
        if (is_answer && !leader.differs)
            break;
        aim_at(c, is_answer, column);
        columns_[is_answer ? 1 : 0][c].fates = columns_[is_answer ? 1 : 0][leader.target].fates;
        fill_near(c, is_answer, worker);
    }
    return true;
}

void Columns::fill_near(std::uint32_t c, bool is_answer, Worker& worker) {
    const EndClass& target = classes_[c];
    OfClass& into = columns_[is_answer ? 1 : 0][c];
    auto add = [&](std::uint32_t near, lab::AddressId sender) {
        into.near.emplace_back(near, fate(c, doors_.sender(machine(sender)), worker.column));
    };
    for (int length : host_lengths_) {
        auto hosts = hosts_.find(net::Prefix(lab_.addresses[target.first].address, length));
        if (hosts == hosts_.end())
            continue;
        for (std::uint32_t near : hosts->second)
            if (near != c)
                add(near, classes_[near].first);
            else if (target.second)
                add(near, target.second);
    }
    std::ranges::sort(into.near, {}, [](const auto& near) { return near.first; });
    into.self = fate(c, doors_.sender(machine(target.first)), worker.column);
}

} // namespace jackal::reach
