// The entries of a plan that edits name. Each throws std::out_of_range where the plan has no such
// entry.
#pragma once

#include "jackal/plan/edit.h"
#include "jackal/plan/sites.h"

#include <algorithm>
#include <fmt/format.h>
#include <stdexcept>

namespace jackal::plan {

inline const Machine& machine_of(const Plan& plan, const std::string& name) {
    if (const Machine* machine = plan.machine(name))
        return *machine;
    throw std::out_of_range(fmt::format("the plan has no machine {}", name));
}

inline const Subnet& subnet_of(const Plan& plan, const std::string& name) {
    if (const Subnet* subnet = plan.subnet(name))
        return *subnet;
    throw std::out_of_range(fmt::format("the plan has no subnet {}", name));
}

template <class T>
const T& entry_of(const std::vector<T>& entries, const char* what, const std::string& name) {
    auto found = std::ranges::find(entries, name, &T::name);
    if (found == entries.end())
        throw std::out_of_range(fmt::format("the plan has no {} {}", what, name));
    return *found;
}

template <class T>
const T& item_of(const std::vector<T>& items, const char* what, std::size_t position) {
    if (position >= items.size())
        throw std::out_of_range(fmt::format("there is no {} number {}", what, position));
    return items[position];
}

inline const SwitchPort& port_of(const Plan& plan, const std::string& name) {
    if (const SwitchPort* port = plan.port(name))
        return *port;
    throw std::out_of_range(fmt::format("the plan has no switch port {}", name));
}

/// The site whose core has that name, or null if a machine of the plan has it.
inline const Site* site_of_core(const Plan& plan, const std::string& name) {
    auto found = std::ranges::find_if(plan.sites, [&](const Site& site) {
        return site.automatic && core_name(site.name) == name;
    });
    return found == plan.sites.end() || plan.machine(name) != nullptr ? nullptr : &*found;
}

/// A machine's own routes: those of its site for a core.
inline const std::vector<Route>& routes_of(const Plan& plan, const std::string& name) {
    const Site* site = site_of_core(plan, name);
    return site == nullptr ? machine_of(plan, name).routes : site->routes;
}

inline const PeeringSide& side_of(const Plan& plan, std::size_t peering, const std::string& site) {
    const Peering& entry = item_of(plan.peerings, "peering", peering);
    const int side = entry.side_of(site);
    if (side < 0)
        throw std::out_of_range(fmt::format("peering {} has no side {}", peering, site));
    return entry.sides[side];
}

} // namespace jackal::plan
