#include "plan/edit/making.h"

namespace jackal::plan {

const Machine& machine_of(const Written& plan, const std::string& name) {
    if (const Machine* machine = plan.machine(name))
        return *machine;
    throw Missing{fmt::format("the plan has no machine {}", name)};
}

const Subnet& subnet_of(const Written& plan, const std::string& name) {
    if (const Subnet* subnet = plan.subnet(name))
        return *subnet;
    throw Missing{fmt::format("the plan has no subnet {}", name)};
}

const Site& site_of(const Written& plan, const std::string& name) {
    if (const Site* site = plan.site(name))
        return *site;
    throw Missing{fmt::format("the plan has no site {}", name)};
}

Place place_of(const Machine& machine) {
    Place section = Place{}.key(machine.kind == MachineKind::guest ? "guests" : "routers");
    if (machine.clone_digits == 0)
        return section.name(machine.name);
    return section.one_of(machine.entry_name(), machine.name);
}

Place place_of(const Subnet& subnet) {
    return Place{}.key("subnets").name(subnet.name);
}

NicEntry nic_of(const Written& plan, const std::string& machine, std::size_t nic) {
    const Machine& entry = machine_of(plan, machine);
    return {entry, item_of(entry.nics, "NIC", nic), place_of(entry).key("nics").index(nic)};
}

} // namespace jackal::plan
