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
