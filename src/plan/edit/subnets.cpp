// Edits of sites, subnets, their DHCP, and filters.
#include "jackal/plan/validate.h"
#include "plan/edit/making.h"
#include "plan/fields/codecs.h"

namespace jackal::plan {

namespace {

// The prefix length of the subnet that add_uplink adds.
constexpr unsigned uplink_length = 28;

// Has a part of one prefix be the same part of another.
void move_part(Region& part, const net::Prefix& from, const net::Prefix& to) {
    auto* range = std::get_if<net::Range>(&part);
    if (range == nullptr || !from.contains(range->first) || !from.contains(range->last))
        return;
    *range = {net::moved(range->first, from, to), net::moved(range->last, from, to)};
}

void move_parts(Subnet& subnet, const net::Prefix& from, const net::Prefix& to) {
    for (auto& part : subnet.reserve)
        move_part(part.value, from, to);
    if (!subnet.dhcp)
        return;
    if (subnet.dhcp->range)
        move_part(subnet.dhcp->range->value, from, to);
    for (auto& part : subnet.dhcp->exclude)
        move_part(part.value, from, to);
    for (Reservation& reservation : subnet.dhcp->reservations)
        move_part(reservation.address.value, from, to);
    if (auto& router = subnet.dhcp->router; router && from.contains(router->value))
        router->value = net::moved(router->value, from, to);
}

// The parts of a subnet that are others once one prefix takes the place of another.
class MovedParts {
  public:
    MovedParts(const Subnet& before, const net::Prefix& from, const net::Prefix& to,
               const Place& subnet) {
        Subnet after = before;
        move_parts(after, from, to);
        add_list(before.reserve, after.reserve, subnet.key("reserve"));
        if (!before.dhcp)
            return;
        const DhcpRange& old = *before.dhcp;
        const DhcpRange& now = *after.dhcp;
        Place dhcp = subnet.key("dhcp");
        if (old.range)
            add(dhcp.key("range"), old.range->at, Stretch::text(old.range->value),
                Stretch::text(now.range->value));
        add_list(old.exclude, now.exclude, dhcp.key("exclude"));
        for (std::size_t i = 0; i < old.reservations.size(); ++i) {
            const auto& client = old.reservations[i].client;
            const auto* name = std::get_if<std::string>(&client);
            add(dhcp.key("reservations")
                    .name(name != nullptr ? *name : net::to_string(std::get<net::Mac>(client))),
                old.reservations[i].at, Stretch::text(old.reservations[i].address.value),
                Stretch::text(now.reservations[i].address.value));
        }
        if (old.router)
            add(dhcp.key("router"), old.router->at, net::to_string(old.router->value),
                net::to_string(now.router->value));
    }

    Changes changes;

