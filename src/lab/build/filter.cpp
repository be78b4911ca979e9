#include "jackal/lab/filter.h"

#include "jackal/sorted.h"

#include <algorithm>
#include <map>
#include <set>

namespace jackal::lab {

using net::Protocol;

namespace {

// A packet's own; any: one without a name here.
constexpr std::array protocols{Protocol::any, Protocol::icmp, Protocol::tcp, Protocol::udp,
                               Protocol::ospf};
constexpr std::array ways{plan::Way::in, plan::Way::out, plan::Way::through};

std::uint8_t sort_of(net::Family family, plan::Way way, Protocol protocol) {
    unsigned ipv6 = family == net::Family::ipv6 ? 1 : 0;
    return static_cast<std::uint8_t>((ipv6 * ways.size() + static_cast<unsigned>(way))
                                         * protocols.size()
                                     + static_cast<unsigned>(protocol));
}

// The first `bits` of the 128 of an address, the others 0.
net::Address head(net::Address address, int bits) {
    auto mask = [](std::uint64_t word, int kept) {
        return kept <= 0 ? 0 : kept >= 64 ? word : word & ~(~std::uint64_t{0} >> kept);
    };
    return net::Address(mask(address.high(), bits), mask(address.low(), bits - 64));
}

// Bits of the ways and protocols that a rule matches.
std::uint8_t ways_of(const FilterRule& rule) {
    unsigned bits = 0;
    for (plan::Way way : ways)
        if (!rule.way || *rule.way == way)
            bits |= 1U << static_cast<unsigned>(way);
    return static_cast<std::uint8_t>(bits);
}

std::uint8_t protocols_of(const FilterRule& rule) {
    unsigned bits = 0;
    for (Protocol protocol : protocols)
        if ((rule.protocol == Protocol::any || rule.protocol == protocol)
            && (rule.ports.empty() || net::has_ports(protocol)))
            bits |= 1U << static_cast<unsigned>(protocol);
    return static_cast<std::uint8_t>(bits);
}

template <class Bits, class Word>
bool has(Bits bits, Word word) {
    return (bits >> static_cast<unsigned>(word) & 1U) != 0;
}

struct End {
    net::Address first;
    int bits = 0;
};

// The ends of one family, ascending and disjoint.
std::vector<net::Range> ranges_of(bool any, const std::vector<net::Prefix>& prefixes,
                                  net::Family family) {
    std::vector<net::Prefix> sorted;
    if (any)
        sorted.push_back(net::Prefix::everything(family));
    for (const net::Prefix& prefix : prefixes)
        if (prefix.family() == family)
            sorted.push_back(prefix);
    std::ranges::sort(sorted);
    std::vector<net::Range> ranges;
    for (const net::Prefix& prefix : sorted)
        if (ranges.empty() || ranges.back().last < prefix.first())
            ranges.push_back({prefix.first(), prefix.last()});
    return ranges;
}

// How many keys and port ranges a rule has in the index, at most `most`.
std::size_t entries_of(const FilterRule& rule, std::size_t most) {
    constexpr std::size_t sorts = 2 * ways.size() * protocols.size();
    std::size_t entries = sorts;
    for (std::size_t count : {rule.from.size(), rule.to.size(), rule.ports.size()}) {
        if (count > most)
            return most;
        entries = std::min(most, entries * std::max<std::size_t>(count, 1));
    }
    return entries;
}

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
    constexpr std::uint64_t odd = 0x9e3779b97f4a7c15;
    std::uint64_t high = (key.from.high() * odd ^ key.to.high()) * odd + key.sort;
    std::uint64_t hash = ((key.from.low() + high) * odd ^ key.to.low()) * odd;
    return hash ^ hash >> 32;
}

RuleIndex::RuleIndex(const std::vector<FilterRule>& rules, std::size_t& entries_left) {
    std::map<std::pair<int, int>, std::unordered_map<Key, std::vector<Claim>, Hash>> claims;
    std::map<std::pair<int, int>, std::uint32_t> first_rules;
    for (std::uint32_t i = 0; i < rules.size(); ++i) {
        const FilterRule& rule = rules[i];
        std::size_t entries = entries_of(rule, most_entries);
        if (entries >= entries_left) {
            keep_apart(i, rule);
            continue;
        }
        entries_left -= entries;
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
                    if (has(ways_of(rule), way) && has(protocols_of(rule), protocol))
                        claim_all(family, way, protocol);
    }
    for (auto& [bits, lists] : claims) {
        Tuple tuple{bits.first, bits.second, first_rules.at(bits), 0, {}};
        tuple.lists.reserve(lists.size());
        for (auto& [key, list] : lists) {
            tuple.sorts |= 1U << key.sort;
            tuple.lists.emplace(key, stretches(std::move(list)));
        }
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

void RuleIndex::keep_apart(std::uint32_t number, const FilterRule& rule) {
    for (net::Family family : net::both_families) {
        Wide wide{.rule = number,
                  .family = family,
                  .ways = ways_of(rule),
                  .protocols = protocols_of(rule),
                  .from = ranges_of(rule.any_from, rule.from, family),
                  .to = ranges_of(rule.any_to, rule.to, family),
                  .ports = {}};
        wide.ports = merged(rule.ports);
        if (rule.ports.empty())
            wide.ports.push_back({});
        wide_.push_back(std::move(wide));
    }
}

bool RuleIndex::Wide::matches(plan::Way way, const net::Flow& flow) const {
    auto holds = [](const auto& ranges, const auto& value, auto first, auto last) {
        auto after = std::ranges::upper_bound(ranges, value, {}, first);
        return after != ranges.begin() && value <= (*std::prev(after)).*last;
    };
    return has(ways, way) && has(protocols, flow.protocol) && flow.source.family() == family
           && holds(from, flow.source, &net::Range::first, &net::Range::last)
           && holds(to, flow.destination, &net::Range::first, &net::Range::last)
           && holds(ports, flow.destination_port, &net::Ports::first, &net::Ports::last);
}

std::uint32_t RuleIndex::first(plan::Way way, const net::Flow& flow) const {
    std::uint8_t sort = sort_of(flow.source.family(), way, flow.protocol);
    std::uint32_t best = none;
    for (const Tuple& tuple : tuples_) {
        if (tuple.first_rule >= best)
            break;
        if ((tuple.sorts >> sort & 1) == 0)
            continue;
        auto list = tuple.lists.find(
            {head(flow.source, tuple.from_bits), head(flow.destination, tuple.to_bits), sort});
        if (list == tuple.lists.end())
            continue;
        auto after = std::ranges::upper_bound(list->second, std::uint32_t{flow.destination_port},
                                              {}, &Stretch::port);
        if (after != list->second.begin())
            best = std::min(best, std::prev(after)->rule);
    }
    for (const Wide& wide : wide_) {
        if (wide.rule >= best)
            break;
        if (wide.matches(way, flow))
            best = wide.rule;
    }
    return best;
}

// --- shadowed rules ------------------------------------------------------------------------

namespace {

// What a rule matches, or a part of it.
struct Box {
    unsigned ways = 0;      // a bit for each
    unsigned protocols = 0; // the same
    net::Family family = net::Family::ipv4;
    net::Range from;
    net::Range to;
    unsigned first_port = 0;
    unsigned last_port = 65535;
};

bool meet(const Box& a, const Box& b) {
    return a.family == b.family && (a.ways & b.ways) != 0 && (a.protocols & b.protocols) != 0
           && a.from.overlaps(b.from) && a.to.overlaps(b.to) && a.first_port <= b.last_port
           && b.first_port <= a.last_port;
}

std::vector<Box> boxes_of(const FilterRule& rule) {
    Box blank;
    blank.ways = ways_of(rule);
    blank.protocols = protocols_of(rule);
    std::vector<net::Ports> ports = rule.ports;
    if (ports.empty())
        ports.push_back({});
    std::vector<Box> boxes;
    for (net::Family family : net::both_families)
        for (const net::Range& from : ranges_of(rule.any_from, rule.from, family))
            for (const net::Range& to : ranges_of(rule.any_to, rule.to, family))
                for (net::Ports range : ports) {
                    Box box = blank;
                    box.family = family;
                    box.from = from;
                    box.to = to;
                    box.first_port = range.first;
                    box.last_port = range.last;
                    boxes.push_back(box);
                }
    return boxes;
}

// Cuts off what of `box` lies on either side of `by`, adds it to `rest`, and narrows `box`.
void cut_range(Box& box, net::Range Box::*side, const net::Range& by, std::vector<Box>& rest) {
    if ((box.*side).first < by.first) {
        Box piece = box;
        (piece.*side).last = by.first.minus(1);
        rest.push_back(piece);
        (box.*side).first = by.first;
    }
    if (by.last < (box.*side).last) {
        Box piece = box;
        (piece.*side).first = by.last.plus(1);
        rest.push_back(piece);
        (box.*side).last = by.last;
    }
}

// Adds what of `box` is not in `by`, which meets it, to `rest`.
void subtract(Box box, const Box& by, std::vector<Box>& rest) {
    for (unsigned Box::*mask : {&Box::ways, &Box::protocols})
        if (unsigned left = box.*mask & ~(by.*mask); left != 0) {
            Box piece = box;
            piece.*mask = left;
            rest.push_back(piece);
            box.*mask &= by.*mask;
        }
    cut_range(box, &Box::from, by.from, rest);
    cut_range(box, &Box::to, by.to, rest);
    if (box.first_port < by.first_port) {
        rest.push_back(box);
        rest.back().last_port = by.first_port - 1;
    }
    if (by.last_port < box.last_port) {
        rest.push_back(box);
        rest.back().first_port = by.last_port + 1;
    }
}

} // namespace

std::vector<std::uint32_t> shadowed_rules(const Filter& filter, std::size_t& comparisons_left) {
    constexpr std::size_t most_pieces = 400;
    constexpr std::size_t most_boxes = 200'000;
    std::vector<Box> earlier;
    std::vector<std::uint32_t> found;
    for (std::uint32_t i = 0; i < filter.rules.size(); ++i) {
        if (entries_of(filter.rules[i], 18 * most_pieces) == 18 * most_pieces)
            continue;
        const std::vector<Box> own = boxes_of(filter.rules[i]);
        std::vector<Box> left = own;
        for (const Box& by : earlier) {
            std::vector<Box> rest;
            if (left.size() > comparisons_left)
                return found;
            comparisons_left -= left.size();
            for (const Box& box : left)
                if (meet(box, by))
                    subtract(box, by, rest);
                else
                    rest.push_back(box);
            left = std::move(rest);
            if (left.empty() || left.size() > most_pieces)
                break;
        }
        if (left.empty() && !own.empty())
            found.push_back(i);
        else if (earlier.size() < most_boxes)
            earlier.insert(earlier.end(), own.begin(), own.end());
    }
    return found;
}

} // namespace jackal::lab
