#include "lab/build/building.h"

#include <fmt/format.h>

namespace jackal::lab {

namespace {

PortId port_named(const Building& b, const std::string& name) {
    return name.empty() ? PortId{} : b.ports.at(name);
}

} // namespace

void add_switches(Building& b) {
    for (const plan::Switch& entry : b.plan.switches) {
        SwitchId owner = b.lab.switches.add({.name = entry.name, .up = entry.up, .at = entry.at});
        for (const plan::SwitchPort& port : entry.ports) {
            Port row{.owner = owner,
                     .name = port.name,
                     .is_trunk = port.is_trunk,
                     .up = port.up,
                     .untagged = port.untagged,
                     .tagged = port.tagged,
                     .segment = {},
                     .at = port.at};
            if (!port.segment.value.empty())
                row.segment = b.lab.subnets[b.subnet_named(port.segment.value)].segment;
            b.ports.emplace(entry.name + "/" + port.name, b.lab.ports.add(std::move(row)));
        }
    }
    for (const plan::Cable& cable : b.plan.cables)
        b.lab.cables.add(
            {b.ports.at(cable.first.value), b.ports.at(cable.second.value), cable.up, cable.at});
}

void add_plugs(Building& b) {
    for (NicId id : b.lab.nics.ids()) {
        const auto& nics = b.plan.machines[b.lab.nics[id].machine.row].nics;
        if (b.lab.nics[id].plan_index >= nics.size())
            continue;
        const plan::Nic& nic = nics[b.lab.nics[id].plan_index];
        if (!nic.options)
            continue;
        const plan::NicOptions& options = *nic.options;
        if (!options.port.value.empty())
            b.lab.plugs.push_back({.nic = id,
                                   .port = port_named(b, options.port.value),
                                   .vlan = options.vlan,
                                   .member = {},
                                   .at = options.port.at});
        for (std::size_t i = 0; i < options.bond.size(); ++i) {
            const plan::BondMember& member = options.bond[i];
            b.lab.plugs.push_back(
                {.nic = id,
                 .port = port_named(b, member.port.value),
                 .vlan = options.vlan,
                 .member = member.name.empty() ? fmt::format("wire{}", i) : member.name,
                 .up = member.up,
                 .at = member.at});
        }
    }
}

} // namespace jackal::lab
