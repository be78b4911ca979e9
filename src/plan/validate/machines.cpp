#include "plan/validate/validation.h"

#include "jackal/plan/cause.h"
#include "jackal/plan/sites.h"
#include "jackal/plan/validate.h"

#include <algorithm>
#include <fmt/format.h>
#include <set>

namespace jackal::plan {

namespace {

void check_addresses(Validation& v, const std::vector<Placed<GivenAddress>>& given) {
    std::set<net::Address> seen;
    for (const auto& [value, at] : given)
        if (!seen.insert(value.address).second)
            v.problem(at, fmt::format("{} stands here twice", net::to_string(value.address)));
}

void check_options(Validation& v, const NicOptions& options, const Machine& machine) {
    check_filter_name(v, options.filter);
    if (!options.port.value.empty() && check_port(v, options.port))
        plug(v, options.port.value, options.port.at, machine.name);
    if (!options.port.value.empty() && !options.bond.empty())
        v.problem(options.port.at, "a bond has no `port`; its members have");
    bool on_port = !options.port.value.empty();
    for (const BondMember& member : options.bond) {
        if (!member.name.empty())
            check_name(v, member.name, member.at);
        if (!member.port.value.empty() && check_port(v, member.port))
            plug(v, member.port.value, member.port.at, machine.name);
        on_port = on_port || !member.port.value.empty();
    }
    if (options.vlan != 0 && !on_port)
        v.problem(machine.at, fmt::format("a NIC of {} has `vlan`, but is on no switch port: "
                                          "nothing there knows of VLANs",
                                          machine.name));
}

void check_route(Validation& v, const Route& route, const Machine& machine) {
    if (const auto* to = std::get_if<std::string>(&route.to.value);
        to != nullptr && !to->empty() && !v.subnets.has(*to) && !v.sites.has(*to))
        v.problem(route.to.at, v.subnets.unknown(*to));
    if (const auto* via = std::get_if<std::string>(&route.via.value);
        via != nullptr && !via->empty() && !v.machines.has(*via))
        v.problem(route.via.at, v.machines.unknown(*via));
    if (route.nic && !has_nic(v, machine, route.nic->value))
        v.problem(route.nic->at,
                  fmt::format("{} has no NIC \"{}\"", machine.name, route.nic->value));
    const auto* to = std::get_if<net::Prefix>(&route.to.value);
    const auto* via = std::get_if<net::Address>(&route.via.value);
    bool has_via = via != nullptr && *via != net::Address{}; // else it was refused at reading
    if (to != nullptr && has_via && to->family() != via->family())
        v.problem(route.via.at,
                  fmt::format("an {} prefix cannot go via an {} address",
                              net::to_string(to->family()), net::to_string(via->family())));
}

void check_translated(Validation& v, net::Family family, Mark at) {
    if (family == net::Family::ipv6)
        v.problem(at, "only IPv4 addresses are translated (RFC 3022)");
}

// How many addresses and prefixes an end stands for, at most.
std::size_t size_of(const Validation& v, const Ends& end) {
    const auto* name = std::get_if<std::string>(&end);
    auto row = name == nullptr ? std::nullopt : v.machines.row(*name);
    if (!row)
        return 2;
    const Machine& machine = v.plan.machines[*row];
    std::size_t size = 2 * (nic_count(v, machine) + 1);
    for (const Nic& nic : machine.nics)
        size += nic.address.given.size();
    return size;
}

void check_ends(Validation& v, const std::vector<Placed<Ends>>& ends) {
    for (const auto& [value, at] : ends) {
        if (v.named > Validation::most_named)
            break;
        v.named += size_of(v, value);
        if (v.named > Validation::most_named)
            v.problem(at, fmt::format("rules and translations name more than {} addresses in all",
                                      Validation::most_named));
    }
    for (const auto& [value, at] : ends)
        if (const auto* name = std::get_if<std::string>(&value);
            name != nullptr && !v.machines.has(*name) && !v.subnets.has(*name))
            v.problem(at, v.machines.unknown(*name, "machine or subnet"));
}

void check_translation(Validation& v, const Translation& translation, const Machine& machine) {
    const std::string& nic = translation.nic.value;
    if (!nic.empty() && !has_nic(v, machine, nic))
        v.problem(translation.nic.at, fmt::format("{} has no NIC \"{}\"", machine.name, nic));
    check_ends(v, translation.from);
    for (const auto& [value, at] : translation.from)
        if (const auto* prefix = std::get_if<net::Prefix>(&value))
            check_translated(v, prefix->family(), at);
    if (const auto* address = std::get_if<net::Address>(&translation.to.value)) {
        if (translation.to.at)
            check_translated(v, address->family(), translation.to.at);
    } else if (const auto& name = std::get<std::string>(translation.to.value);
               !v.machines.has(name)) {
        v.problem(translation.to.at, v.machines.unknown(name));
    }
}

} // namespace

void check_machine(Validation& v, const Machine& machine) {
    for (const Nic& nic : machine.nics)
        if (!nic.subnet.value.empty() && !v.subnets.has(nic.subnet.value))
            v.problem(nic.subnet.at, v.subnets.unknown(nic.subnet.value));
    for (const Nic& nic : machine.nics) {
        check_addresses(v, nic.address.given);
        if (nic.options)
            check_options(v, *nic.options, machine);
    }
    bool named = std::ranges::any_of(machine.nics, [](const Nic& n) { return bool(n.name); });
    if (named)
        check_nic_names(v, machine);
    if (machine.loopback)
        check_pool(v, machine.loopback->pool);
    for (const Route& route : machine.routes)
        check_route(v, route, machine);
    if (machine.duties) {
        check_filter_name(v, machine.duties->filter);
        for (const Translation& translation : machine.duties->translations)
            check_translation(v, translation, machine);
        if (machine.duties->protocols)
            check_protocols(v, *machine.duties->protocols, machine);
        check_hosts(v, machine.duties->dns);
        for (const auto& other : machine.duties->starts_after) {
            if (!v.machines.has(other.value))
                v.problem(other.at, v.machines.unknown(other.value));
            else if (other.value == machine.name)
                v.problem(other.at, fmt::format("{} cannot start after itself", other.value));
        }
    }
}

void check_filter_name(Validation& v, const Placed<std::string>& name) {
    if (!name.value.empty() && !v.filters.has(name.value))
        v.problem(name.at, v.filters.unknown(name.value));
}

void check_filter(Validation& v, const Filter& filter) {
    for (const FilterRule& rule : filter.rules) {
        check_ends(v, rule.from);
        check_ends(v, rule.to);
    }
}

} // namespace jackal::plan
