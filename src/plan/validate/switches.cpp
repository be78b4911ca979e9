#include "plan/validate/validation.h"

#include "jackal/plan/cause.h"
#include "jackal/plan/sites.h"
#include "jackal/plan/validate.h"

#include <fmt/format.h>
#include <unordered_set>

namespace jackal::plan {

void check_switches(Validation& v) {
    for (const Switch& entry : v.plan.switches) {
        std::unordered_set<std::string_view> seen;
        for (const SwitchPort& port : entry.ports) {
            check_name(v, port.name, port.at);
            v.ports.insert(entry.name + "/" + port.name);
            if (!seen.insert(port.name).second)
                v.problem(port.at,
                          fmt::format("{} has two ports named \"{}\"", entry.name, port.name));
            const auto& segment = port.segment;
            if (!segment.value.empty() && !v.subnets.has(segment.value))
                v.problem(segment.at, v.subnets.unknown(segment.value));
            else if (!segment.value.empty())
                plug(v, entry.name + "/" + port.name, segment.at, "the segment of a subnet");
        }
    }
    for (const Cable& cable : v.plan.cables) {
        if (cable.first.value == cable.second.value)
            v.problem(cable.second.at, fmt::format("a link from {} to itself", cable.first.value));
        for (const auto* end : {&cable.first, &cable.second})
            if (check_port(v, *end))
                plug(v, end->value, end->at, "a link");
    }
}

bool check_port(Validation& v, const Placed<std::string>& port) {
    auto [name, rest] = split_endpoint(port.value);
    auto row = v.switches.row(name);
    if (!row) {
        v.problem(port.at, v.switches.unknown(name));
        return false;
    }
    if (v.ports.contains(port.value))
        return true;
    std::string near = v.ports_near.suggestion(
        rest, v.plan.switches[*row].ports,
        [](const SwitchPort& entry) -> std::string_view { return entry.name; });
    v.problem(port.at, fmt::format("{} has no port \"{}\"{}", name, rest, near));
    return false;
}

void plug(Validation& v, const std::string& port, Mark at, const std::string& what) {
    auto [known, is_new] = v.plugged.emplace(port, what);
    if (!is_new && known->second != what)
        v.problem(at, fmt::format("{} is plugged into {} already", known->second, port));
    else if (!is_new && what == "a link")
        v.problem(at, fmt::format("another link is plugged into {} already", port));
}

} // namespace jackal::plan
