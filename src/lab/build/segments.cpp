#include "lab/build/building.h"

#include <algorithm>

namespace jackal::lab {

namespace {

std::optional<net::Address> gateway_of(const plan::Subnet& subnet,
                                       const std::optional<net::Prefix>& prefix,
                                       net::Family family) {
    using Kind = plan::SubnetGateway::Kind;
    if (subnet.gateway.kind == Kind::given) {
        for (const auto& address : subnet.gateway.given)
            if (address.value.family() == family)
                return address.value;
        return std::nullopt;
    }
    if (!prefix || subnet.gateway.kind == Kind::none)
        return std::nullopt;
    return subnet.gateway.kind == Kind::first ? prefix->first_usable() : prefix->last_usable();
}

// The subnet of its first NIC, but for ways out of its own.
const std::string& home_of(const plan::Machine& machine) {
    auto first = std::ranges::find(machine.nics, false, &plan::Nic::has_way_out);
    return (first == machine.nics.end() ? machine.nics.front() : *first).subnet.value;
}

} // namespace

Allocation choose_prefixes(const Building& b) {
    std::vector<SiteId> of_subnets;
    for (const plan::Subnet& subnet : b.plan.subnets)
        of_subnets.push_back(subnet.site ? b.site_named(subnet.site->value) : SiteId{0});
    std::vector<SiteId> of_machines;
    for (const plan::Machine& machine : b.plan.machines)
        of_machines.push_back(
            machine.nics.empty() ? SiteId{0} : of_subnets[b.subnet_named(home_of(machine)).row]);
    std::vector<SiteId> of_links;
    for (const plan::Link& link : b.plan.links) {
        MachineId first = b.machine_named(link.first.value);
        MachineId second = b.machine_named(link.second.value);
        of_links.push_back(
            of_machines[b.plan.machines[first.row].nics.empty() ? second.row : first.row]);
    }
    return allocate(b.plan, of_subnets, of_links, of_machines);
}

void add_sites(Building& b, Allocation& allocation) {
    for (const plan::Pool& pool : b.plan.pools) {
        Pool row{.name = pool.name, .space = {}};
        for (const auto& prefix : pool.space)
            row.space.push_back(prefix.value);
        b.lab.pools.add(std::move(row));
    }
    for (const auto& prefix : b.plan.outside.lan)
        b.lab.outside_lan.push_back(prefix.value);
    for (std::size_t i = 0; i < allocation.spaces.size(); ++i) {
        Site row;
        row.space = std::move(allocation.spaces[i]);
        row.space_chosen = true;
        if (i < b.plan.sites.size()) {
            row.name = b.plan.sites[i].name;
            row.space_chosen = b.plan.sites[i].space.empty();
            row.outside = b.whole.is_outside_site(i);
            row.automatic = b.plan.sites[i].automatic;
            row.at = b.plan.sites[i].at;
        }
        b.lab.sites.add(std::move(row));
    }
}

PerFamily<std::optional<net::Prefix>> prefixes_in(const PerFamily<Choice>& choice) {
    return {choice.ipv4.prefix, choice.ipv6.prefix};
}

void add_subnets(Building& b, const Allocation& allocation) {
    for (std::uint32_t i = 0; i < b.plan.subnets.size(); ++i) {
        const plan::Subnet& subnet = b.plan.subnets[i];
        Subnet row{.name = subnet.name,
                   .site = subnet.site ? b.site_named(subnet.site->value) : SiteId{0},
                   .segment = {},
                   .gateway = {},
                   .gateway_kind = subnet.gateway.kind,
                   .gateway_written = subnet.gateway.written,
                   .prefix_written = !subnet.prefixes.empty(),
                   .gateway_at = subnet.gateway.at,
                   .reserved = {},
                   .dhcp = {},
                   .hosts = subnet.hosts ? subnet.hosts->value : 0,
                   .at = subnet.at,
                   .plan_index = i,
                   .vlan = subnet.vlan,
                   .uplink = subnet.uplink,
                   .static_only = subnet.static_only,
                   .outside = b.whole.is_outside_subnet(i)};
        for (net::Family family : net::both_families)
            row.gateway[family] = gateway_of(subnet, allocation.subnets[i][family].prefix, family);
        row.segment = b.lab.segments.add({.subnet = SubnetId{i},
                                          .link = {},
                                          .loopback = {},
                                          .prefix = prefixes_in(allocation.subnets[i]),
                                          .nics = {}});
        b.lab.subnets.add(std::move(row));
    }
}

void add_totals(Building& b) {
    b.lab.limits = b.plan.limits;
    for (std::size_t i = 0; i < b.plan.machines.size(); ++i) {
        if (b.whole.is_outside(i) || b.whole.is_core(i))
            continue;
        const plan::Machine& machine = b.plan.machines[i];
        SiteId site{0};
        if (!machine.nics.empty())
            site = b.lab.subnets[b.subnet_named(home_of(machine))].site;
        Totals& totals = b.lab.sites[site].totals;
        ++totals.machines;
        totals.cpus += machine.sizes.cpus;
        totals.memory_mib += machine.sizes.memory_mib;
        totals.disk_mib += machine.sizes.disk_mib;
    }
}

void add_loopbacks(Building& b, const Allocation& allocation) {
    for (NicId id : b.lab.nics.ids())
        if (Nic& nic = b.lab.nics[id]; nic.is_loopback())
            nic.segment =
                b.lab.segments.add({.subnet = {},
                                    .link = {},
                                    .loopback = nic.machine,
                                    .prefix = prefixes_in(allocation.loopbacks[nic.machine.row]),
                                    .nics = {id}});
}

} // namespace jackal::lab
