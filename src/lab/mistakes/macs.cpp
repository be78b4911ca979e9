#include "lab/mistakes/macs.h"

#include "jackal/lab/wiring.h"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <map>

namespace jackal::lab {

namespace {

std::string words(const Lab& lab, const DuplicateMac& mistake, Seen seen) {
    const Nic& nic = lab.nics[mistake.changed];
    std::string mac = net::to_string(nic.mac);
    if (seen == Seen::in_tables)
        return fmt::format("{} has the MAC {}, which {} on {} has too",
                           lab.nic_name(mistake.changed), mac, lab.nic_name(mistake.nics.front()),
                           lab.segment_name(nic.segment));
    std::vector<std::string> names;
    for (NicId id : mistake.nics)
        names.push_back(lab.nic_name(id));
    return fmt::format("{} have the same MAC {}, so which one gets a frame is luck",
                       fmt::join(names, " and "), mac);
}

} // namespace

Finding describe(const Lab& lab, const DuplicateMac& mistake, Seen seen) {
    const Nic& nic = lab.nics[mistake.changed];
    return {plan::Cause::duplicate_mac,
            Severity::error,
            lab.nic_name(mistake.changed),
            words(lab, mistake, seen),
            {{plan::remove_nic_mac(lab.plan, lab.machines[nic.machine].name, nic.plan_index)}, ""},
            nic.at};
}

void duplicate_macs(Inspection& in) {
    std::map<std::pair<std::uint32_t, net::Mac>, NicId> first;
    Wiring wiring(in.lab, WiringState(in.lab));
    for (NicId id : in.lab.nics.ids()) {
        const Nic& nic = in.lab.nics[id];
        if (!nic.shares_mac)
            continue;
        auto [known, is_new] = first.emplace(std::pair(wiring.domain(in.lab, id), nic.mac), id);
        if (!is_new)
            in.found.push_back(
                describe(in.lab, DuplicateMac{id, {known->second, id}}, Seen::in_tables));
    }
}

} // namespace jackal::lab
