#include "jackal/lab/filter.h"

#include <algorithm>
#include <map>
#include <set>

namespace jackal::lab {

using net::Protocol;

namespace {

constexpr std::array protocols{Protocol::icmp, Protocol::tcp, Protocol::udp};
constexpr std::array ways{plan::Way::in, plan::Way::out, plan::Way::through};

std::uint8_t sort_of(net::Family family, plan::Way way, Protocol protocol) {
    unsigned ipv6 = family == net::Family::ipv6 ? 1 : 0;
    return static_cast<std::uint8_t>(ipv6 * 16 + static_cast<unsigned>(way) * 4
                                     + static_cast<unsigned>(protocol));
}

// The first `bits` of the 128 of an address, the others 0.
net::Address head(net::Address address, int bits) {
    auto mask = [](std::uint64_t word, int kept) {
        return kept <= 0 ? 0 : kept >= 64 ? word : word & ~(~std::uint64_t{0} >> kept);
    };
    return net::Address(mask(address.high(), bits), mask(address.low(), bits - 64));
}

struct End {
    net::Address first;
    int bits = 0;
};

std::vector<End> ends_of(bool any, const std::vector<net::Prefix>& prefixes, net::Family family) {
    if (any)
        return {End{}};
    std::vector<End> ends;
    for (const net::Prefix& prefix : prefixes)
        if (prefix.family() == family)
            ends.push_back({prefix.first(), prefix.bits128()});
    return ends;
}

} // namespace

std::size_t RuleIndex::Hash::operator()(const Key& key) const {
    std::uint64_t hash = key.sort;
    for (std::uint64_t word : {key.from.high(), key.from.low(), key.to.high(), key.to.low()}) {
        hash = (hash ^ word) * 0x9e3779b97f4a7c15;
        hash ^= hash >> 29;
    }
    return hash;
}

RuleIndex::RuleIndex(const std::vector<FilterRule>& rules) {
    std::map<std::pair<int, int>, std::unordered_map<Key, std::vector<Claim>, Hash>> claims;
    std::map<std::pair<int, int>, std::uint32_t> first_rules;
    for (std::uint32_t i = 0; i < rules.size(); ++i) {
        const FilterRule& rule = rules[i];
        auto claim = [&](const End& from, const End& to, std::uint8_t sort) {
            std::pair bits(from.bits, to.bits);
            first_rules.emplace(bits, i);
            auto& list = claims[bits][{from.first, to.first, sort}];
            if (rule.ports.empty())
                list.push_back({{}, i});
            for (net::Ports ports : rule.ports)
                list.push_back({ports, i});
        };
        auto claim_all = [&](net::Family family, plan::Way way, Protocol protocol) {
            for (const End& from : ends_of(rule.any_from, rule.from, family))
                for (const End& to : ends_of(rule.any_to, rule.to, family))
                    claim(from, to, sort_of(family, way, protocol));
        };
        for (net::Family family : net::both_families)
            for (plan::Way way : ways)
                for (Protocol protocol : protocols)
                    if ((!rule.way || *rule.way == way)
                        && (rule.protocol == Protocol::any || rule.protocol == protocol)
                        && (rule.ports.empty() || net::has_ports(protocol)))
                        claim_all(family, way, protocol);
    }
    for (auto& [bits, lists] : claims) {
        Tuple tuple{bits.first, bits.second, first_rules.at(bits), {}};
        tuple.lists.reserve(lists.size());
        for (auto& [key, list] : lists)
            tuple.lists.emplace(key, stretches(std::move(list)));
        tuples_.push_back(std::move(tuple));
    }
    std::ranges::sort(tuples_, {}, &Tuple::first_rule);
}

// Claims are in the order of their rules; of several on a port the first counts.
std::vector<RuleIndex::Stretch> RuleIndex::stretches(std::vector<Claim> claims) {
    struct Border {
        std::uint32_t port;
        bool opens;
        std::uint32_t rule;
    };
    std::vector<Border> borders;
    for (const Claim& claim : claims) {
        borders.push_back({claim.ports.first, true, claim.rule});
        borders.push_back({claim.ports.last + 1U, false, claim.rule});
    }
    std::ranges::sort(borders, {}, &Border::port);
    std::multiset<std::uint32_t> open;
    std::vector<Stretch> result;
    for (std::size_t i = 0; i < borders.size(); ++i) {
        if (borders[i].opens)
            open.insert(borders[i].rule);
        else
            open.erase(open.find(borders[i].rule));
        if (i + 1 < borders.size() && borders[i + 1].port == borders[i].port)
            continue;
        std::uint32_t rule = open.empty() ? none : *open.begin();
        if (result.empty() || result.back().rule != rule)
            result.push_back({borders[i].port, rule});
    }
    result.shrink_to_fit();
    return result;
}

std::uint32_t RuleIndex::first(plan::Way way, const net::Flow& flow) const {
    std::uint32_t best = none;
    for (const Tuple& tuple : tuples_) {
        if (tuple.first_rule >= best)
            break;
        auto list = tuple.lists.find({head(flow.source, tuple.from_bits),
                                      head(flow.destination, tuple.to_bits),
                                      sort_of(flow.source.family(), way, flow.protocol)});
        if (list == tuple.lists.end())
            continue;
        auto after = std::ranges::upper_bound(list->second, std::uint32_t{flow.destination_port},
                                              {}, &Stretch::port);
        if (after != list->second.begin())
            best = std::min(best, std::prev(after)->rule);
    }
    return best;
}

} // namespace jackal::lab
