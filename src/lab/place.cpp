#include "jackal/lab/place.h"

#include "jackal/net/free_space.h"

#include <algorithm>
#include <fmt/format.h>
#include <numeric>

namespace jackal::lab {

namespace {

const net::Prefix private_space(net::Address::ipv4(10U << 24), 8); // RFC 1918

} // namespace

std::optional<net::Prefix> free_prefix(const Lab& lab, SiteId site, net::Family family,
                                       int length) {
    net::FreeSpace free;
    bool own_space = false;
    for (const net::Prefix& prefix : lab.sites[site].space) {
        if (prefix.family() != family)
            continue;
        own_space = true;
        free.remove(prefix);
        free.add(prefix);
    }
    if (!own_space && family == net::Family::ipv4)
        free.add(private_space);
    for (const Segment& segment : lab.segments)
        if (const auto& prefix = segment.prefix[family])
            free.remove(*prefix);
    return free.take(family, length);
}

std::vector<plan::Edit> make_room(const Lab& lab, const Unplaced& unplaced) {
    if (!unplaced.site || unplaced.family != private_space.family()
        || lab.sites[unplaced.site].name.empty())
        return {};
    net::FreeSpace free;
    free.add(private_space);
    for (const Site& site : lab.sites)
        for (const net::Prefix& prefix : site.space)
            if (prefix.overlaps(private_space))
                free.remove(prefix);
    for (const Segment& segment : lab.segments)
        if (segment.prefix.ipv4 && segment.prefix.ipv4->overlaps(private_space))
            free.remove(*segment.prefix.ipv4);
    auto space = free.take(unplaced.family, unplaced.length);
    if (!space)
        return {};
    return {plan::AddSiteSpace{lab.sites[unplaced.site].name, *space}};
}

std::optional<net::Address> free_address(const Lab& lab, SegmentId segment, net::Family family) {
    const auto& prefix = lab.segments[segment].prefix[family];
    if (!prefix)
        return std::nullopt;
    std::optional<net::Address> gateway;
    if (SubnetId subnet = lab.segments[segment].subnet)
        gateway = lab.subnets[subnet].gateway[family];
    net::Address last = prefix->last_usable();
    for (net::Address a = prefix->first_usable(); a <= last && prefix->contains(a); a = a.plus(1))
        if (a != gateway && lab.owners_of(a).empty())
            return a;
    return std::nullopt;
}

namespace {

// Moves addresses from one prefix to the same place in another.
struct Move {
    net::Prefix from;
    net::Prefix to;

    std::optional<net::Address> operator()(net::Address a) const {
        if (!from.contains(a))
            return std::nullopt;
        return to.first().plus(a.low() - from.first().low());
    }
};

} // namespace

std::vector<plan::Edit> renumber(const Lab& lab, SubnetId subnet, const net::Prefix& to) {
    const Subnet& row = lab.subnets[subnet];
    std::vector<plan::Edit> edits{plan::SetSubnetPrefix{row.name, to}};
    const auto& old = lab.segments[row.segment].prefix[to.family()];
    if (!old)
        return edits;
    Move move{*old, to};

    if (row.gateway_kind == plan::SubnetGateway::Kind::given)
        edits.emplace_back(plan::SetSubnetGateway{row.name, std::nullopt});
    std::vector<MachineId> machines;
    for (NicId id : lab.segments[row.segment].nics) {
        const Nic& nic = lab.nics[id];
        if (machines.empty() || machines.back() != nic.machine)
            machines.push_back(nic.machine);
        for (AddressId a : lab.addresses_of(id))
            if (auto moved = move(lab.addresses[a].address);
                moved && lab.addresses[a].origin == AddressOrigin::given)
                edits.emplace_back(plan::SetNicAddress{lab.machines[nic.machine].name,
                                                       nic.plan_index, lab.addresses[a].address,
                                                       *moved});
    }
    for (MachineId id : machines)
        for (RouteId r : lab.routes_of(id)) {
            const StaticRoute& route = lab.routes[r];
            auto moved = move(route.via);
            if (moved && route.origin == RouteOrigin::gateway_written)
                edits.emplace_back(plan::SetMachineGateway{lab.machines[id].name, *moved});
            else if (moved && route.origin == RouteOrigin::written)
                edits.emplace_back(
                    plan::SetRouteVia{lab.machines[id].name, route.plan_index, *moved});
        }
    return edits;
}

std::vector<plan::Edit> readdress(const Lab& lab, const Owner& owner) {
    const Nic& nic = lab.nics[owner.nic];
    auto free = free_address(lab, nic.segment, owner.address.family());
    bool written = false;
    for (AddressId id : lab.addresses_of(owner.nic))
        written |= lab.addresses[id].address == owner.address
                   && lab.addresses[id].origin == AddressOrigin::given;
    if (!written || !free)
        return {};
    return {
        plan::SetNicAddress{lab.machines[nic.machine].name, nic.plan_index, owner.address, *free}};
}

std::optional<net::Address> router_address(const Lab& lab, SegmentId id, net::Family family) {
    const Segment& segment = lab.segments[id];
    for (NicId nic : segment.nics) {
        const InterfaceAddress* row = lab.first_address(nic, family);
        if (lab.machines[lab.nics[nic].machine].forwards && row != nullptr && segment.prefix[family]
            && segment.prefix[family]->contains(row->address))
            return row->address;
    }
    return std::nullopt;
}

plan::AddRouter new_router(const Lab& lab, std::vector<std::string> subnets) {
    std::string stem = subnets.back().substr(0, 56); // leaves room for a number in 63 letters
    int number = 1;
    while (lab.machine(fmt::format("{}-r{}", stem, number)))
        ++number;
    return {fmt::format("{}-r{}", stem, number), std::move(subnets)};
}

std::vector<std::uint32_t> islands(const Lab& lab, JoinedBy joined_by) {
    std::vector<std::uint32_t> parent(lab.segments.size());
    std::iota(parent.begin(), parent.end(), 0U);
    auto root = [&](std::uint32_t i) {
        while (parent[i] != i)
            i = parent[i] = parent[parent[i]];
        return i;
    };
    for (MachineId id : lab.machines.ids()) {
        if (joined_by == JoinedBy::forwarding_machines && !lab.machines[id].forwards)
            continue;
        std::optional<std::uint32_t> first;
        for (NicId nic : lab.nics_of(id)) {
            std::uint32_t here = root(lab.nics[nic].segment.row);
            if (first) // the lower number stays the root, so numbering follows the plan
                parent[std::max(root(*first), here)] = std::min(root(*first), here);
            first = root(here);
        }
    }
    for (std::uint32_t i = 0; i < parent.size(); ++i)
        parent[i] = root(i);
    return parent;
}

} // namespace jackal::lab
