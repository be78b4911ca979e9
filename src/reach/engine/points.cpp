#include "reach/engine/points.h"

namespace jackal::reach {

using lab::MachineId;
using lab::NicId;

namespace {

void add(lab::FilterId filter, plan::Way way, std::vector<FilterCheck>& into) {
    if (filter)
        into.push_back({filter, way});
}

void add_guard(const lab::Lab& lab, lab::GuardId guard, plan::Way way,
               std::vector<FilterCheck>& into) {
    if (!guard)
        return;
    add(lab.guards[guard].subnet, way, into);
    add(lab.guards[guard].nic, way, into);
}

void add_machine(const lab::Lab& lab, MachineId machine, plan::Way way,
                 std::vector<FilterCheck>& into) {
    if (const lab::Duties* duties = lab.duties_of(machine))
        add(duties->filter, way, into);
}

} // namespace

std::size_t Points::Hash::operator()(const std::array<std::uint32_t, 3>& key) const {
    std::uint64_t sum = 0;
    for (std::uint32_t part : key) {
        sum = (sum ^ part) * 0x9e3779b97f4a7c15;
        sum ^= sum >> 29;
    }
    return sum;
}

Points::Points(const lab::Lab& lab) : lab_(&lab), filters_(lab.machines.size()) {
    for (MachineId id : lab.machines.ids()) {
        const lab::Duties* duties = lab.duties_of(id);
        filters_[id.row] = duties != nullptr && duties->filter;
    }
    for (const lab::Nic& nic : lab.nics)
        if (nic.guard)
            filters_[nic.machine.row] = true;
    lists_.push_back({}); // the empty one
}

std::uint32_t Points::with(MachineId machine, NicId in, NicId out, std::uint32_t rest) {
    if (!filters_[machine.row])
        return rest;
    return with({machine.row, in ? lab_->nics[in].guard.row : lab::GuardId::no_row,
                 lab_->nics[out].guard.row},
                !in, rest);
}

std::uint32_t Points::with(const PointKey& key, bool is_sender, std::uint32_t rest) {
    auto [point, is_new] = point_numbers_[is_sender ? 1 : 0].try_emplace(
        key, static_cast<std::uint32_t>(points_.size()));
    if (is_new) {
        Point made{.machine = {key[0]}, .is_sender = is_sender, .checks = {}};
        add_guard(*lab_, {key[1]}, plan::Way::in, made.checks);
        add_machine(*lab_, made.machine, is_sender ? plan::Way::out : plan::Way::through,
                    made.checks);
        add_guard(*lab_, {key[2]}, plan::Way::out, made.checks);
        points_.push_back(std::move(made));
        keys_.push_back(key);
    }
    auto [list, is_new_list] = list_numbers_.try_emplace(PointKey{point->second, rest, 0},
                                                         static_cast<std::uint32_t>(lists_.size()));
    if (is_new_list)
        lists_.push_back({point->second, rest});
    return list->second;
}

bool Points::is_same(std::uint32_t list, const Points& others, std::uint32_t other) const {
    while (list != 0 && other != 0) {
        std::uint32_t point = lists_[list].point;
        std::uint32_t other_point = others.lists_[other].point;
        if (keys_[point] != others.keys_[other_point]
            || points_[point].is_sender != others.points_[other_point].is_sender)
            return false;
        list = rest(list);
        other = others.rest(other);
    }
    return list == other;
}

std::vector<std::uint32_t> Points::merge(const Points& other) {
    std::vector<std::uint32_t> numbers{0};
    for (std::size_t i = 1; i < other.lists_.size(); ++i) {
        const List& list = other.lists_[i];
        numbers.push_back(
            with(other.keys_[list.point], other.points_[list.point].is_sender, numbers[list.rest]));
    }
    return numbers;
}

std::vector<FilterCheck> Points::beside(std::uint32_t list, std::uint32_t other) const {
    std::vector<FilterCheck> checks;
    for (; list != 0; list = rest(list)) {
        const Point& point = first(list);
        bool has_seen = point.is_sender;
        for (std::uint32_t seen = other; seen != 0 && !has_seen; seen = rest(seen))
            has_seen = first(seen).machine == point.machine;
        if (!has_seen)
            checks.insert(checks.end(), point.checks.begin(), point.checks.end());
    }
    return checks;
}

std::vector<FilterCheck> Points::at_end(const lab::Lab& lab, NicId in) {
    std::vector<FilterCheck> checks;
    add_guard(lab, lab.nics[in].guard, plan::Way::in, checks);
    add_machine(lab, lab.nics[in].machine, plan::Way::in, checks);
    return checks;
}

std::vector<FilterCheck> Points::at_start(const lab::Lab& lab, NicId out) {
    std::vector<FilterCheck> checks;
    add_machine(lab, lab.nics[out].machine, plan::Way::out, checks);
    add_guard(lab, lab.nics[out].guard, plan::Way::out, checks);
    return checks;
}

} // namespace jackal::reach
