#include "lab/rules/rule_list.h"

#include "jackal/net/free_space.h"
#include "jackal/plan/edit.h"
#include "jackal/sorted.h"

#include <algorithm>
#include <set>
#include <stdexcept>

namespace jackal::lab {

namespace {

struct PrefixEnds {
    bool any = true;
    std::vector<net::Prefix> prefixes;
};

// Prefixes nest or are disjoint, so what two hold in common is the longer one.
PrefixEnds in_common(bool any, const std::vector<net::Prefix>& some, bool any_other,
                     const std::vector<net::Prefix>& others) {
    if (any || any_other)
        return {any && any_other, any ? others : some};
    PrefixEnds ends{.any = false};
    for (const net::Prefix& one : some)
        for (const net::Prefix& other : others)
            if (one.overlaps(other))
                ends.prefixes.push_back(one.contains(other) ? other : one);
    return ends;
}

// Ports alone mean tcp and udp.
std::optional<net::Protocol> in_common(const FilterRule& first, const FilterRule& second) {
    const net::Protocol one = first.protocol;
    const net::Protocol other = second.protocol;
    const net::Protocol both = one == net::Protocol::any ? other : one;
    const bool is_other = other != net::Protocol::any && other != both;
    const bool bears_ports = both == net::Protocol::any || net::has_ports(both);
    if (is_other || ((!first.ports.empty() || !second.ports.empty()) && !bears_ports))
        return std::nullopt;
    return both;
}

std::vector<net::Ports> in_common(const std::vector<net::Ports>& some,
                                  const std::vector<net::Ports>& others) {
    std::vector<net::Ports> ports;
    for (net::Ports one : some)
        for (net::Ports other : others) {
            const net::Ports both{std::max(one.first, other.first), std::min(one.last, other.last)};
            if (both.first <= both.last)
                ports.push_back(both);
        }
    return ports;
}

void check_size(const RuleList& list) {
    if (list.size() > most_rules)
        throw std::length_error("these filters together have more than 10000 rules");
}

std::vector<net::Prefix> of_family(const std::vector<net::Prefix>& prefixes, net::Family family) {
    std::vector<net::Prefix> some;
    std::ranges::copy_if(prefixes, std::back_inserter(some),
                         [&](const net::Prefix& p) { return p.family() == family; });
    return merged_prefixes(std::move(some));
}

// The rule for one family; nothing if it matches none of it.
std::optional<FilterRule> of_family(const FilterRule& rule, net::Family family) {
    FilterRule one = rule;
    one.from = of_family(rule.from, family);
    one.to = of_family(rule.to, family);
    if ((!rule.any_from && one.from.empty()) || (!rule.any_to && one.to.empty()))
        return std::nullopt;
    // That it is of one family is said once, by its source if it can be any.
    const std::vector everything{net::Prefix::everything(family)};
    if (!one.any_from && !one.any_to && one.to == everything) {
        one.any_to = true;
        one.to.clear();
    }
    if (one.any_from && one.to == everything) {
        std::swap(one.any_from, one.any_to);
        std::swap(one.from, one.to);
    } else if (one.from == everything && !one.any_to) {
        one.any_from = true;
        one.from.clear();
    }
    return one;
}

bool is_for_all(const FilterRule& rule) {
    return rule.any_from && rule.any_to && rule.protocol == net::Protocol::any && rule.ports.empty()
           && !rule.requests_only;
}

// Of tcp and udp all ports, unless it is the ports alone that say so.
std::vector<net::Ports> tidied(const FilterRule& rule) {
    constexpr net::Ports all{1, 65535};
    std::vector<net::Ports> ports = merged(rule.ports);
    if (!ports.empty() && ports.front().first == 0)
        ports.front().first = 1;
    if (ports == std::vector{all} && net::has_ports(rule.protocol))
        ports.clear();
    return ports;
}

} // namespace

bool drops_all(const FilterRule& rule) {
    return !rule.allows && is_for_all(rule);
}

plan::FilterRule as_written(const FilterRule& rule) {
    plan::FilterRule written{
        .allows = rule.allows, .way = rule.way, .protocol = rule.protocol, .ports = rule.ports};
    for (const net::Prefix& prefix : rule.from)
        written.from.push_back({prefix});
    for (const net::Prefix& prefix : rule.to)
        written.to.push_back({prefix});
    return written;
}

std::string words(const FilterRule& rule) {
    return plan::to_string(as_written(rule))
           + (rule.requests_only ? " of echo requests alone" : "");
}

std::optional<FilterRule> both(const FilterRule& first, const FilterRule& second) {
    const auto protocol = in_common(first, second);
    PrefixEnds from = in_common(first.any_from, first.from, second.any_from, second.from);
    PrefixEnds to = in_common(first.any_to, first.to, second.any_to, second.to);
    const bool has_ports = !first.ports.empty() && !second.ports.empty();
    std::vector<net::Ports> ports = has_ports             ? in_common(first.ports, second.ports)
                                    : first.ports.empty() ? second.ports
                                                          : first.ports;
    if (!protocol || (!from.any && from.prefixes.empty()) || (!to.any && to.prefixes.empty())
        || (has_ports && ports.empty()))
        return std::nullopt;
    return FilterRule{.allows = second.allows,
                      .way = second.way,
                      .protocol = *protocol,
                      .from = std::move(from.prefixes),
                      .to = std::move(to.prefixes),
                      .any_from = from.any,
                      .any_to = to.any,
                      .ports = std::move(ports),
                      .requests_only = first.requests_only || second.requests_only,
                      .at = second.at};
}

RuleList in_turn(const RuleList& first, const RuleList& second) {
    RuleList list;
    for (const FilterRule& rule : first) {
        if (rule.allows)
            for (const FilterRule& next : second)
                if (auto rest = both(rule, next))
                    list.push_back(std::move(*rest));
        list.push_back(rule);
        check_size(list);
    }
    list.insert(list.end(), second.begin(), second.end());
    check_size(list);
    return list;
}

RuleList rules_of(const Filter& filter, plan::Way way) {
    RuleList list;
    for (const FilterRule& rule : filter.rules)
        if (!rule.way || *rule.way == way)
            list.push_back(rule);
    list.push_back({.allows = filter.allows});
    for (FilterRule& rule : list)
        rule.way = way;
    return list;
}

RuleList tidied(RuleList list) {
    RuleList tidy;
    std::set<std::string> known;
    auto add = [&](FilterRule rule) {
        FilterRule match = rule; // whatever its verdict
        match.allows = false;
        if (known.insert(words(match)).second)
            tidy.push_back(std::move(rule));
    };
    for (FilterRule& rule : list) {
        rule.ports = tidied(rule);
        if (is_for_all(rule)) {
            add(std::move(rule));
            break;
        }
        if (rule.any_from && rule.any_to)
            add(std::move(rule));
        else
            for (net::Family family : net::both_families)
                if (auto one = of_family(rule, family))
                    add(std::move(*one));
    }
    while (!tidy.empty() && tidy.back().allows)
        tidy.pop_back();
    return tidy;
}

std::vector<net::Prefix> merged_prefixes(std::vector<net::Prefix> prefixes) {
    sort_unique(prefixes); // a shorter one comes before those that it holds
    std::vector<net::Prefix> result;
    for (net::Prefix next : prefixes) {
        if (!result.empty() && result.back().contains(next))
            continue;
        while (!result.empty() && next.length() > 0 && result.back().length() == next.length()) {
            const net::Prefix around(next.first(), next.length() - 1);
            if (!around.contains(result.back()))
                break;
            result.pop_back();
            next = around;
        }
        result.push_back(next);
    }
    return result;
}

std::vector<net::Prefix> prefixes_of(const net::Range& range) {
    std::vector<net::Prefix> prefixes;
    for (net::Address first = range.first;;) {
        net::Prefix largest(first, net::address_bits(first.family()));
        while (largest.length() > 0) {
            const net::Prefix around(first, largest.length() - 1);
            if (around.first() != first || range.last < around.last())
                break;
            largest = around;
        }
        prefixes.push_back(largest);
        if (largest.last() == range.last)
            return prefixes;
        first = largest.last().plus(1);
    }
}

std::vector<net::Prefix> all_but(const std::vector<net::Prefix>& prefixes, net::Family family) {
    net::FreeSpace rest;
    rest.add(net::Prefix::everything(family));
    for (const net::Prefix& prefix : prefixes)
        if (prefix.family() == family)
            rest.remove(prefix);
    return rest.blocks();
}

std::vector<net::Ports> all_but(const std::vector<net::Ports>& ports) {
    constexpr int highest = 65535;
    std::vector<net::Ports> rest;
    int next = 1; // nothing listens on 0
    for (net::Ports taken : merged(ports)) {
        if (next < taken.first)
            rest.push_back(
                {static_cast<std::uint16_t>(next), static_cast<std::uint16_t>(taken.first - 1)});
        next = taken.last + 1;
    }
    if (next <= highest)
        rest.push_back({static_cast<std::uint16_t>(next), highest});
    return rest;
}

} // namespace jackal::lab
