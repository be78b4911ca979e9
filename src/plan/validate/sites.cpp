#include "plan/validate/validation.h"

#include "jackal/plan/cause.h"
#include "jackal/plan/sites.h"
#include "jackal/plan/validate.h"

#include <algorithm>
#include <fmt/format.h>
#include <set>

namespace jackal::plan {

namespace {

std::string no_core(std::string_view site, std::string_view key) {
    return fmt::format("site {} has no core that `{}` would be for; write `routing: automatic`",
                       site, key);
}

// A machine with a NIC on the site; else a problem.
bool is_on(Validation& v, const Placed<std::string>& name, std::string_view site,
           std::string_view what) {
    auto row = v.machines.row(name.value);
    if (!row) {
        v.problem(name.at, v.machines.unknown(name.value));
        return false;
    }
    for (const Nic& nic : v.plan.machines[*row].nics)
        if (auto subnet = v.subnets.row(nic.subnet.value))
            if (const auto& on = v.plan.subnets[*subnet].site; on && on->value == site)
                return true;
    v.problem(name.at, fmt::format("{} has no NIC on site {}, whose {} it is to be", name.value,
                                   site, what));
    return false;
}

bool check_site(Validation& v, const Placed<std::string>& name) {
    auto row = v.sites.row(name.value);
    if (row && !v.whole.is_outside_site(*row))
        return true;
    v.problem(name.at, row ? fmt::format("{} is no site of the lab", name.value)
                           : v.sites.unknown(name.value));
    return false;
}

void check_side(Validation& v, const Peering& peering, int number) {
    const PeeringSide& side = peering.sides[number];
    const std::string& site = peering.site(number);
    bool automatic = v.plan.sites[*v.sites.row(site)].automatic;
    if (automatic && !side.border.value.empty())
        v.problem(side.border.at,
                  fmt::format("the core of {} is its border, as its routing is automatic", site));
    else if (automatic && !v.machines.has(core_name(site)))
        v.problem(side.at, fmt::format("site {} has no subnet, and so no core to peer with", site));
    else if (!automatic && side.border.value.empty() && side.accepts)
        v.problem(side.at,
                  fmt::format("name the router of {} that the peering ends at: `border`", site));
    else if (!automatic && !side.border.value.empty())
        is_on(v, side.border, site, "border");
}

} // namespace

void check_sites(Validation& v) {
    std::set<std::string_view> regions;
    for (const SiteRegion& region : v.plan.regions) {
        check_name(v, region.name, region.at);
        if (!regions.insert(region.name).second)
            v.problem(region.at, fmt::format("the name \"{}\" is taken already", region.name));
    }
    std::vector<std::string_view> known(regions.begin(), regions.end());
    for (const SiteRegion& region : v.plan.regions)
        for (const auto& [name, distance] : region.to)
            known.push_back(name.value);
    for (const Site& site : v.plan.sites) {
        // A region without an entry has the usual distances; a word near a known one is a slip.
        if (std::ranges::find(known, site.region) == known.end())
            if (std::string_view near = nearest_word(site.region, known); !near.empty())
                v.problem(site.at, fmt::format("there is no region \"{}\"{}", site.region,
                                               did_you_mean(near)));
        check_filter_name(v, site.filter);
        if (!site.relay.value.empty() && !is_on(v, site.relay, site.name, "relay"))
            continue;
        if (site.automatic && !is_name(core_name(site.name)) && is_name(site.name))
            v.problem(site.at, fmt::format("the name of the core of site {} would be longer "
                                           "than 63 letters",
                                           site.name));
        if (site.automatic)
            continue;
        if (!site.routes.empty())
            v.problem(site.routes.front().at, no_core(site.name, "routes"));
        if (!site.filter.value.empty())
            v.problem(site.filter.at, no_core(site.name, "filter"));
    }
}

void check_peerings(Validation& v) {
    if (v.plan.peerings.size() > most_peerings)
        return v.problem(v.plan.peerings[most_peerings].at,
                         fmt::format("more than {} peerings", most_peerings));
    std::set<std::pair<std::string_view, std::string_view>> seen;
    for (const Peering& peering : v.plan.peerings) {
        const std::string& one = peering.first.value;
        const std::string& other = peering.second.value;
        if (one.empty() || other.empty())
            continue;
        bool known = check_site(v, peering.first) && check_site(v, peering.second);
        if (one == other)
            v.problem(peering.second.at, fmt::format("a peering of {} with itself", one));
        else if (known && !seen.insert(std::minmax<std::string_view>(one, other)).second)
            v.problem(peering.at, fmt::format("{} and {} have a peering already", one, other));
        check_link_prefixes(v, peering.prefixes, peering.pool);
        for (int side : {0, 1})
            if (known && peering.sides[side].declared)
                check_side(v, peering, side);
    }
    std::size_t implied = 0;
    for (std::size_t i = 0; i < v.plan.machines.size(); ++i)
        if (const auto& routes = v.plan.machines[i].routes;
            !routes.empty() && v.whole.is_implied_route(i, routes.size() - 1))
            implied += routes.size();
    if (implied >= most_implied_routes)
        v.problem(v.plan.peerings.empty() ? Mark{} : Mark(v.plan.peerings.front().at),
                  fmt::format("the peerings bring more than {} routes", most_implied_routes));
}

void check_pools(Validation& v) {
    std::vector<const Placed<net::Prefix>*> spaces;
    for (const Pool& pool : v.plan.pools) {
        if (pool.name == "auto" || pool.name == "none")
            v.problem(pool.at, fmt::format("a pool cannot be named \"{}\"", pool.name));
        if (pool.space.empty())
            v.problem(pool.at, fmt::format("pool {} needs `space`", pool.name));
        for (const auto& prefix : pool.space)
            spaces.push_back(&prefix);
    }
    std::ranges::stable_sort(spaces, [](const auto* a, const auto* b) {
        return std::pair(a->value.first(), a->value.bits128())
               < std::pair(b->value.first(), b->value.bits128());
    });
    for (std::size_t i = 1, around = 0; i < spaces.size(); ++i)
        if (spaces[around]->value.contains(spaces[i]->value))
            v.problem(spaces[i]->at,
                      fmt::format("{} overlaps {} of a pool", net::to_string(spaces[i]->value),
                                  net::to_string(spaces[around]->value)));
        else
            around = i;
}

void check_pool(Validation& v, const Placed<std::string>& pool) {
    if (!pool.value.empty() && !v.pools.has(pool.value))
        v.problem(pool.at, v.pools.unknown(pool.value));
}

} // namespace jackal::plan
