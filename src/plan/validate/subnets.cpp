#include "plan/validate/validation.h"

#include "jackal/plan/cause.h"
#include "jackal/plan/sites.h"
#include "jackal/plan/validate.h"

#include <algorithm>
#include <array>
#include <fmt/format.h>
#include <set>

namespace jackal::plan {

namespace {

// A range in addresses must be part of a prefix that the subnet's own entry writes.
void check_region(Validation& v, const Subnet& subnet, const Placed<Region>& region) {
    const auto* range = std::get_if<net::Range>(&region.value);
    if (range == nullptr)
        return;
    if (subnet.prefixes.empty())
        return v.problem(region.at,
                         fmt::format("subnet {} has no `prefix` for {} to be part of; count from "
                                     "its first address instead: +10-+19",
                                     subnet.name, net::to_string(*range)));
    auto holds = [&](const Placed<net::Prefix>& prefix) {
        return prefix.value.contains(range->first) && prefix.value.contains(range->last);
    };
    if (std::ranges::none_of(subnet.prefixes, holds))
        v.problem(region.at,
                  fmt::format("{} is not part of subnet {}", net::to_string(*range), subnet.name));
}

void check_dhcp_region(Validation& v, const Subnet& subnet, const Placed<Region>& region) {
    const auto* range = std::get_if<net::Range>(&region.value);
    if (range != nullptr && range->first.family() == net::Family::ipv6)
        return v.problem(region.at, "a DHCP range is one of IPv4 addresses (RFC 2131)");
    check_region(v, subnet, region);
}

void check_dhcp(Validation& v, const Subnet& subnet, const DhcpRange& dhcp) {
    if (dhcp.range)
        check_dhcp_region(v, subnet, *dhcp.range);
    for (const auto& region : dhcp.exclude)
        check_dhcp_region(v, subnet, region);
    for (const Reservation& entry : dhcp.reservations) {
        check_dhcp_region(v, subnet, entry.address);
        if (const auto* name = std::get_if<std::string>(&entry.client);
            name != nullptr && !v.machines.has(*name))
            v.problem(entry.at, v.machines.unknown(*name, "MAC or machine"));
    }
    for (const auto* name : {&dhcp.server, &dhcp.relay})
        if (!name->value.empty() && !v.machines.has(name->value))
            v.problem(name->at, v.machines.unknown(name->value));
    if (!dhcp.relay.value.empty() && dhcp.server.value.empty())
        v.problem(dhcp.relay.at, "a relay needs to know its `server`");
    check_hosts(v, dhcp.dns);
}

} // namespace

void check_subnet(Validation& v, const Subnet& subnet) {
    if (subnet.site && !v.sites.has(subnet.site->value))
        v.problem(subnet.site->at, v.sites.unknown(subnet.site->value));
    bool several = v.plan.sites.size() > 1 && !v.whole.is_outside_site(1);
    if (!subnet.site && several)
        v.problem(subnet.at,
                  fmt::format("subnet {} needs `site`, as there are several sites", subnet.name));
    int ways = (subnet.prefixes.empty() ? 0 : 1) + (subnet.hosts ? 1 : 0) + (subnet.size ? 1 : 0);
    bool both_ways = !subnet.prefixes.empty() && subnet.ipv6_size != Subnet{}.ipv6_size;
    if (ways > 1 || both_ways)
        v.problem(subnet.at, fmt::format("subnet {} has more than one of prefix, hosts and size",
                                         subnet.name));
    check_filter_name(v, subnet.filter);
    for (const auto& region : subnet.reserve)
        check_region(v, subnet, region);
    if (subnet.dhcp)
        check_dhcp(v, subnet, *subnet.dhcp);
    if (auto site = subnet.site ? v.sites.row(subnet.site->value) : std::nullopt;
        !subnet.joined && !(site && v.plan.sites[*site].automatic))
        v.problem(subnet.at, fmt::format("subnet {} has `core: false`, but its site has no core; "
                                         "that has routing: automatic",
                                         subnet.name));
    if (subnet.uplink == Uplink::bridge) {
        if (!v.bridge.empty())
            v.problem(
                subnet.uplink_at,
                fmt::format("{} is the physical network already, and there is one", v.bridge));
        v.bridge = subnet.name;
    }
}

void check_hosts(Validation& v, const std::vector<Placed<Host>>& hosts) {
    for (const auto& [host, at] : hosts)
        if (const auto* name = std::get_if<std::string>(&host);
            name != nullptr && !v.machines.has(*name))
            v.problem(at, v.machines.unknown(*name));
}

void check_outside(Validation& v) {
    static const std::array documentation{
        net::parse_prefix("192.0.2.0/24").value(), net::parse_prefix("198.51.100.0/24").value(),
        net::parse_prefix("203.0.113.0/24").value(), net::parse_prefix("2001:db8::/32").value()};
    std::set<net::Address> seen;
    for (const OutsideHost& host : v.plan.outside.hosts) {
        if (host.addresses.empty())
            v.problem(host.at, fmt::format("the host {} needs `address`", host.name));
        for (const auto& [address, at] : host.addresses) {
            auto holds = [&](const net::Prefix& prefix) { return prefix.contains(address); };
            if (std::ranges::none_of(documentation, holds))
                v.problem(at, fmt::format("{} may be somebody's; hosts outside stand in "
                                          "192.0.2.0/24, 198.51.100.0/24, 203.0.113.0/24 or "
                                          "2001:db8::/32",
                                          net::to_string(address)));
            else if (!seen.insert(address).second)
                v.problem(at, fmt::format("{} stands here twice", net::to_string(address)));
        }
    }
}

} // namespace jackal::plan
