#include "lab/build/building.h"

#include <algorithm>

namespace jackal::lab {

namespace {

PeeringId peering_of(const Building& b, std::uint32_t link) {
    auto peering = b.whole.peering_of(link);
    return peering ? PeeringId{*peering} : PeeringId{};
}

std::uint16_t inner_mtu(std::uint16_t outer, net::Family family) {
    constexpr unsigned least = 68; // RFC 791
    unsigned overhead = tunnel_overhead_bytes(family);
    return static_cast<std::uint16_t>(outer > least + overhead ? outer - overhead : least);
}

// The NIC that a tunnel's outer packets leave by: the one named, or the first with an address
// that is no tunnel itself.
NicId outer_nic(const Building& b, NicId inner, const std::string& name, net::Family family) {
    for (NicId nic : b.lab.nics_of(b.lab.nics[inner].machine)) {
        LinkId link = b.lab.segments[b.lab.nics[nic].segment].link;
        bool is_meant = name.empty() ? !(link && b.lab.links[link].is_tunnel)
                                     : b.lab.nics[nic].name == name && nic != inner;
        if (is_meant && b.lab.first_address(nic, family) != nullptr)
            return nic;
    }
    return {};
}

} // namespace

void add_links(Building& b, const Allocation& allocation) {
    for (std::uint32_t i = 0; i < b.plan.links.size(); ++i) {
        const plan::Link& link = b.plan.links[i];
        auto [first, second] = b.link_nics[i];
        SegmentId segment =
            b.lab.segments.add({.subnet = {},
                                .link = LinkId{i},
                                .loopback = {},
                                .prefix = prefixes_in(allocation.links[i]),
                                .nics = {std::min(first, second), std::max(first, second)}});
        b.lab.nics[first].segment = segment;
        b.lab.nics[second].segment = segment;
        b.lab.links.add({.first = first,
                         .second = second,
                         .segment = segment,
                         .peering = peering_of(b, i),
                         .delay = link.delay,
                         .jitter = link.jitter,
                         .loss = link.loss,
                         .outer = {},
                         .up = link.up,
                         .is_tunnel = bool(link.tunnel),
                         .at = link.at});
    }
}

void add_peerings(Building& b) {
    for (std::uint32_t i = 0; i < b.plan.peerings.size(); ++i) {
        const plan::Peering& peering = b.plan.peerings[i];
        Peering row{
            .sites = {b.site_named(peering.first.value), b.site_named(peering.second.value)},
            .sides = {peering.sides[0], peering.sides[1]},
            .state = plan::state_of(b.plan, peering),
            .overlaps = {},
            .link = {},
            .at = peering.at,
            .plan_index = i};
        if (row.state == plan::PeeringState::blocked)
            row.overlaps = plan::overlaps(b.plan, peering);
        const plan::Site& one = b.plan.sites[row.sites[0].row];
        const plan::Site& other = b.plan.sites[row.sites[1].row];
        plan::Distance regions = plan::distance(b.plan, one, other);
        row.delay = peering.delay.value_or(*regions.delay);
        row.hourly_cost = peering.hourly_cost.value_or(*regions.peering_cost);
        row.within_region = one.region == other.region;
        b.lab.peerings.add(std::move(row));
    }
    for (LinkId id : b.lab.links.ids()) // that of the borders comes first
        if (PeeringId peering = b.lab.links[id].peering; peering && !b.lab.peerings[peering].link)
            b.lab.peerings[peering].link = id;
    for (SiteId id : b.lab.sites.ids()) {
        if (id.row >= b.plan.sites.size())
            continue;
        const plan::Site& site = b.plan.sites[id.row];
        if (!site.relay.value.empty())
            b.lab.sites[id].relay = b.machine_named(site.relay.value);
        if (site.automatic)
            if (auto core = b.whole.machine(plan::core_name(site.name)))
                b.lab.sites[id].core = MachineId{*core};
    }
}

void lay_tunnels(Building& b) {
    for (LinkId id : b.lab.links.ids()) {
        Link& link = b.lab.links[id];
        if (!link.is_tunnel)
            continue;
        const plan::Tunnel& tunnel = *b.plan.links[id.row].tunnel;
        for (net::Family family : net::both_families) {
            NicId first = outer_nic(b, link.first, tunnel.over[0].value, family);
            NicId second = outer_nic(b, link.second, tunnel.over[1].value, family);
            if (!first || !second)
                continue;
            link.outer = std::array{b.lab.first_address(first, family)->address,
                                    b.lab.first_address(second, family)->address};
            if (!b.plan.links[id.row].mtu_bytes)
                for (auto [nic, under] : {std::pair{link.first, first}, {link.second, second}})
                    b.lab.nics[nic].mtu_bytes = inner_mtu(b.lab.nics[under].mtu_bytes, family);
            break;
        }
    }
}

} // namespace jackal::lab
