#include "plan/validate/validation.h"

#include "jackal/plan/cause.h"
#include "jackal/plan/sites.h"
#include "jackal/plan/validate.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::plan {

namespace {

void check_policy(Validation& v, const Placed<std::string>& name) {
    if (!name.value.empty() && !v.policies.has(name.value))
        v.problem(name.at, v.policies.unknown(name.value));
}

void check_redistributions(Validation& v, const std::vector<Redistribution>& entries) {
    for (const Redistribution& entry : entries)
        check_policy(v, entry.policy);
}

// A NIC goes by its name, that of its subnet, or that of the machine at a link's other end.
void check_nics(Validation& v, const std::vector<Placed<std::string>>& names,
                const Machine& machine) {
    for (const auto& [name, at] : names) {
        auto on_subnet = [&](const Nic& nic) { return nic.subnet.value == name; };
        bool found = has_nic(v, machine, name) || (name == "lo" && machine.loopback)
                     || std::ranges::any_of(machine.nics, on_subnet)
                     || are_linked(v, machine.name, name);
        if (!found)
            v.problem(at, fmt::format("{} has no NIC \"{}\", nor one on a subnet or on a link to "
                                      "a machine of that name",
                                      machine.name, name));
    }
}

void check_bgp(Validation& v, const Bgp& bgp, const Machine& machine) {
    for (const auto& [network, at] : bgp.networks)
        if (const auto* name = std::get_if<std::string>(&network);
            name != nullptr && !v.subnets.has(*name))
            v.problem(at, v.subnets.unknown(*name));
    for (const BgpNeighbour& neighbour : bgp.neighbours) {
        if (const auto* name = std::get_if<std::string>(&neighbour.peer.value)) {
            if (!v.machines.has(*name))
                v.problem(neighbour.peer.at, v.machines.unknown(*name));
            else if (*name == machine.name)
                v.problem(neighbour.peer.at,
                          fmt::format("{} cannot be a neighbour of itself", *name));
        }
        if (neighbour.client.value && neighbour.as != bgp.as)
            v.problem(neighbour.client.at,
                      "paths are reflected inside one AS, and this neighbour is in another");
        if (!neighbour.from.value.empty())
            check_nics(v, {neighbour.from}, machine);
        check_policy(v, neighbour.takes);
        check_policy(v, neighbour.gives);
    }
    check_redistributions(v, bgp.redistribute);
}

template <class Value>
void check_values(Validation& v, const std::vector<NicValue<Value>>& values,
                  const Machine& machine) {
    for (const NicValue<Value>& entry : values)
        check_nics(v, {entry.nic}, machine);
}

// RFC 2328 section 15.
void check_virtual_link(Validation& v, const Ospf& ospf, const OspfVirtualLink& link,
                        const Machine& machine) {
    const Mark& at = link.to.at;
    auto has = [&](const std::vector<Placed<std::uint32_t>>& areas) {
        return std::ranges::find(areas, link.area, &Placed<std::uint32_t>::value) != areas.end();
    };
    if (!v.machines.has(link.to.value))
        v.problem(at, v.machines.unknown(link.to.value));
    if (link.to.value == machine.name)
        v.problem(at, "a virtual link leads to another machine");
    if (std::ranges::find(ospf.areas, link.area, &OspfArea::number) == ospf.areas.end())
        v.problem(at, fmt::format("{} has no NIC in area {}", machine.name, link.area));
    if (has(ospf.stubs) || has(ospf.nssas))
        v.problem(at, fmt::format("no virtual link goes through area {}, as it is {}", link.area,
                                  has(ospf.stubs) ? "a stub" : "an NSSA"));
}

void check_ospf(Validation& v, const Ospf& ospf, const Machine& machine) {
    std::size_t alls = 0;
    for (const OspfArea& area : ospf.areas) {
        check_nics(v, area.nics.names, machine);
        if (area.nics.all && ++alls > 1)
            v.problem(area.at, "only one area can have `all`");
    }
    check_nics(v, ospf.passive, machine);
    check_values(v, ospf.costs, machine);
    check_values(v, ospf.hello_s, machine);
    check_values(v, ospf.dead_s, machine);
    check_values(v, ospf.priorities, machine);
    check_values(v, ospf.point_to_point, machine);
    check_redistributions(v, ospf.redistribute);
    for (const OspfVirtualLink& link : ospf.virtual_links)
        check_virtual_link(v, ospf, link, machine);
}

} // namespace

void check_protocols(Validation& v, const Protocols& told, const Machine& machine) {
    if (told.ospf)
        check_ospf(v, *told.ospf, machine);
    if (told.rip) {
        check_nics(v, told.rip->nics.names, machine);
        check_nics(v, told.rip->passive, machine);
        check_values(v, told.rip->costs, machine);
        check_redistributions(v, told.rip->redistribute);
    }
    if (told.bgp)
        check_bgp(v, *told.bgp, machine);
}

} // namespace jackal::plan
