// Edits of links, tunnels, switches and peerings.
#include "jackal/plan/validate.h"
#include "plan/edit/making.h"

#include <fmt/ranges.h>

namespace jackal::plan {

namespace {

// The entry that a link stands in: `links[2]` or `tunnels[0]`. Wires between switches stand among
// the links.
struct LinkEntry {
    const Link& link;
    Place place;
};

LinkEntry link_of(const Written& plan, std::size_t number) {
    const Plan& entries = plan.entries();
    const std::span links(entries.links.data(), plan.links());
    const Link& link = item_of(links, "link", number);
    auto before = std::ranges::count_if(links.first(number), [&](const Link& other) {
        return bool(other.tunnel) == bool(link.tunnel);
    });
    if (!link.tunnel && link.at)
        before += std::ranges::count_if(entries.cables, [&](const Cable& cable) {
            return std::pair(cable.at.line, cable.at.column)
                   < std::pair(link.at.line, link.at.column);
        });
    return {link,
            Place{}.key(link.tunnel ? "tunnels" : "links").index(static_cast<std::size_t>(before))};
}

// A port by `SWITCH/PORT`.
struct PortEntry {
    const SwitchPort& port;
    Place place;
};

PortEntry port_of(const Written& plan, const std::string& name) {
    const SwitchPort* port = plan.entries().port(name);
    if (port == nullptr)
        throw Missing{fmt::format("the plan has no switch port {}", name)};
    auto [owner, own] = split_endpoint(name);
    return {*port, Place{}.key("switches").name(owner).key("ports").name(own)};
}

// A site's side of a peering; one that says nothing stands where the peering does.
struct SideEntry {
    const PeeringSide& side;
    Place place;
    Mark at;
};

SideEntry side_of(const Written& plan, std::size_t peering, const std::string& site) {
    const Peering& entry = item_of(plan.entries().peerings, "peering", peering);
    const int number = entry.side_of(site);
    if (number < 0)
        throw Missing{fmt::format("peering {} has no side {}", peering, site)};
    const PeeringSide& side = entry.sides[number];
    return {side, Place{}.key("peerings").index(peering).key(site), side.at ? side.at : entry.at};
}

std::string side_text(const std::string& border) {
    return border.empty() ? "{accept: true}" : fmt::format("{{accept: true, border: {}}}", border);
}

// `{between: [a, b], delay: 2ms}`
std::string join_text(const std::string& one, const std::string& other,
                      std::chrono::microseconds delay) {
    const double delay_ms = static_cast<double>(delay.count()) / 1000;
    return fmt::format("{{between: [{}, {}]{}}}", one, other,
                       delay_ms == 0 ? "" : fmt::format(", delay: {:g}ms", delay_ms));
}

} // namespace

Edit set_link_up(const Written& plan, std::size_t link) {
    return made(Move::set_link_up, [&] {
        const LinkEntry entry = link_of(plan, link);
        return Reversal{{set(entry.place.key("state"), "up", entry.link.at)},
                        down(entry.link.up, entry.link.at)};
    });
}

Edit set_link_mtu(const Written& plan, std::size_t link, std::uint16_t bytes) {
    return made(Move::set_link_mtu, [&] {
        const LinkEntry entry = link_of(plan, link);
        return Changes{set(entry.place.key("mtu"), fmt::format("{}", bytes), entry.link.at)};
    });
}

Edit add_link(const Written&, const std::string& first, const std::string& second,
              std::chrono::microseconds delay) {
    return made(Move::add_link, [&] {
        return Changes{add(Place{}.key("links"), join_text(first, second, delay), {})};
    });
}

Edit add_tunnel(const Written&, const std::string& first, const std::string& second) {
    return made(Move::add_tunnel, [&] {
        return Changes{add(Place{}.key("tunnels"), join_text(first, second, {}), {})};
    });
}

Edit set_port_vlan(const Written& plan, const std::string& port, std::uint16_t vlan) {
    return made(Move::set_port_vlan, [&] {
        const auto [now, place] = port_of(plan, port);
        Changes changes{set(place.key(now.is_trunk ? "native" : "vlan"), fmt::format("{}", vlan),
                            now.at, now.untagged == 0 ? "" : fmt::format("{}", now.untagged))};
        if (std::ranges::find(now.tagged, vlan) != now.tagged.end())
            changes.push_back(removal(place.key("trunk"), now.at, fmt::format("{}", vlan)));
        return changes;
    });
}

Edit allow_vlan(const Written& plan, const std::string& port, std::uint16_t vlan) {
    return made(Move::allow_vlan, [&] {
        const auto [now, place] = port_of(plan, port);
        Changes changes{add(place.key("trunk"), fmt::format("{}", vlan), now.at)};
        if (!now.is_trunk) {
            changes.push_back(removal(place.key("vlan"), now.at));
            changes.push_back(set(place.key("native"), fmt::format("{}", now.untagged), now.at));
        }
        return changes;
    });
}

Edit set_trunk(const Written& plan, const std::string& port,
               const std::vector<std::uint16_t>& vlans) {
    return made(Move::set_trunk, [&] {
        const auto [now, port_place] = port_of(plan, port);
        const Place place = port_place.key("trunk");
        Changes changes;
        for (std::uint16_t vlan : vlans)
            if (!now.carries(vlan))
                changes.push_back(add(place, fmt::format("{}", vlan), now.at));
        for (std::uint16_t vlan : now.tagged)
            if (std::ranges::find(vlans, vlan) == vlans.end())
                changes.push_back(removal(place, now.at, fmt::format("{}", vlan)));
        if (changes.empty())
            changes.push_back(set(place, fmt::format("[{}]", fmt::join(vlans, ", ")), now.at));
        return changes;
    });
}

Edit set_port_up(const Written& plan, const std::string& port, bool to) {
    return made(Move::set_port_up, [&] {
        const auto [now, place] = port_of(plan, port);
        return Reversal{{set(place.key("state"), to ? "up" : "down", now.at)},
                        down(now.up, now.at)};
    });
}

Edit set_switch_up(const Written& plan, const std::string& name) {
    return made(Move::set_switch_up, [&] {
        const Switch& entry = entry_of(plan.entries().switches, "switch", name);
        return Reversal{{set(Place{}.key("switches").name(name).key("state"), "up", entry.at)},
                        down(entry.up, entry.at)};
    });
}

Edit set_cable_up(const Written& plan, std::size_t cable, bool to) {
    return made(Move::set_cable_up, [&] {
        const Cable& entry = item_of(plan.entries().cables, "cable", cable);
        return Reversal{
            {set(Place{}.key("links").between(entry.first.value, entry.second.value).key("state"),
                 to ? "up" : "down", entry.at)},
            down(entry.up, entry.at)};
    });
}

Edit add_segment_port(const Written& plan, const std::string& owner, const std::string& name,
                      std::uint16_t vlan, const std::string& subnet) {
    return made(Move::add_segment_port, [&] {
        subnet_of(plan, subnet);
        return Changes{add(Place{}.key("switches").name(owner).key("ports").name(name),
                           fmt::format("{{vlan: {}, segment: {}}}", vlan, subnet),
                           entry_of(plan.entries().switches, "switch", owner).at)};
    });
}

Edit set_peering_up(const Written& plan, std::size_t peering) {
    return made(Move::set_peering_up, [&] {
        const Peering& entry = item_of(plan.entries().peerings, "peering", peering);
        return Reversal{{set(Place{}.key("peerings").index(peering).key("state"), "up", entry.at)},
                        down(entry.up, entry.at)};
    });
}

Edit set_peering_mtu(const Written& plan, std::size_t peering, std::uint16_t bytes) {
    return made(Move::set_peering_mtu, [&] {
        const Peering& entry = item_of(plan.entries().peerings, "peering", peering);
        return Changes{set(Place{}.key("peerings").index(peering).key("mtu"),
                           fmt::format("{}", bytes), entry.at)};
    });
}

Edit accept_peering(const Written& plan, std::size_t peering, const std::string& site,
                    const std::string& border) {
    return made(Move::accept_peering, [&] {
        const SideEntry entry = side_of(plan, peering, site);
        if (!entry.side.declared)
            return Changes{set(entry.place, side_text(border), entry.at)};
        Changes changes{
            set(entry.place.key("accept"), "true", entry.at, entry.side.accepts ? "" : "false")};
        if (entry.side.border.value.empty() && !border.empty())
            changes.push_back(set(entry.place.key("border"), border, entry.at));
        return changes;
    });
}

Edit take_relayed(const Written& plan, std::size_t peering, const std::string& site) {
    return made(Move::take_relayed, [&] {
        const SideEntry entry = side_of(plan, peering, site);
        return Changes{set(entry.place.key("relay"), "true", entry.at)};
    });
}

Edit set_peering_exit(const Written& plan, std::size_t peering, const std::string& site, Exit to) {
    return made(Move::set_peering_exit, [&] {
        const SideEntry entry = side_of(plan, peering, site);
        return Changes{set(entry.place.key("exit"), std::string(to_string(to)), entry.at)};
    });
}

Edit add_peering(const Written&, const NewSide& one, const NewSide& other) {
    return made(Move::add_peering, [&] {
        return Changes{
            add(Place{}.key("peerings"),
                fmt::format("{{between: [{}, {}], {}: {}, {}: {}}}", one.site, other.site, one.site,
                            side_text(one.border), other.site, side_text(other.border)),
                {})};
    });
}

Edit set_site_relay(const Written& plan, const std::string& site, const std::string& relay) {
    return made(Move::set_site_relay, [&] {
        return Changes{
            set(Place{}.key("sites").name(site).key("relay"), relay, site_of(plan, site).at)};
    });
}

} // namespace jackal::plan
