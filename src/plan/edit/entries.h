// The entries of a plan that changes name. Each throws std::out_of_range where the plan has no such
// entry.
#pragma once

#include "jackal/plan/edit.h"
#include "jackal/plan/sites.h"

#include <algorithm>
#include <fmt/format.h>
#include <stdexcept>

namespace jackal::plan {

template <class PlanT>
auto& machine_of(PlanT& plan, const std::string& name) {
    if (auto* machine = plan.machine(name))
        return *machine;
    throw std::out_of_range(fmt::format("the plan has no machine {}", name));
}

template <class PlanT>
auto& subnet_of(PlanT& plan, const std::string& name) {
    if (auto* subnet = plan.subnet(name))
        return *subnet;
    throw std::out_of_range(fmt::format("the plan has no subnet {}", name));
}

template <class PlanT>
auto& site_of(PlanT& plan, const std::string& name) {
    for (auto& site : plan.sites)
        if (site.name == name)
            return site;
    throw std::out_of_range(fmt::format("the plan has no site {}", name));
}

/// The site whose core has that name, or null if a machine of the plan has it.
template <class PlanT>
auto* site_of_core(PlanT& plan, const std::string& name) {
    auto found = std::ranges::find_if(plan.sites, [&](const Site& site) {
        return site.automatic && core_name(site.name) == name;
    });
    return found == plan.sites.end() || plan.machine(name) != nullptr ? nullptr : &*found;
}

/// A machine's own routes: those of its site for a core.
template <class PlanT>
auto& routes_of(PlanT& plan, const std::string& name) {
    auto* site = site_of_core(plan, name);
    return site == nullptr ? machine_of(plan, name).routes : site->routes;
}

template <class PlanT>
auto& side_of(PlanT& plan, std::size_t peering, const std::string& site) {
    auto& entry = plan.peerings.at(peering);
    int side = entry.side_of(site);
    if (side < 0)
        throw std::out_of_range(fmt::format("peering {} has no side {}", peering, site));
    return entry.sides[side];
}

template <class PlanT>
auto& filter_of(PlanT& plan, const std::string& name) {
    for (auto& filter : plan.filters)
        if (filter.name == name)
            return filter;
    throw std::out_of_range(fmt::format("the plan has no filter {}", name));
}

template <class PlanT>
auto& port_of(PlanT& plan, const std::string& name) {
    if (auto* port = plan.port(name))
        return *port;
    throw std::out_of_range(fmt::format("the plan has no switch port {}", name));
}

template <class PlanT>
auto& switch_of(PlanT& plan, const std::string& name) {
    for (auto& entry : plan.switches)
        if (entry.name == name)
            return entry;
    throw std::out_of_range(fmt::format("the plan has no switch {}", name));
}

template <class PlanT>
auto& member_of(PlanT& plan, const SetBondMemberUp& e) {
    auto& nic = machine_of(plan, e.machine).nics.at(e.nic);
    if (!nic.options)
        throw std::out_of_range(fmt::format("NIC {} of {} is no bond", e.nic, e.machine));
    return nic.options->bond.at(e.member);
}

/// True for a machine that the plan stands for without writing it: a core, or one outside. No
/// change moves it.
bool is_made(const Plan& plan, const std::string& name);

/// The prefix length of the subnet that AddUplink adds.
constexpr unsigned uplink_length = 28;

} // namespace jackal::plan
