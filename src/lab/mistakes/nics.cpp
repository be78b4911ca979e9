#include "lab/mistakes/nics.h"

#include <fmt/format.h>

namespace jackal::lab {

using plan::Cause;

Finding describe(const Lab& lab, const MachineOff& mistake) {
    const Machine& machine = lab.machines[mistake.machine];
    return {Cause::machine_off,
            Severity::error,
            machine.name,
            fmt::format("{} is off", machine.name),
            {{plan::set_machine_up(lab.plan, machine.name)}, ""},
            machine.at};
}

Finding describe(const Lab& lab, const NicDown& mistake, Seen seen) {
    const Nic& nic = lab.nics[mistake.nic];
    const std::string& machine = lab.machines[nic.machine].name;
    std::string name = lab.nic_name(mistake.nic);
    std::string message = fmt::format("{} is down", name);
    if (seen == Seen::in_tables)
        message +=
            fmt::format(", so {} has no route to {}", machine, lab.segment_name(nic.segment));
    return {Cause::nic_down,
            Severity::warning,
            std::move(name),
            std::move(message),
            {{plan::set_nic_up(lab.plan, machine, nic.plan_index)}, ""},
            nic.at};
}

Finding describe(const Lab& lab, const BareNic& mistake) {
    const Nic& nic = lab.nics[mistake.nic];
    Remedy remedy{{plan::set_nic_address(lab.plan, lab.machines[nic.machine].name, nic.plan_index,
                                         {}, std::nullopt)},
                  ""};
    const auto& prefix = lab.segments[nic.segment].prefix;
    if (lab.segments[nic.segment].link)
        remedy = {{}, "give the link a prefix of that family"};
    else if (mistake.family ? !prefix[*mistake.family] : !prefix.ipv4 && !prefix.ipv6)
        remedy = {{},
                  fmt::format("give {} a prefix of that family", lab.segment_name(nic.segment))};
    std::string kind = mistake.family ? fmt::format("{} ", net::to_string(*mistake.family)) : "";
    return {Cause::nic_unaddressed,
            Severity::warning,
            lab.nic_name(mistake.nic),
            fmt::format("{} has no {}address on {}", lab.nic_name(mistake.nic), kind,
                        lab.segment_name(nic.segment)),
            std::move(remedy),
            nic.at};
}

plan::Edit set_mtu(const Lab& lab, NicId id, std::uint16_t bytes) {
    const Nic& nic = lab.nics[id];
    if (LinkId link = lab.segments[nic.segment].link) {
        if (PeeringId peering = lab.links[link].peering)
            return plan::set_peering_mtu(lab.plan, lab.peerings[peering].plan_index, bytes);
        return plan::set_link_mtu(lab.plan, link.row, bytes);
    }
    return plan::set_nic_mtu(lab.plan, lab.machines[nic.machine].name, nic.plan_index, bytes);
}

Finding describe(const Lab& lab, const NarrowNic& mistake) {
    const Nic& nic = lab.nics[mistake.nic];
    return {Cause::mtu_too_small,
            Severity::error,
            lab.nic_name(mistake.nic),
            fmt::format("{} has an MTU of {} bytes, and IPv6 needs {}", lab.nic_name(mistake.nic),
                        nic.mtu_bytes, ipv6_minimum_mtu_bytes),
            {{set_mtu(lab, mistake.nic, ipv6_minimum_mtu_bytes)}, ""},
            nic.at};
}

void nics_without_use(Inspection& in) {
    for (NicId id : in.lab.nics.ids()) {
        const Nic& nic = in.lab.nics[id];
        const Segment& segment = in.lab.segments[nic.segment];
        if (!nic.up)
            in.found.push_back(describe(in.lab, NicDown{id}, Seen::in_tables));
        if (nic.mtu_bytes < ipv6_minimum_mtu_bytes
            && in.lab.first_address(id, net::Family::ipv6) != nullptr)
            in.found.push_back(describe(in.lab, NarrowNic{id}));
        bool has_prefix = segment.prefix.ipv4 || segment.prefix.ipv6;
        if (nic.address_count == 0 && segment.subnet && has_prefix)
            in.found.push_back(describe(in.lab, BareNic{id, std::nullopt}));
    }
}

} // namespace jackal::lab
