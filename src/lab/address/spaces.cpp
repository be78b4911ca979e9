#include "lab/address/planning.h"

#include "jackal/net/place.h"

#include <algorithm>
#include <array>
#include <bit>
#include <fmt/format.h>
#include <set>
#include <unordered_map>

namespace jackal::lab {

namespace {

void take_pinned_spaces(Planning& p, std::vector<net::Prefix>& owned) {
    std::unordered_map<std::string_view, std::size_t> rows;
    for (std::size_t i = 0; i < p.plan.sites.size(); ++i)
        rows.emplace(p.plan.sites[i].name, i);
    if (p.plan.sites.empty())
        rows.emplace(p.plan.lab, 0);
    for (const auto& pin : p.plan.pins.sites) {
        auto found = rows.find(pin.name);
        if (found == rows.end() || p.sources[found->second].own)
            continue;
        for (const auto& prefix : pin.prefixes) {
            p.sources[found->second].spaces.push_back(prefix.value);
            owned.push_back(prefix.value);
        }
    }
}

// Addresses that will be asked of each site without a space of the family's own; and subnets.
std::vector<std::uint64_t> ipv4_demand(const Planning& p) {
    std::vector<std::uint64_t> demand(site_count(p), 0);
    for (std::size_t i = 0; i < p.plan.subnets.size(); ++i)
        if (p.plan.subnets[i].prefixes.empty() && !p.result.subnets[i].ipv4.prefix)
            demand[p.site_of_subnet[i].row] +=
                std::uint64_t{1} << (32 - wanted_length(p.plan.subnets[i], net::Family::ipv4));
    for (std::size_t i = 0; i < p.plan.links.size(); ++i)
        if (p.plan.links[i].prefixes.empty() && p.plan.links[i].pool.value.empty())
            demand[p.site_of_link[i].row] += 2;
    for (std::size_t i = 0; i < p.result.loopbacks.size(); ++i)
        if (const auto& loopback = p.plan.machines[i].loopback;
            loopback && loopback->given.empty() && loopback->pool.value.empty())
            demand[p.site_of_machine[i].row] += 1;
    return demand;
}

// Each such site gets a block of its own, twice as large as it needs now and at least a /16;
// if there is none, one that just holds what it needs.
void give_ipv4_spaces(Planning& p, std::vector<net::Prefix>& owned) {
    static const std::array<net::Prefix, 3> private_spaces = {
        private_space, net::Prefix(net::Address::ipv4(172U << 24 | 16U << 16), 12),
        net::Prefix(net::Address::ipv4(192U << 24 | 168U << 16), 16)};
    constexpr int shortest_by_itself = 16;
    std::vector<std::uint64_t> demand = ipv4_demand(p);
    std::vector<std::size_t> sites;
    for (std::size_t i = 0; i < site_count(p); ++i)
        if (!p.sources[i].own && demand[i] > 0 && !p.sources[i].serves(net::Family::ipv4))
            sites.push_back(i);
    for (bool with_room : {true, false})
        for (const net::Prefix& from : private_spaces) {
            std::vector<net::PlaceWish> wishes;
            for (std::size_t site : sites) {
                int needed = 32 - static_cast<int>(std::bit_width(demand[site] - 1));
                wishes.push_back(
                    {net::Family::ipv4,
                     std::clamp(with_room ? std::min(needed - 1, shortest_by_itself) : needed, 1,
                                32)});
            }
            std::span one(&from, 1);
            net::Placements placed = net::place(one, net::overlapping(owned, one), wishes);
            std::vector<std::size_t> left;
            for (std::size_t k = 0; k < sites.size(); ++k) {
                if (!placed.prefixes[k]) {
                    left.push_back(sites[k]);
                    continue;
                }
                p.sources[sites[k]].spaces.push_back(*placed.prefixes[k]);
                owned.push_back(*placed.prefixes[k]);
            }
            sites = std::move(left);
            std::ranges::sort(owned);
        }
}

// A site that chose all its IPv4 prefixes itself and none of IPv6 stays without.
void give_ipv6_spaces(Planning& p, const std::vector<net::Prefix>& owned) {
    constexpr std::size_t subnets_in_each = 1U << 15;
    constexpr int most_tries = 100;
    std::vector<std::size_t> subnets(site_count(p), 0);
    for (std::size_t i = 0; i < p.plan.subnets.size(); ++i)
        if (p.plan.subnets[i].prefixes.empty()
            || p.result.subnets[i].ipv6.prefix) // links then have IPv6 as well
            ++subnets[p.site_of_subnet[i].row];
    std::set<net::Prefix> given;
    for (std::size_t i = 0; i < site_count(p); ++i) {
        if (p.sources[i].own || subnets[i] == 0 || p.sources[i].serves(net::Family::ipv6))
            continue;
        std::string words = p.plan.lab + "/" + (p.plan.sites.empty() ? "" : p.plan.sites[i].name);
        std::size_t wanted = subnets[i] / subnets_in_each + 1;
        for (int k = 0; k < most_tries && wanted > 0; ++k) {
            net::Prefix found =
                net::unique_local_prefix(k == 0 ? words : fmt::format("{}/{}", words, k));
            if (!net::overlapping(owned, {&found, 1}).empty() || !given.insert(found).second)
                continue;
            p.sources[i].spaces.push_back(found);
            --wanted;
        }
    }
}

} // namespace

void find_spaces(Planning& p) {
    std::vector<net::Prefix> owned = p.taken;
    for (const Source& source : p.sources)
        owned.insert(owned.end(), source.spaces.begin(), source.spaces.end());
    take_pinned_spaces(p, owned);
    std::ranges::sort(owned);
    give_ipv4_spaces(p, owned);
    give_ipv6_spaces(p, owned);
}

void note_families(Planning& p) {
    for (Source& source : p.sources)
        for (net::Family family : net::both_families)
            source.wanted[family] =
                source.serves(family) || (!source.own && family == net::Family::ipv4);
}

} // namespace jackal::lab
