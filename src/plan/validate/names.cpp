#include "plan/validate/validation.h"

#include "jackal/plan/cause.h"
#include "jackal/plan/sites.h"
#include "jackal/plan/validate.h"

#include <fmt/format.h>
#include <unordered_set>

namespace jackal::plan {

namespace {

// A host-name label that somebody may have meant who wrote that; empty if nothing is left of it.
std::string name_like(std::string_view text, std::size_t most) {
    std::string name;
    for (char c : text.substr(0, most)) {
        bool upper = c >= 'A' && c <= 'Z';
        bool plain = (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9');
        name += plain ? c : upper ? static_cast<char>(c - 'A' + 'a') : '-';
    }
    while (!name.empty() && name.back() == '-')
        name.pop_back();
    name.erase(0, std::min(name.find_first_not_of('-'), name.size()));
    return name;
}

template <class Entry>
void collect(Validation& v, const std::vector<Entry>& entries, Names<Entry>& names) {
    for (std::uint32_t i = 0; i < entries.size(); ++i) {
        check_name(v, entries[i].name, entries[i].at);
        if (!names.add(i))
            v.problem(entries[i].at,
                      fmt::format("the name \"{}\" is taken already", entries[i].name));
    }
}

} // namespace

void check_lab_name(Validation& v) {
    if (v.plan.lab.empty())
        v.problem({1, 1}, "a plan needs `lab: NAME`");
    else
        check_name(v, v.plan.lab, {1, 1});
}

void check_name(Validation& v, std::string_view name, Mark at, std::size_t most) {
    if (is_name(name) && name.size() <= most)
        return;
    v.problem(at, fmt::format("the name \"{}\" is not a host-name label: a-z, 0-9 and inner "
                              "hyphens, at most {} of them{}",
                              name.substr(0, 80), most, did_you_mean(name_like(name, most))));
}

void collect_names(Validation& v) {
    collect(v, v.plan.sites, v.sites);
    collect(v, v.plan.pools, v.pools);
    collect(v, v.plan.subnets, v.subnets);
    collect(v, v.plan.machines, v.machines);
    collect(v, v.plan.filters, v.filters);
    collect(v, v.plan.policies, v.policies);
    collect(v, v.plan.switches, v.switches);
    for (const Switch& entry : v.plan.switches)
        if (v.machines.has(entry.name))
            v.problem(entry.at, fmt::format("the name \"{}\" is that of a machine", entry.name));
}

void count_link_nics(Validation& v) {
    for (const Link& link : v.plan.links)
        for (const auto* end : {&link.first, &link.second})
            if (auto row = v.machines.row(end->value))
                ++v.link_nics[*row];
}

std::size_t nic_count(const Validation& v, const Machine& machine) {
    return machine.nics.size()
           + v.link_nics[static_cast<std::size_t>(&machine - v.plan.machines.data())];
}

bool has_nic(Validation& v, const Machine& machine, std::string_view name) {
    if (name == "lo" && machine.loopback)
        return true;
    std::size_t count = nic_count(v, machine);
    constexpr std::size_t few = 16; // for which an index is not worth making
    if (count <= few) {
        for (std::size_t i = 0; i < count; ++i)
            if (v.name_of(machine, i) == name)
                return true;
        return false;
    }
    auto [index, is_new] = v.many_names.try_emplace(&machine);
    for (std::size_t i = 0; is_new && i < count; ++i)
        index->second.insert(v.name_of(machine, i));
    return index->second.contains(std::string(name));
}

void check_nic_name(Validation& v, const std::string& name, Mark at) {
    check_name(v, name, at, longest_nic_name);
    if (name == "lo" || name == "all" || name == "default")
        v.problem(at, fmt::format("a NIC cannot be named \"{}\": Linux uses the name", name));
}

void check_nic_names(Validation& v, const Machine& machine) {
    std::unordered_set<std::string> seen;
    for (std::size_t i = 0; i < nic_count(v, machine); ++i) {
        std::string name = v.name_of(machine, i);
        Mark at = i < machine.nics.size() ? machine.nics[i].at : machine.at;
        if (i < machine.nics.size()) // links look at theirs
            check_nic_name(v, name, at);
        if (!seen.insert(name).second)
            v.problem(at, fmt::format("{} has two NICs named \"{}\"", machine.name, name));
    }
}

bool are_linked(Validation& v, const std::string& one, const std::string& other) {
    if (v.linked.empty())
        for (const Link& link : v.plan.links) {
            v.linked.emplace(link.first.value, link.second.value);
            v.linked.emplace(link.second.value, link.first.value);
        }
    return v.linked.contains(std::pair<std::string_view, std::string_view>(one, other));
}

} // namespace jackal::plan
