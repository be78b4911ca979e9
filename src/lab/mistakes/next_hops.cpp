#include "lab/mistakes/next_hops.h"

#include "jackal/lab/place.h"
#include "lab/mistakes/islands.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::lab {

using net::to_string;
using plan::Cause;
using Why = BadNextHop::Why;

namespace {

Cause cause_of(const BadNextHop& mistake) {
    if (mistake.route->is_gateway())
        return mistake.why == Why::unclaimed ? Cause::gateway_unclaimed : Cause::gateway_off_subnet;
    return mistake.why == Why::unclaimed ? Cause::next_hop_unclaimed : Cause::next_hop_off_link;
}

std::string in_tables(const Lab& lab, const BadNextHop& mistake) {
    const StaticRoute& route = *mistake.route;
    const std::string& name = lab.machines[mistake.machine].name;
    std::string what = route.is_gateway() ? fmt::format("the gateway {}", to_string(route.via))
                                          : fmt::format("the next hop {} for {}",
                                                        to_string(route.via), to_string(route.to));
    switch (mistake.why) {
    case Why::own: return fmt::format("{} is {}'s own address", what, name);
    case Why::unclaimed:
        return fmt::format("{} belongs to no machine on {}", what,
                           lab.segment_name(mistake.segment));
    default: return fmt::format("{} is on no subnet of {}", what, name);
    }
}

std::string_view why_refused(Why why) {
    switch (why) {
    case Why::own: return "is its own address";
    case Why::routed: return "is itself reached by another route";
    case Why::broadcast: return "is a broadcast address";
    case Why::off_link:
    case Why::unclaimed: break;
    }
    return "is on none of its subnets";
}

// Of a route that the kernel refused, or took and that leads nowhere.
std::string by_packet(const Lab& lab, const BadNextHop& mistake) {
    const StaticRoute& route = *mistake.route;
    const std::string& name = lab.machines[mistake.machine].name;
    if (mistake.segment)
        return fmt::format(
            "{} sends by way of {}, which {}", name, to_string(route.via),
            mistake.why == Why::own
                ? "is its own address"
                : fmt::format("no machine on {} has", lab.segment_name(mistake.segment)));
    std::string what = route.is_gateway() ? "gateway" : "next hop";
    return fmt::format("{} of {}, {}, {}, so the {} is refused", what, name, to_string(route.via),
                       why_refused(mistake.why),
                       route.to.length() == 0 ? "default route"
                                              : fmt::format("route to {}", to_string(route.to)));
}

} // namespace

Finding describe(const Lab& lab, const BadNextHop& mistake, Seen seen) {
    return {cause_of(mistake),
            Severity::error,
            lab.machines[mistake.machine].name,
            seen == Seen::in_tables ? in_tables(lab, mistake) : by_packet(lab, mistake),
            {},
            mistake.route->at};
}

Finding describe(const Lab& lab, const UnresolvedRoute& mistake, Seen seen) {
    const std::string& name = lab.machines[mistake.machine].name;
    return {
        Cause::next_hop_off_link,
        Severity::error,
        name,
        seen == Seen::in_tables
            ? fmt::format("{} shares no segment with {}, or no address family", name, mistake.via)
            : fmt::format("the next hop {} shares no segment with {}", mistake.via, name),
        {{}, fmt::format("name a machine that is on a segment of {}", name)},
        mistake.at};
}

OnLink on_link(const Lab& lab, MachineId machine, net::Address address) {
    OnLink found;
    int longest = -1;
    for (NicId nic : lab.nics_of(machine))
        for (AddressId id : lab.addresses_of(nic)) {
            const InterfaceAddress& row = lab.addresses[id];
            found.own |= row.address == address;
            if (row.prefix().contains(address) && row.length > longest) {
                longest = row.length;
                found.on_link = true;
                found.segment = lab.nics[nic].segment;
                found.nic = nic;
            }
        }
    return found;
}

