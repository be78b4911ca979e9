#include "lab/mistakes/loops.h"

#include "lab/mistakes/next_hops.h"

#include <fmt/format.h>
#include <fmt/ranges.h>

namespace jackal::lab {

using plan::Cause;

namespace {

std::string circle(const Lab& lab, const std::vector<MachineId>& machines) {
    std::vector<std::string> names;
    for (MachineId id : machines)
        names.push_back(lab.machines[id].name);
    names.push_back(names.front());
    return fmt::format("{}", fmt::join(names, " -> "));
}

} // namespace

Finding describe(const Lab& lab, const RouteLoop& mistake, Seen seen) {
    const std::string way = circle(lab, mistake.machines);
    const std::string what = mistake.replies ? "replies" : "packets";
    const std::string by_packet =
        mistake.home ? fmt::format("{} come back to {}, which drops what bears its own address: {}",
                                   what, lab.machines[mistake.home].name, way)
                     : fmt::format("{} circle until their TTL runs out: {}", what, way);
    return {mistake.default_routes ? Cause::default_route_loop : Cause::routing_loop,
            Severity::error,
            lab.machines[mistake.culprit].name,
            seen == Seen::in_tables ? fmt::format("{} default routes lead in a circle: {}",
                                                  net::to_string(mistake.family), way)
                                    : by_packet,
            {},
            mistake.at};
}

Remedy take_out(const Lab& lab, MachineId machine, const StaticRoute& route) {
    const std::string& name = lab.machines[machine].name;
    if (route.is_gateway())
        return {{}, fmt::format("set gateway: none at {}", name)};
    return {{plan::remove_route(lab.plan, name, route.plan_index)}, ""};
}

namespace {

void follow_default(const Lab& lab, MachineId id, net::Family family, RouteId& route,
                    MachineId& next) {
    for (RouteId r : lab.routes_of(id)) {
        const StaticRoute& row = lab.routes[r];
        if (row.to != net::Prefix::everything(family))
            continue;
        SegmentId segment = on_link(lab, id, row.via).segment;
        for (const Owner& owner : lab.owners_of(row.via)) {
            MachineId there = lab.nics[owner.nic].machine;
            if (segment && lab.nics[owner.nic].segment == segment
                && lab.machines[there].forwards[family] && there != id) {
                route = r;
                next = there;
                return;
            }
        }
        return;
    }
}

void default_route_loop(Inspection& in, MachineId start, const std::vector<MachineId>& next,
                        const std::vector<RouteId>& route, net::Family family) {
    RouteLoop loop{.machines = {}, .culprit = start, .at = {}, .family = family};
    MachineId at = start;
    do {
        loop.machines.push_back(at);
        loop.culprit = at;
        at = next[at.row];
    } while (at != start);
    const StaticRoute& row = in.lab.routes[route[loop.culprit.row]];
    loop.at = row.at;
    Finding finding = describe(in.lab, loop, Seen::in_tables);
    finding.remedy = take_out(in.lab, loop.culprit, row);
    in.found.push_back(std::move(finding));
}

} // namespace

// The first default route of each machine leads to one other machine; a cycle in that is a
// loop. Each machine is looked at once.
void default_route_loops(Inspection& in) {
    const std::size_t count = in.lab.machines.size();
    for (net::Family family : net::both_families) {
        std::vector<RouteId> route(count);
        std::vector<MachineId> next(count);
        for (MachineId id : in.lab.machines.ids())
            follow_default(in.lab, id, family, route[id.row], next[id.row]);
        std::vector<std::uint32_t> walk(count, 0); // 0: not yet walked
        for (std::uint32_t start = 0; start < walk.size(); ++start) {
            MachineId at{start};
            while (at && walk[at.row] == 0) {
                walk[at.row] = start + 1;
                at = next[at.row];
            }
            if (at && walk[at.row] == start + 1)
                default_route_loop(in, at, next, route, family);
        }
    }
}

} // namespace jackal::lab
