#include "lab/mistakes/islands.h"

#include "jackal/lab/place.h"

#include <algorithm>
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <map>
#include <set>

namespace jackal::lab {

Finding describe(const NoRouterBetween& mistake) {
    return {plan::Cause::no_router_between,
            Severity::warning,
            mistake.subject,
            fmt::format("no chain of routers joins {} to {}", mistake.one, mistake.other),
            {},
            mistake.at};
}

Remedy join(Inspection& in, const Subnet& subnet) {
    if (!in.worth_working_out())
        return {{}, "add a router to it"};
    for (const Machine& machine : in.lab.machines)
        if (machine.forwards_any() && machine.kind == plan::MachineKind::router && !machine.is_core
            && machine.nic_count != 0
            && in.wired[in.lab.nics[machine.first_nic].segment.row] != in.wired[subnet.segment.row])
            return {{plan::add_nic(in.lab.plan, machine.name, subnet.name)}, ""};
    for (const Subnet& other : in.lab.subnets)
        if (other.name != subnet.name)
            return {{new_router(in.lab, {other.name, subnet.name})}, ""};
    return {{}, "add a router to it"};
}

Remedy join(const Lab& lab, SubnetId one, SubnetId other) {
    for (auto [has, lacks] : {std::pair{one, other}, std::pair{other, one}})
        for (NicId nic : lab.segments[lab.subnets[has].segment].nics) {
            const Machine& machine = lab.machines[lab.nics[nic].machine];
            if (machine.forwards_any() && machine.kind == plan::MachineKind::router
                && !machine.is_core)
                return {{plan::add_nic(lab.plan, machine.name, lab.subnets[lacks].name)}, ""};
        }
    return {{new_router(lab, {lab.subnets[one].name, lab.subnets[other].name})}, ""};
}

namespace {

// By site: whether its subnets stand on several islands. Sites that are islands as a whole may
// be meant so in a plan with cores or peerings; elsewhere they count as split.
std::vector<bool> split_sites(const Inspection& in,
                              const std::map<std::uint32_t, std::vector<SubnetId>>& members) {
    bool meant =
        in.lab.peerings.size() != 0
        || std::ranges::any_of(in.lab.sites, [](const Site& site) { return bool(site.core); });
    std::vector<bool> split(in.lab.sites.size(), !meant);
    std::vector<std::optional<std::uint32_t>> island(in.lab.sites.size());
    for (const auto& [number, subnets] : members)
        for (SubnetId id : subnets) {
            auto& known = island[in.lab.subnets[id].site.row];
            if (known && *known != number)
                split[in.lab.subnets[id].site.row] = true;
            known = number;
        }
    return split;
}

// Outside of a lab whose machines have ways out of their own, so that none has to join it.
bool is_left_by_own_ways(const Lab& lab, const std::vector<SubnetId>& subnets) {
    auto is_own = [&](SubnetId id) { return lab.is_own_way_out(lab.subnets[id].segment); };
    return std::ranges::any_of(subnets, is_own)
           && std::ranges::all_of(subnets, [&](SubnetId id) { return lab.subnets[id].outside; });
}

} // namespace

// Runs after machines_that_do_not_forward: where such a machine, or a router that is not to, stands
// between two subnets, it is the cause, and no other router is missing.
void subnets_that_nothing_joins(Inspection& in) {
    std::set<std::string_view> told;
    for (const Finding& finding : in.found)
        if (finding.cause == plan::Cause::next_hop_does_not_forward)
            told.insert(finding.subject);
    std::vector<std::uint32_t> island = islands(in.lab, [&](MachineId id) {
        const Machine& machine = in.lab.machines[id];
        return machine.forwards_any() || machine.kind == plan::MachineKind::router
               || told.contains(machine.name);
    });
    std::map<std::uint32_t, std::vector<SubnetId>> members;
    for (SubnetId id : in.lab.subnets.ids())
        if (!in.lab.segments[in.lab.subnets[id].segment].nics.empty())
            members[island[in.lab.subnets[id].segment.row]].push_back(id);
    const std::vector<bool> is_split = split_sites(in, members);
    for (auto it = members.begin(); it != members.end(); ++it) {
        bool apart = std::ranges::any_of(
            it->second, [&](SubnetId id) { return is_split[in.lab.subnets[id].site.row]; });
        if (it == members.begin() || !apart || is_left_by_own_ways(in.lab, it->second))
            continue;
        const Subnet& first = in.lab.subnets[it->second.front()];
        std::vector<std::string> names;
        for (SubnetId id : it->second)
            names.push_back(in.lab.subnets[id].name);
        if (names.size() > 5) {
            std::string more = fmt::format("{} more", names.size() - 4);
            names.resize(4);
            names.push_back(more);
        }
        Finding finding = describe(NoRouterBetween{
            fmt::format("{}", fmt::join(names, ", ")),
            in.lab.subnets[members.begin()->second.front()].name, first.name, first.at});
        finding.remedy = join(in, first);
        in.found.push_back(std::move(finding));
    }
}

} // namespace jackal::lab