namespace {

bool claimed(const Lab& lab, net::Address address, SegmentId segment) {
    return std::ranges::any_of(lab.owners_of(address), [&](const Owner& owner) {
        return lab.nics[owner.nic].segment == segment;
    });
}

// The address of a forwarding neighbour to replace a wrong next hop: one that has a NIC on
// the segment the route leads to, else the first.
std::optional<net::Address> router_towards(const Inspection& in, MachineId id,
                                           const StaticRoute& route) {
    const Lab& lab = in.lab;
    std::optional<net::Address> first;
    for (NicId own : lab.nics_of(id))
        for (NicId theirs : in.forwarding(lab.nics[own].segment)) {
            MachineId neighbour = lab.nics[theirs].machine;
            const auto* address = lab.first_address(theirs, route.to.family());
            if (neighbour == id || address == nullptr || address->address == route.via)
                continue;
            OnLink place = on_link(lab, id, address->address);
            if (place.own || place.segment != lab.nics[own].segment)
                continue;
            if (!first)
                first = address->address;
            if (route.to.length() != 0 && on_link(lab, neighbour, route.to.first()).on_link)
                return address->address;
        }
    return first;
}

void next_hop(Inspection& in, MachineId id, const StaticRoute& route) {
    if (route.origin == RouteOrigin::gateway_automatic) // said once, at the subnet
        return;
    OnLink place = on_link(in.lab, id, route.via);
    BadNextHop mistake{id, &route, Why::off_link, place.segment};
    if (place.own)
        mistake.why = Why::own;
    else if (place.on_link)
        mistake.why = Why::unclaimed;
    if (mistake.why == Why::unclaimed && claimed(in.lab, route.via, place.segment))
        return;
    Finding finding = describe(in.lab, mistake, Seen::in_tables);
    auto better = router_towards(in, id, route);
    const std::string& name = in.lab.machines[id].name;
    if (better && route.is_gateway())
        finding.remedy = {{plan::set_machine_gateway(in.lab.plan, name, better)}, ""};
    else if (better)
        finding.remedy = {{plan::set_route_via(in.lab.plan, name, route.plan_index, *better)}, ""};
    else
        finding.remedy = {{}, "name the address of a router on one of its segments"};
    in.found.push_back(std::move(finding));
}

// Gives a router's NIC there an address, if it has none at all; else a router is put there.
Remedy claim_gateway(Inspection& in, const Subnet& subnet) {
    for (NicId id : in.lab.segments[subnet.segment].nics) {
        const Nic& nic = in.lab.nics[id];
        const Machine& machine = in.lab.machines[nic.machine];
        if (machine.kind == plan::MachineKind::router && nic.address_count == 0)
            return {{plan::set_nic_address(in.lab.plan, machine.name, nic.plan_index, {},
                                           std::nullopt)},
                    ""};
    }
    return join(in, subnet);
}

} // namespace

void next_hops(Inspection& in) {
    for (const UnresolvedRoute& route : in.lab.unresolved_routes)
        in.found.push_back(describe(in.lab, route, Seen::in_tables));
    for (MachineId id : in.lab.machines.ids())
        for (RouteId route : in.lab.routes_of(id))
            next_hop(in, id, in.lab.routes[route]);
}

void subnet_gateways(Inspection& in) {
    for (const Subnet& subnet : in.lab.subnets) {
        if (!subnet.gateway_written)
            continue;
        const Segment& segment = in.lab.segments[subnet.segment];
        for (net::Family family : net::both_families) {
            const auto& gateway = subnet.gateway[family];
            const auto& prefix = segment.prefix[family];
            if (!gateway)
                continue;
            auto router = router_address(in.lab, subnet.segment, family);
            Remedy remedy{{plan::set_subnet_gateway(in.lab.plan, subnet.name, router)}, ""};
            if (!prefix || !prefix->contains(*gateway))
                in.find(Cause::gateway_off_subnet, Severity::error, subnet.name,
                        fmt::format("the gateway {} is not in {}{}", to_string(*gateway),
                                    subnet.name,
                                    prefix ? fmt::format(" ({})", to_string(*prefix)) : ""),
                        remedy, subnet.gateway_at);
            else if (!claimed(in.lab, *gateway, subnet.segment))
                in.find(Cause::gateway_unclaimed, Severity::error, subnet.name,
                        fmt::format("no machine on {} has its gateway address {}", subnet.name,
                                    to_string(*gateway)),
                        router ? remedy : claim_gateway(in, subnet), subnet.gateway_at);
        }
    }
}

} // namespace jackal::lab