  private:
    void add_list(const std::vector<Placed<Region>>& before,
                  const std::vector<Placed<Region>>& after, const Place& place) {
        for (std::size_t i = 0; i < before.size(); ++i)
            add(before.size() == 1 ? place : place.index(i), before[i].at,
                Stretch::text(before[i].value), Stretch::text(after[i].value));
    }
    void add(Place place, Mark at, const std::string& before, const std::string& now) {
        if (before != now)
            changes.push_back(set(std::move(place), now, at, before));
    }
};

Place rules_of(const std::string& filter) {
    return Place{}.key("filters").name(filter).key("rules");
}

} // namespace

Edit add_site_space(const Written& plan, const std::string& site, const net::Prefix& space) {
    return made(Move::add_site_space, [&] {
        return Changes{add(Place{}.key("sites").name(site).key("space"), net::to_string(space),
                           site_of(plan, site).at)};
    });
}

Edit set_site_space(const Written& plan, const std::string& site, const net::Prefix& from,
                    const net::Prefix& to) {
    return made(Move::set_site_space, [&] {
        return Changes{set(Place{}.key("sites").name(site).key("space"), net::to_string(to),
                           site_of(plan, site).at, net::to_string(from))};
    });
}

Edit set_subnet_prefix(const Written& plan, const std::string& subnet, const net::Prefix& to) {
    const Subnet* entry = plan.subnet(subnet);
    const bool has_one = entry != nullptr && plan.has_prefixes(*entry);
    return made(has_one ? Move::set_subnet_prefix : Move::give_subnet_prefix, [&] {
        const Subnet& now = subnet_of(plan, subnet);
        const Place place = place_of(now);
        static const std::vector<Placed<net::Prefix>> none;
        const auto& prefixes = has_one ? now.prefixes : none;
        Changes changes{set_of_family(place.key("prefix"), prefixes, to, now.at)};
        if (now.hosts)
            changes.push_back(removal(place.key("hosts"), now.hosts->at));
        if (now.growth_percent != 0)
            changes.push_back(removal(place.key("growth"), now.at));
        if (now.size)
            changes.push_back(
                removal(place.key("size"), now.size->at, fmt::format("/{}", now.size->value)));
        for (const auto& prefix : prefixes)
            if (prefix.value.family() == to.family())
                std::ranges::move(MovedParts(now, prefix.value, to, place).changes,
                                  std::back_inserter(changes));
        return changes;
    });
}

Edit set_subnet_gateway(const Written& plan, const std::string& subnet,
                        std::optional<net::Address> to) {
    return made(Move::set_subnet_gateway, [&] {
        const Subnet& entry = subnet_of(plan, subnet);
        const SubnetGateway& now = entry.gateway;
        const Mark at = now.at ? now.at : entry.at;
        Place place = place_of(entry).key("gateway");
        return Changes{to ? set_of_family(std::move(place), now.given, *to, at)
                          : removal(std::move(place), at)};
    });
}

Edit set_dhcp_size(const Written& plan, const std::string& subnet, std::uint64_t size) {
    return made(Move::set_dhcp_size, [&] {
        const Subnet& entry = subnet_of(plan, subnet);
        const Place place = place_of(entry).key("dhcp");
        const std::string value = fmt::format("{}", size);
        if (!plan.has_dhcp(entry))
            return Changes{set(place, fmt::format("{{size: {}}}", size), entry.at)};
        const DhcpRange& now = *entry.dhcp;
        if (now.size)
            return Changes{
                set(place.key("size"), value, now.at, fmt::format("{}", now.size->value))};
        return Changes{set(place.key("size"), value, now.at), removal(place.key("range"), now.at)};
    });
}

Edit remove_dhcp(const Written& plan, const std::string& subnet) {
    return made(Move::remove_dhcp, [&] {
        const Subnet& entry = subnet_of(plan, subnet);
        return Changes{
            removal(place_of(entry).key("dhcp"), plan.has_dhcp(entry) ? entry.dhcp->at : entry.at)};
    });
}

Edit set_dhcp_relay(const Written& plan, const std::string& subnet, const std::string& relay) {
    return made(Move::set_dhcp_relay, [&] {
        const Subnet& entry = subnet_of(plan, subnet);
        return Changes{set(place_of(entry).key("dhcp").key("relay"), relay,
                           plan.has_dhcp(entry) ? entry.dhcp->at : entry.at)};
    });
}

Edit add_uplink(const Written&, const std::string& subnet, const std::string& site) {
    return made(Move::add_uplink, [&] {
        return Changes{add(Place{}.key("subnets").name(subnet),
                           fmt::format("{{site: {}, size: /{}, uplink: nat}}", site, uplink_length),
                           {})};
    });
}

Edit add_filter_rule(const Written& plan, const std::string& filter,
                     std::optional<std::size_t> position, const FilterRule& rule) {
    return made(Move::add_filter_rule, [&] {
        const Filter& entry = entry_of(plan.entries().filters, "filter", filter);
        const Place rules = rules_of(filter);
        if (!position || *position >= entry.rules.size())
            return Changes{add(rules, to_string(rule), entry.at)};
        return Changes{add(rules.index(*position), to_string(rule), entry.rules[*position].at)};
    });
}

Edit remove_filter_rule(const Written& plan, const std::string& filter, std::size_t position) {
    return made(Move::remove_filter_rule, [&] {
        const Filter& entry = entry_of(plan.entries().filters, "filter", filter);
        return Changes{
            removal(rules_of(filter).index(position), item_of(entry.rules, "rule", position).at)};
    });
}

} // namespace jackal::plan
