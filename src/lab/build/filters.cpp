#include "jackal/lab/peering.h"
#include "lab/build/building.h"

#include <algorithm>
#include <map>

namespace jackal::lab {

namespace {

// None for the empty name of what has no filter.
FilterId filter_named(const Building& b, std::string_view name) {
    auto row = b.whole.filter(name);
    return row ? FilterId{*row} : FilterId{};
}

std::optional<net::Address> address_of(const Building& b, MachineId own, const plan::Host& host) {
    if (const auto* address = std::get_if<net::Address>(&host))
        return *address;
    const InterfaceAddress* found = nullptr;
    for (NicId nic : b.lab.nics_of(b.machine_named(std::get<std::string>(host)))) {
        const InterfaceAddress* row = b.lab.first_address(nic, net::Family::ipv4);
        bool shared = false;
        for (NicId other : b.lab.nics_of(own))
            shared |= b.lab.nics[other].segment == b.lab.nics[nic].segment;
        if (row != nullptr && (found == nullptr || shared))
            found = row;
        if (row != nullptr && shared)
            break;
    }
    if (found == nullptr)
        return std::nullopt;
    return found->address;
}

std::vector<net::Address> name_servers(const Building& b, MachineId id) {
    std::vector<net::Address> servers;
    if (const auto& duties = b.plan.machines[id.row].duties)
        for (const auto& server : duties->dns)
            if (auto address = address_of(b, id, server.value))
                servers.push_back(*address);
    if (!b.lab.leases.empty())
        for (NicId nic : b.lab.nics_of(id))
            if (const Lease* lease = b.lab.lease_of(nic))
                servers.insert(servers.end(), lease->dns.begin(), lease->dns.end());
    return servers;
}

// The named machine's first IPv4 address, best one on a segment that both share.
std::optional<net::Address> translated_to(const Building& b, MachineId own,
                                          const plan::Translation& entry) {
    if (entry.kind == plan::Translation::Kind::source)
        return std::nullopt;
    return address_of(b, own, entry.to.value);
}

} // namespace

std::vector<net::Prefix> prefixes_of(const Building& b, const plan::Ends& ends) {
    if (const auto* prefix = std::get_if<net::Prefix>(&ends))
        return {*prefix};
    const auto& name = std::get<std::string>(ends);
    std::vector<net::Prefix> prefixes;
    if (b.whole.machine(name)) {
        for (NicId nic : b.lab.nics_of(b.machine_named(name)))
            for (AddressId id : b.lab.addresses_of(nic)) {
                net::Address address = b.lab.addresses[id].address;
                prefixes.emplace_back(address, net::address_bits(address.family()));
            }
        return prefixes;
    }
    const Segment& segment = b.lab.segments[b.lab.subnets[b.subnet_named(name)].segment];
    for (net::Family family : net::both_families)
        if (const auto& prefix = segment.prefix[family])
            prefixes.push_back(*prefix);
    return prefixes;
}

std::vector<net::Prefix> prefixes_of(const Building& b,
                                     const std::vector<plan::Placed<plan::Ends>>& ends) {
    std::vector<net::Prefix> all;
    for (const auto& end : ends) {
        std::vector<net::Prefix> some = prefixes_of(b, end.value);
        all.insert(all.end(), some.begin(), some.end());
    }
    return all;
}

std::vector<net::Prefix> prefixes_of(const Building& b, const plan::Route::Target& target) {
    if (const auto* prefix = std::get_if<net::Prefix>(&target))
        return {*prefix};
    const auto* name = std::get_if<std::string>(&target);
    if (name == nullptr)
        return {net::Prefix::everything(net::Family::ipv4),
                net::Prefix::everything(net::Family::ipv6)};
    if (!b.whole.subnet(*name))
        return ranges_of(b.lab, b.site_named(*name));
    std::vector<net::Prefix> prefixes;
    const Subnet& subnet = b.lab.subnets[b.subnet_named(*name)];
    for (net::Family family : net::both_families)
        if (const auto& prefix = b.lab.segments[subnet.segment].prefix[family])
            prefixes.push_back(*prefix);
    return prefixes;
}

void add_filters(Building& b) {
    std::size_t entries_left = RuleIndex::most_entries;
    for (std::uint32_t i = 0; i < b.plan.filters.size(); ++i) {
        const plan::Filter& filter = b.plan.filters[i];
        Filter row{.name = filter.name,
                   .allows = filter.allows,
                   .rules = {},
                   .index = {},
                   .at = filter.at,
                   .default_at = filter.default_at,
                   .plan_index = i};
        for (const plan::FilterRule& rule : filter.rules)
            row.rules.push_back({.allows = rule.allows,
                                 .way = rule.way,
                                 .protocol = rule.protocol,
                                 .from = prefixes_of(b, rule.from),
                                 .to = prefixes_of(b, rule.to),
                                 .any_from = rule.from.empty(),
                                 .any_to = rule.to.empty(),
                                 .ports = rule.ports,
                                 .at = rule.at});
        row.index = RuleIndex(row.rules, entries_left);
        b.lab.filters.add(std::move(row));
    }
}

void add_guards(Building& b) {
    if (b.plan.filters.empty())
        return;
    std::map<Guard, GuardId> known;
    for (NicId id : b.lab.nics.ids()) {
        Nic& nic = b.lab.nics[id];
        const plan::Machine& machine = b.plan.machines[nic.machine.row];
        if (nic.plan_index >= machine.nics.size()) // of a link, or the loopback
            continue;
        const plan::Nic& entry = machine.nics[nic.plan_index];
        Guard guard;
        if (machine.kind == plan::MachineKind::guest)
            guard.subnet = filter_named(
                b, b.plan.subnets[b.subnet_named(entry.subnet.value).row].filter.value);
        if (entry.options)
            guard.nic = filter_named(b, entry.options->filter.value);
        if (guard == Guard{})
            continue;
        auto [row, is_new] = known.emplace(guard, GuardId{});
        if (is_new)
            row->second = b.lab.guards.add(guard);
        nic.guard = row->second;
    }
}

void add_duties(Building& b) {
    const plan::Duties none;
    for (MachineId id : b.lab.machines.ids()) {
        const auto& written = b.plan.machines[id.row].duties;
        const plan::Duties& duties = written ? *written : none;
        Duties row{.filter = filter_named(b, duties.filter.value),
                   .translations = {},
                   .listens = {},
                   .dns = name_servers(b, id)};
        if (!row.filter && duties.translations.empty() && duties.listens.empty() && row.dns.empty())
            continue;
        for (const plan::Translation& entry : duties.translations) {
            row.translations.push_back({.kind = entry.kind,
                                        .nic = *b.lab.nic(id, entry.nic.value),
                                        .any_source = entry.from.empty(),
                                        .from = prefixes_of(b, entry.from),
                                        .protocol = entry.protocol,
                                        .port = entry.port,
                                        .to = translated_to(b, id, entry),
                                        .to_port = entry.to_port,
                                        .at = entry.at});
            std::erase_if(row.translations.back().from, [](const net::Prefix& prefix) {
                return prefix.family() == net::Family::ipv6;
            });
        }
        for (const auto& service : duties.listens)
            row.listens.push_back(service.value);
        b.lab.machines[id].duties = b.lab.duties.add(std::move(row));
    }
}

} // namespace jackal::lab
