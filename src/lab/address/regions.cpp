#include "jackal/sorted.h"
#include "lab/address/assignment.h"

#include "jackal/plan/outside.h"
#include "lab/dhcp/offers.h"

#include <algorithm>
#include <fmt/format.h>
#include <map>

namespace jackal::lab {

namespace {

// The part of a subnet's prefix that a region is; what goes beyond its end is told.
std::optional<net::Range> range_in(Assignment& a, SubnetId id,
                                   const plan::Placed<plan::Region>& region, net::Family family,
                                   std::string_view verb) {
    const auto& prefix = a.lab.segments[a.lab.subnets[id].segment].prefix[family];
    if (!prefix)
        return std::nullopt;
    const auto* places = std::get_if<plan::Places>(&region.value);
    std::uint64_t last = prefix->size() - 1;
    if (places != nullptr && places->last > last && family == net::Family::ipv4)
        a.lab.unplaced.push_back(
            {.what = fmt::format("subnet {} {} +{}-+{}", a.lab.subnets[id].name, verb,
                                 places->first, places->last),
             .why = fmt::format("{} ends at +{}", net::to_string(*prefix), last),
             .advice = "count to a place that the subnet has, or make it larger",
             .family = family,
             .at = region.at});
    return region_in(*prefix, region.value);
}

void reserve(Assignment& a, SubnetId id) {
    const plan::Subnet& subnet = a.plan.subnets[id.row];
    std::vector<net::Range> ranges;
    for (net::Family family : net::both_families)
        for (const auto& region : subnet.reserve)
            if (auto range = range_in(a, id, region, family, "reserves"))
                ranges.push_back(*range);
    a.lab.subnets[id].reserved = merged(std::move(ranges));
}

// How many addresses come with an uplink.
std::uint64_t implied_size(const net::Prefix& prefix) {
    constexpr std::uint64_t most = 100;
    return std::clamp<std::uint64_t>(prefix.usable() / 4, 1, most);
}

// The highest `size` addresses in a row that are neither written, reserved nor the gateway.
std::optional<net::Range> highest_free(const Assignment& a, const Subnet& subnet,
                                       const net::Prefix& prefix, std::uint64_t size) {
    std::vector<net::Range> blocked;
    for (const net::Range& range : subnet.reserved)
        if (range.first.family() == net::Family::ipv4)
            blocked.push_back(range);
    if (const auto& gateway = subnet.gateway.ipv4)
        blocked.push_back({*gateway, *gateway});
    for (auto it = std::ranges::lower_bound(a.written,
                                            Assignment::Written{subnet.segment, prefix.first()});
         it != a.written.end() && it->first == subnet.segment && it->second <= prefix.last(); ++it)
        blocked.push_back({it->second, it->second});
    blocked = merged(std::move(blocked));
    std::ranges::reverse(blocked);
    net::Address top = prefix.last_usable();
    auto fits_above = [&](net::Address bottom) {
        return bottom <= top && net::Range{bottom, top}.size() >= size;
    };
    for (const net::Range& range : blocked) {
        if (fits_above(range.last.plus(1)))
            break;
        top = std::min(top, range.first.minus(1));
    }
    if (!fits_above(prefix.first_usable()))
        return std::nullopt;
    return net::Range{top.minus(size - 1), top};
}

void find_dhcp_range(Assignment& a, SubnetId id) {
    const plan::DhcpRange& wish = *a.plan.subnets[id.row].dhcp;
    Subnet& subnet = a.lab.subnets[id];
    const auto& prefix = a.lab.segments[subnet.segment].prefix.ipv4;
    std::optional<net::Range> found;
    if (prefix && wish.range)
        found = range_in(a, id, *wish.range, net::Family::ipv4, "gives out by DHCP");
    else if (prefix)
        found =
            highest_free(a, subnet, *prefix, wish.size ? wish.size->value : implied_size(*prefix));
    if (found)
        subnet.dhcp = *found;
    bool has_none = !prefix && !a.plan.subnets[id.row].prefixes.empty();
    if (!found && !a.whole.is_implied_dhcp(id.row) && (prefix ? !wish.range : has_none))
        a.lab.unplaced.push_back(
            {.what = fmt::format("the DHCP range of {} wants {}", subnet.name,
                                 wish.size ? fmt::format("{} addresses", wish.size->value)
                                           : "a part of it"),
             .why = prefix ? fmt::format("{} has not as many in a row", net::to_string(*prefix))
                           : fmt::format("{} has no IPv4 prefix", subnet.name),
             .advice = "ask for less, or for a larger subnet",
             .family = net::Family::ipv4,
             .at = wish.at});
}

} // namespace

void set_regions_aside(Assignment& a) {
    std::map<std::string_view, const net::Range*> pinned;
    for (const auto& pin : a.plan.pins.dhcp)
        pinned.emplace(pin.subnet, &pin.range.value);
    for (SubnetId id : a.lab.subnets.ids()) {
        reserve(a, id);
        if (!a.plan.subnets[id.row].dhcp)
            continue;
        auto pin = pinned.find(a.lab.subnets[id].name);
        const auto& prefix = a.lab.segments[a.lab.subnets[id].segment].prefix.ipv4;
        if (pin != pinned.end() && prefix && a.plan.subnets[id.row].dhcp->size
            && prefix->contains(pin->second->first) && prefix->contains(pin->second->last))
            a.lab.subnets[id].dhcp = *pin->second;
        else
            find_dhcp_range(a, id);
    }
}

} // namespace jackal::lab
