#include "lab/address/allocate.h"

#include "jackal/net/place.h"
#include "lab/address/planning.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::lab {

namespace {

constexpr int default_ipv4_length = 24;

// The longest IPv4 prefix with room for all that the subnet wants.
int length_wanted(const plan::Subnet& subnet, const Wanted& wanted) {
    std::uint64_t least = wanted.sum();
    for (const auto& region : subnet.reserve)
        if (const auto* places = std::get_if<plan::Places>(&region.value))
            least = std::max(least, std::min<std::uint64_t>(places->last, 1U << 31));
    if (subnet.dhcp && subnet.dhcp->size)
        least = std::max(least, subnet.dhcp->size->value + wanted.gateway + wanted.reserved);
    return net::length_for_hosts(least);
}

} // namespace

int wanted_length(const plan::Subnet& subnet, net::Family family) {
    if (family == net::Family::ipv6)
        return static_cast<int>(subnet.ipv6_size);
    if (subnet.size)
        return static_cast<int>(subnet.size->value);
    return subnet.hosts ? length_wanted(subnet, wanted(subnet)) : default_ipv4_length;
}

std::string wish_text(const plan::Subnet& subnet, int length) {
    if (!subnet.hosts)
        return fmt::format("a /{}", length);
    return fmt::format(
        "a /{} for {} hosts{}", length, subnet.hosts->value,
        subnet.growth_percent == 0 ? "" : fmt::format(" and {}% growth", subnet.growth_percent));
}

Wanted wanted(const plan::Subnet& subnet) {
    Wanted result;
    if (!subnet.hosts)
        return result;
    result.hosts = subnet.hosts->value;
    result.growth = (result.hosts * subnet.growth_percent + 99) / 100;
    result.gateway = subnet.gateway.kind == plan::SubnetGateway::Kind::none ? 0 : 1;
    std::vector<plan::Places> counted;
    for (const auto& region : subnet.reserve)
        if (const auto* places = std::get_if<plan::Places>(&region.value))
            counted.push_back(*places);
    std::ranges::sort(counted, {}, &plan::Places::first);
    std::uint64_t next = 0; // the first place that is not counted yet
    constexpr std::uint64_t most = 1U << 31;
    for (const plan::Places& places : counted)
        if (places.last >= next) {
            result.reserved += std::min(most, places.last - std::max(places.first, next) + 1);
            next = places.last + 1;
        }
    result.reserved = std::min(result.reserved, most);
    return result;
}

Allocation allocate(const plan::Plan& plan, const std::vector<SiteId>& site_of_subnet,
                    const std::vector<SiteId>& site_of_link,
                    const std::vector<SiteId>& site_of_machine) {
    Planning p{plan, site_of_subnet, site_of_link, site_of_machine};
    p.result.subnets.resize(plan.subnets.size());
    p.result.links.resize(plan.links.size());
    bool any = std::ranges::any_of(plan.machines, [](const auto& m) { return bool(m.loopback); });
    p.result.loopbacks.resize(any ? plan.machines.size() : 0);
    add_sources(p);
    take_written(p);
    take_pinned(p);
    p.taken = all_chosen(p);
    for (const auto& prefix : plan.outside.lan)
        p.taken.push_back(prefix.value);
    std::ranges::sort(p.taken);
    find_spaces(p);
    wish(p);
    for (const plan::Pool& pool : plan.pools) // which do not overlap each other
        grant(p, p.sources[pool_source(p, pool)], p.taken);
    for (const plan::Pool& pool : plan.pools)
        for (const auto& prefix : pool.space)
            p.taken.push_back(prefix.value);
    std::ranges::sort(p.taken);
    for (std::size_t site = 0; site < site_count(p); ++site)
        grant(p, p.sources[site], p.taken);
    for (std::size_t site = 0; site < site_count(p); ++site)
        p.result.spaces.push_back(std::move(p.sources[site].spaces));
    return std::move(p.result);
}

} // namespace jackal::lab
