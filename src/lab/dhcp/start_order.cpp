#include "jackal/lab/start_order.h"

#include <algorithm>
#include <map>
#include <set>

namespace jackal::lab {

namespace {

// What is outside, and the cores of sites, are there already.
bool is_started(const Machine& machine) {
    return machine.up && !machine.outside && !machine.is_core;
}

} // namespace

std::vector<Start> start_order(const Lab& lab) {
    std::map<MachineId, std::set<MachineId>> waits;
    auto wait = [&](MachineId later, MachineId earlier) {
        if (later != earlier && is_started(lab.machines[earlier]))
            waits[later].insert(earlier);
    };
    for (auto [later, earlier] : lab.starts_after)
        wait(later, earlier);
    for (const Lease& lease : lab.leases)
        if (lease.giver) {
            wait(lab.nics[lease.nic].machine, lease.giver);
            wait(lab.nics[lease.nic].machine, lab.nics[lease.server].machine);
        }
    std::map<MachineId, std::vector<MachineId>> waited_for;
    std::map<MachineId, std::size_t> left;
    std::vector<MachineId> now;
    for (MachineId id : lab.machines.ids()) {
        if (!is_started(lab.machines[id]))
            continue;
        if (waits[id].empty())
            now.push_back(id);
        else
            left.emplace(id, waits[id].size());
        for (MachineId earlier : waits[id])
            waited_for[earlier].push_back(id);
    }
    std::vector<Start> order;
    for (std::size_t round = 1; !now.empty() || !left.empty(); ++round) {
        if (now.empty()) { // they wait for each other
            now.push_back(left.begin()->first);
            left.erase(left.begin());
        }
        std::vector<MachineId> next;
        for (MachineId id : now) {
            order.push_back({id, round, {waits[id].begin(), waits[id].end()}});
            for (MachineId later : waited_for[id])
                if (auto entry = left.find(later); entry != left.end() && --entry->second == 0) {
                    next.push_back(later);
                    left.erase(entry);
                }
        }
        std::ranges::sort(next);
        now = std::move(next);
    }
    return order;
}

std::vector<MachineId> start_circle(const Lab& lab) {
    std::map<MachineId, std::vector<MachineId>> stuck; // and for whom they wait in vain
    std::set<MachineId> ready;
    for (Start& start : start_order(lab)) {
        std::erase_if(start.after, [&](MachineId earlier) { return ready.contains(earlier); });
        if (start.after.empty())
            ready.insert(start.machine);
        else
            stuck.emplace(start.machine, std::move(start.after));
    }
    if (stuck.empty())
        return {};
    std::vector<MachineId> way;
    MachineId at = stuck.begin()->first;
    for (; std::ranges::find(way, at) == way.end(); at = stuck.at(at).front())
        way.push_back(at);
    return {std::ranges::find(way, at), way.end()};
}

} // namespace jackal::lab
