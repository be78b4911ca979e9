#include "plan/nic_names.h"

#include "jackal/plan/validate.h"

#include <algorithm>
#include <fmt/format.h>
#include <map>
#include <unordered_set>

namespace jackal::plan {

namespace {

// A NIC that may have a name of its own.
struct NamedNic {
    std::string written;
    std::string on; // its subnet, or its link as pins call it
};

std::vector<NamedNic> nics_written_at(const Machine& machine) {
    std::vector<NamedNic> places;
    for (const Nic& nic : machine.nics)
        places.push_back({nic.name ? *nic.name : "", nic.subnet.value});
    return places;
}

// The names of a machine's NICs: what is written goes first, then what is pinned.
std::vector<std::string> names_at(const std::vector<NamedNic>& places,
                                  const std::map<std::string, std::vector<std::string>>& pins) {
    std::vector<std::string> names;
    std::unordered_set<std::string> taken;
    for (const NamedNic& place : places)
        taken.insert(names.emplace_back(place.written));
    std::map<std::string, std::size_t> used; // pins of each subnet or link
    for (std::size_t i = 0; i < places.size(); ++i) {
        auto pin = pins.find(places[i].on);
        if (!names[i].empty() || pin == pins.end())
            continue;
        std::size_t& position = used[places[i].on];
        if (position < pin->second.size() && can_name_nic(pin->second[position])
            && taken.insert(pin->second[position]).second)
            names[i] = pin->second[position];
        ++position;
    }
    for (const auto& [on, pinned] : pins) // what is not there now keeps its names for its return
        taken.insert(pinned.begin(), pinned.end());
    std::size_t number = places.size();
    for (std::size_t i = 0; i < names.size(); ++i)
        if (names[i].empty()) {
            names[i] = fmt::format("eth{}", i);
            while (!taken.insert(names[i]).second)
                names[i] = fmt::format("eth{}", number++);
        }
    return names;
}

} // namespace

bool can_name_nic(const std::string& name) {
    return is_name(name) && name.size() <= longest_nic_name && name != "lo" && name != "all"
           && name != "default";
}

NicNames::NicNames(const Plan& plan) : plan_(plan) {
    auto names_ends = [](const Link& link) {
        return !link.nics[0].value.empty() || !link.nics[1].value.empty();
    };
    if (plan.pins.nics.empty() && std::ranges::none_of(plan.links, names_ends))
        return;
    std::unordered_map<std::string_view, std::size_t> rows;
    for (std::size_t i = 0; i < plan.machines.size(); ++i)
        rows.emplace(plan.machines[i].name, i);
    std::unordered_map<std::size_t, std::map<std::string, std::vector<std::string>>> pins;
    for (const Pins::Names& pin : plan.pins.nics)
        if (auto row = rows.find(pin.machine); row != rows.end())
            pins[row->second][pin.on] = pin.names;
    std::unordered_map<std::size_t, std::vector<NamedNic>> places;
    for (const auto& [row, pinned] : pins)
        places.emplace(row, nics_written_at(plan.machines[row]));
    for (const Link& link : plan.links)
        for (const auto* end : {&link.first, &link.second})
            if (auto row = rows.find(end->value); row != rows.end() && names_ends(link))
                places.try_emplace(row->second, nics_written_at(plan.machines[row->second]));
    LinkNamer namer;
    for (const Link& link : plan.links) {
        std::string name = namer.next(link);
        for (int end : {0, 1})
            if (auto row = rows.find((end == 0 ? link.first : link.second).value);
                row != rows.end() && places.contains(row->second))
                places[row->second].push_back({link.nics[end].value, name});
    }
    for (const auto& [row, all] : places)
        named_.emplace(row, names_at(all, pins[row]));
}

std::string NicNames::name(std::size_t machine, std::size_t position) const {
    auto found = named_.find(machine);
    if (found != named_.end() && position < found->second.size())
        return found->second[position];
    return nic_name(plan_.machines[machine], position);
}

std::string LinkNamer::next(const Link& link) {
    std::string name = fmt::format("{} -- {}", link.first.value, link.second.value);
    if (int number = ++seen_[name]; number > 1)
        name += fmt::format(" -- {}", number);
    return name;
}

std::vector<std::string> link_names(const std::vector<Link>& links) {
    LinkNamer namer;
    std::vector<std::string> names;
    for (const Link& link : links)
        names.push_back(namer.next(link));
    return names;
}

} // namespace jackal::plan
