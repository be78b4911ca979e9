#include "lab/address/assignment.h"

#include "jackal/plan/outside.h"

#include <algorithm>
#include <map>

namespace jackal::lab {

namespace {

// The addresses of a pin go to the machine's automatic NICs on the subnet, in their order.
void take_pins(Assignment& a) {
    struct Pin {
        PerFamily<std::vector<net::Address>> chosen;
        std::size_t position = 0;
    };
    std::map<std::pair<MachineId, SegmentId>, Pin> pins;
    for (const auto& pin : a.plan.pins.machines) {
        auto machine = a.lab.machine(pin.machine);
        auto subnet = a.lab.subnet(pin.subnet);
        if (!machine || !subnet)
            continue;
        Pin& entry = pins[{*machine, a.lab.subnets[*subnet].segment}];
        for (const auto& address : pin.chosen)
            entry.chosen[address.value.family()].push_back(address.value);
    }
    for (NicId id : a.lab.nics.ids()) {
        if (pins.empty())
            return;
        const Nic& nic = a.lab.nics[id];
        const plan::NicAddress* written = written_address(a, nic);
        auto found = pins.find({nic.machine, nic.segment});
        if (found == pins.end() || written == nullptr
            || written->kind != plan::NicAddress::Kind::automatic)
            continue;
        auto& [chosen, position] = found->second;
        for (net::Family family : net::both_families)
            if (const auto& prefix = a.lab.segments[nic.segment].prefix[family];
                prefix && position < chosen[family].size()
                && prefix->contains(chosen[family][position])) {
                a.pins[id][family] = chosen[family][position];
                a.written.emplace_back(nic.segment, chosen[family][position]);
            }
        ++position;
    }
}

} // namespace

bool is_written(const Assignment& a, SegmentId segment, net::Address address) {
    return std::ranges::binary_search(a.written, Assignment::Written{segment, address});
}

const plan::NicAddress* written_address(const Assignment& a, const Nic& nic) {
    const plan::Machine& machine = a.plan.machines[nic.machine.row];
    return nic.plan_index < machine.nics.size() ? &machine.nics[nic.plan_index].address : nullptr;
}

void collect_written(Assignment& a) {
    for (const Nic& nic : a.lab.nics)
        if (const plan::NicAddress* written = written_address(a, nic))
            for (const auto& given : written->given)
                a.written.emplace_back(nic.segment, given.value.address);
    for (const Subnet& subnet : a.lab.subnets)
        for (net::Family family : net::both_families)
            if (has_gateway_unwritten(a, subnet) && subnet.gateway[family])
                a.written.emplace_back(subnet.segment, *subnet.gateway[family]);
    take_pins(a);
    std::ranges::sort(a.written);
}

std::optional<net::Address> pinned(const Assignment& a, NicId id, net::Family family) {
    auto found = a.pins.find(id);
    return found == a.pins.end() ? std::nullopt : found->second[family];
}

bool has_gateway_unwritten(const Assignment& a, const Subnet& subnet) {
    return plan::has_gateway_outside(subnet.uplink)
           || (a.lab.sites[subnet.site].core && a.plan.subnets[subnet.plan_index].joined);
}

} // namespace jackal::lab
