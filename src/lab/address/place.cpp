#include "jackal/lab/place.h"

#include "allocate.h"
#include "jackal/lab/wiring.h"
#include "jackal/net/place.h"

#include <algorithm>
#include <fmt/format.h>
#include <map>
#include <numeric>

namespace jackal::lab {

std::optional<net::Prefix> free_prefix(const Lab& lab, SiteId site, net::Family family, int length,
                                       std::span<const net::Prefix> besides) {
    std::vector<net::Prefix> spaces;
    for (const net::Prefix& prefix : lab.sites[site].space)
        if (prefix.family() == family)
            spaces.push_back(prefix);
    if (spaces.empty() && family == private_space.family())
        spaces.push_back(private_space);
    net::PlaceWish wish{family, length};
    std::vector<net::Prefix> taken = lab.taken();
    taken.insert(taken.end(), besides.begin(), besides.end());
    std::ranges::sort(taken);
    return net::place(spaces, net::overlapping(taken, spaces), {&wish, 1}).prefixes.front();
}

std::optional<net::Prefix> free_space(const Lab& lab, net::Family family, int length,
                                      std::string_view words,
                                      std::span<const net::Prefix> besides) {
    std::vector<net::Prefix> taken = lab.taken();
    taken.insert(taken.end(), besides.begin(), besides.end());
    for (const Site& site : lab.sites)
        taken.insert(taken.end(), site.space.begin(), site.space.end());
    std::ranges::sort(taken);
    if (family == net::Family::ipv6) {
        net::Prefix found = net::unique_local_prefix(words);
        return net::overlapping(taken, {&found, 1}).empty() ? std::optional(found) : std::nullopt;
    }
    std::span one(&private_space, 1);
    net::PlaceWish wish{family, length};
    return net::place(one, net::overlapping(taken, one), {&wish, 1}).prefixes.front();
}

std::vector<plan::Edit> make_room(const Lab& lab, const Unplaced& unplaced) {
    if (!unplaced.site || unplaced.family != private_space.family()
        || lab.sites[unplaced.site].space_chosen)
        return {};
    auto space = free_space(lab, unplaced.family, unplaced.length, "");
    if (!space)
        return {};
    return {plan::add_site_space(lab.plan, lab.sites[unplaced.site].name, *space)};
}

std::optional<net::Address> free_address(const Lab& lab, SegmentId segment, net::Family family,
                                         std::span<const net::Address> besides) {
    const auto& prefix = lab.segments[segment].prefix[family];
    if (!prefix)
        return std::nullopt;
    const SubnetId subnet = lab.segments[segment].subnet;
    net::Address last = prefix->last_usable();
    for (net::Address a = prefix->first_usable(); a <= last && prefix->contains(a); a = a.plus(1)) {
        if (const net::Range* range = subnet ? lab.subnets[subnet].set_aside(a) : nullptr)
            a = range->last;
        else if (lab.owners_of(a).empty() && (!subnet || lab.subnets[subnet].gateway[family] != a)
                 && std::ranges::find(besides, a) == besides.end())
            return a;
    }
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
        return net::moved(a, from, to);
    }
};

} // namespace

std::vector<plan::Edit> renumber(const Lab& lab, SubnetId subnet, const net::Prefix& to) {
    const Subnet& row = lab.subnets[subnet];
    std::vector<plan::Edit> edits{plan::set_subnet_prefix(lab.plan, row.name, to)};
    const auto& old = lab.segments[row.segment].prefix[to.family()];
    if (!old)
        return edits;
    Move move{*old, to};

    if (row.gateway_kind == plan::SubnetGateway::Kind::given)
        edits.emplace_back(plan::set_subnet_gateway(lab.plan, row.name, std::nullopt));
    std::vector<MachineId> machines;
    for (NicId id : lab.segments[row.segment].nics) {
        const Nic& nic = lab.nics[id];
        if (machines.empty() || machines.back() != nic.machine)
            machines.push_back(nic.machine);
        for (AddressId a : lab.addresses_of(id))
            if (auto moved = move(lab.addresses[a].address);
                moved && lab.addresses[a].origin == AddressOrigin::given)
                edits.emplace_back(plan::set_nic_address(lab.plan, lab.machines[nic.machine].name,
                                                         nic.plan_index, lab.addresses[a].address,
                                                         *moved));
    }
    for (MachineId id : machines)
        for (RouteId r : lab.routes_of(id)) {
            const StaticRoute& route = lab.routes[r];
            auto moved = move(route.via);
            if (moved && route.origin == RouteOrigin::gateway_written)
                edits.emplace_back(
                    plan::set_machine_gateway(lab.plan, lab.machines[id].name, *moved));
            else if (moved && route.origin == RouteOrigin::written)
                edits.emplace_back(
                    plan::set_route_via(lab.plan, lab.machines[id].name, route.plan_index, *moved));
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
    return {plan::set_nic_address(lab.plan, lab.machines[nic.machine].name, nic.plan_index,
                                  owner.address, *free)};
}

std::optional<net::Address> router_address(const Lab& lab, SegmentId id, net::Family family) {
    const Segment& segment = lab.segments[id];
    for (NicId nic : segment.nics) {
        const InterfaceAddress* row = lab.first_address(nic, family);
        if (lab.machines[lab.nics[nic].machine].forwards[family] && row != nullptr
            && segment.prefix[family] && segment.prefix[family]->contains(row->address))
            return row->address;
    }
    return std::nullopt;
}

plan::Edit new_router(const Lab& lab, const std::vector<std::string>& subnets) {
    std::string stem = subnets.back().substr(0, 56); // leaves room for a number in 63 letters
    int number = 1;
    while (lab.machine(fmt::format("{}-r{}", stem, number)))
        ++number;
    return plan::add_router(lab.plan, fmt::format("{}-r{}", stem, number), subnets);
}

std::vector<std::uint32_t> islands(const Lab& lab, JoinedBy joined_by) {
    return islands(lab, [&](MachineId id) {
        return joined_by == JoinedBy::any_machine || lab.machines[id].forwards_any();
    });
}

std::vector<std::uint32_t> islands(const Lab& lab, const std::function<bool(MachineId)>& joins) {
    std::vector<std::uint32_t> parent(lab.segments.size());
    std::iota(parent.begin(), parent.end(), 0U);
    auto root = [&](std::uint32_t i) {
        while (parent[i] != i)
            i = parent[i] = parent[parent[i]];
        return i;
    };
    auto unite = [&](std::uint32_t a, std::uint32_t b) {
        a = root(a);
        b = root(b); // the lower number stays the root, so numbering follows the plan
        parent[std::max(a, b)] = std::min(a, b);
    };
    if (lab.has_wiring()) {
        Wiring wiring(lab, WiringState(lab));
        std::map<std::uint32_t, std::uint32_t> first; // segment of each domain
        for (SegmentId id : lab.segments.ids())
            unite(first.emplace(wiring.domain(id), id.row).first->second, id.row);
        for (NicId id : lab.nics.ids())
            unite(first.emplace(wiring.domain(lab, id), lab.nics[id].segment.row).first->second,
                  lab.nics[id].segment.row);
    }
    for (MachineId id : lab.machines.ids()) {
        if (!joins(id))
            continue;
        for (NicId nic : lab.nics_of(id))
            unite(lab.nics[lab.machines[id].first_nic].segment.row, lab.nics[nic].segment.row);
    }
    for (std::uint32_t i = 0; i < parent.size(); ++i)
        parent[i] = root(i);
    return parent;
}

} // namespace jackal::lab
