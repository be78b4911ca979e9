#include "plan/edit/duties.h"

#include "plan/nic_names.h"

namespace jackal::plan {

std::vector<std::string> names_in_protocols(const Plan& plan, const Machine& machine,
                                            const std::string& nic) {
    std::vector<std::string> names{nic};
    NicNames all(plan);
    auto number = static_cast<std::size_t>(&machine - plan.machines.data());
    std::size_t position = machine.nics.size();
    for (std::size_t i = 0; i < machine.nics.size(); ++i)
        if (all.name(number, i) == nic)
            names.push_back(machine.nics[i].subnet.value);
    for (const Link& link : plan.links) {
        bool first = link.first.value == machine.name;
        if (!first && link.second.value != machine.name)
            continue;
        if (all.name(number, position++) == nic)
            names.push_back((first ? link.second : link.first).value);
    }
    return names;
}

} // namespace jackal::plan
