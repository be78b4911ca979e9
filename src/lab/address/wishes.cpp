#include "lab/address/planning.h"

#include "jackal/net/place.h"

#include <algorithm>
#include <bit>
#include <fmt/format.h>
#include <set>

namespace jackal::lab {

namespace {

constexpr int derived_length = 64; // of IPv6 subnets whose number is read from the IPv4 prefix

// The IPv6 subnet whose number can be read from an IPv4 prefix: the third byte in decimal digits
// and the upper half of the fourth as one more, so that 10.40.8.64/26 suggests fd40:7:0:84::/64.
// Where the space leaves 28 bits for the number, the digits of the second byte stand before them.
std::optional<net::Prefix> suggested(const net::Prefix& ipv4, const net::Prefix& space) {
    auto digits = [](std::uint64_t byte) {
        return byte / 100 << 8 | byte / 10 % 10 << 4 | byte % 10;
    };
    auto byte = [&](int shift) { return ipv4.first().low() >> shift & 0xff; };
    std::uint64_t number = digits(byte(8)) << 4 | byte(0) >> 4;
    constexpr int least_bits = 16;
    constexpr int bits_with_second = 28;
    int bits = derived_length - space.length();
    if (bits < least_bits)
        return std::nullopt;
    if (bits >= bits_with_second)
        number |= digits(byte(16)) << 16;
    return net::Prefix(net::Address(space.first().high() + number, 0), derived_length);
}

// Gives subnets the IPv6 numbers that their IPv4 prefixes suggest, and takes them off `wishes`.
void derive(Planning& p, const Source& source, std::vector<Wish>& wishes,
            std::vector<net::Prefix>& taken) {
    std::ranges::sort(taken);
    const std::vector<net::Prefix> before = taken;
    std::set<net::Prefix> given;
    constexpr std::size_t most_spaces = 4;
    std::vector<net::Prefix> spaces;
    for (const net::Prefix& space : source.spaces)
        if (space.family() == net::Family::ipv6 && spaces.size() < most_spaces)
            spaces.push_back(space);
    std::erase_if(wishes, [&](const Wish& wish) {
        if (wish.what != What::subnet || wish.length != derived_length
            || !p.result.subnets[wish.row].ipv4.prefix)
            return false;
        for (const net::Prefix& space : spaces) {
            auto found = suggested(*p.result.subnets[wish.row].ipv4.prefix, space);
            if (!found || !space.contains(*found) || !net::overlapping(before, {&*found, 1}).empty()
                || !given.insert(*found).second)
                continue;
            *wish.into = {*found, {.kind = Reason::Kind::derived, .block = {}, .at = {}}};
            taken.push_back(*found);
            return true;
        }
        return false;
    });
}

std::vector<net::Shortage> place(const Source& source, const std::vector<net::Prefix>& taken,
                                 const std::vector<Wish>& wishes) {
    std::vector<net::PlaceWish> asked;
    for (const Wish& wish : wishes)
        asked.push_back({wish.family, wish.length});
    net::Placements placed = net::place(source.spaces, taken, asked);
    for (std::size_t i = 0; i < wishes.size(); ++i)
        *wishes[i].into = {placed.prefixes[i],
                           {.kind = placed.prefixes[i] ? Reason::Kind::placed : Reason::Kind::none,
                            .block = placed.blocks[i],
                            .at = {}}};
    return std::move(placed.shortages);
}

// How much growth there would be room for, if that is what is too much.
std::string growth_text(const Planning& p, const Wish& wish, const net::Prefix& largest) {
    if (wish.what != What::subnet || !p.plan.subnets[wish.row].hosts)
        return "";
    const plan::Subnet& subnet = p.plan.subnets[wish.row];
    plan::Subnet without = subnet;
    for (unsigned percent = subnet.growth_percent; percent > 0;) {
        percent = percent > 10 ? (percent - 1) / 10 * 10 : 0;
        without.growth_percent = static_cast<std::uint16_t>(percent);
        if (wanted_length(without, net::Family::ipv4) >= largest.length())
            return fmt::format("; with a growth of {}% it would fit", percent);
    }
    return "";
}

std::string shortage_text(const Planning& p, const Source& source, const Wish& wish,
                          const std::optional<net::Prefix>& largest) {
    if (!source.serves(wish.family))
        return fmt::format("no private range (RFC 1918) is left for {}", source.name);
    if (!largest)
        return fmt::format("{} has no address space left", source.name);
    std::string missing;
    if (wish.family == net::Family::ipv4)
        missing =
            fmt::format(", {} addresses too small{}",
                        net::Prefix(net::Address::ipv4(0), wish.length).size() - largest->size(),
                        growth_text(p, wish, *largest));
    return fmt::format("the largest free block of {} is {}{}", source.name,
                       net::to_string(*largest), missing);
}

void refuse(Planning& p, const Source& source, const Wish& wish,
            const std::optional<net::Prefix>& largest) {
    Unplaced entry{.what = {},
                   .why = shortage_text(p, source, wish, largest),
                   .advice = "give it a larger or a further space, or ask for less",
                   .family = wish.family,
                   .site = source.site,
                   .subnet = {},
                   .length = wish.length,
                   .at = {}};
    bool ipv4 = wish.family == net::Family::ipv4;
    if (wish.what == What::subnet) {
        const plan::Subnet& subnet = p.plan.subnets[wish.row];
        entry.what =
            fmt::format("subnet {} wants {}", subnet.name,
                        ipv4 ? wish_text(subnet, wish.length) : fmt::format("a /{}", wish.length));
        entry.subnet = SubnetId{static_cast<std::uint32_t>(wish.row)};
        entry.at = subnet.at;
    } else if (wish.what == What::link) {
        const plan::Link& link = p.plan.links[wish.row];
        entry.what = fmt::format("the link {} -- {} wants a /{}", link.first.value,
                                 link.second.value, wish.length);
        entry.at = link.at;
    } else {
        const plan::Machine& machine = p.plan.machines[wish.row];
        entry.what = fmt::format("the loopback of {} wants a /{}", machine.name, wish.length);
        entry.at = machine.loopback->at;
    }
    p.result.unplaced.push_back(std::move(entry));
}

void refuse_rest(Planning& p, const Source& source, const std::vector<Wish>& wishes,
                 const std::vector<net::Shortage>& shortages) {
    for (const net::Shortage& shortage : shortages)
        refuse(p, source, wishes[shortage.wish], shortage.largest);
}

} // namespace

void wish(Planning& p) {
    note_families(p);
    for (std::size_t i = 0; i < p.plan.subnets.size(); ++i)
        if (p.plan.subnets[i].prefixes.empty())
            for (net::Family family : net::both_families)
                wish(p.sources[p.site_of_subnet[i].row], p.result.subnets[i],
                     {What::subnet, i, family, wanted_length(p.plan.subnets[i], family), {}});
    for (std::size_t i = 0; i < p.plan.links.size(); ++i)
        if (const plan::Link& link = p.plan.links[i]; link.prefixes.empty())
            for (net::Family family : net::both_families) // RFC 3021, RFC 6164
                wish(source_of(p, link.pool, p.site_of_link[i]), p.result.links[i],
                     {What::link, i, family, net::address_bits(family) - 1, {}});
    for (std::size_t i = 0; i < p.result.loopbacks.size(); ++i)
        if (const auto& loopback = p.plan.machines[i].loopback; loopback && loopback->given.empty())
            for (net::Family family : net::both_families)
                wish(source_of(p, loopback->pool, p.site_of_machine[i]), p.result.loopbacks[i],
                     {What::loopback, i, family, net::address_bits(family), {}});
}

void wish(Source& source, PerFamily<Choice>& row, Wish wish) {
    wish.into = &row[wish.family];
    if (!wish.into->prefix && source.wanted[wish.family])
        source.wishes.push_back(wish);
}

void grant(Planning& p, Source& source, const std::vector<net::Prefix>& taken) {
    std::vector<net::Prefix> in_the_way = net::overlapping(taken, source.spaces);
    std::vector<Wish> ipv4;
    std::vector<Wish> ipv6;
    for (const Wish& wish : source.wishes)
        (wish.family == net::Family::ipv4 ? ipv4 : ipv6).push_back(wish);
    if (!ipv4.empty())
        refuse_rest(p, source, ipv4, place(source, in_the_way, ipv4));
    if (ipv6.empty())
        return;
    std::vector<Wish> rest = ipv6;
    std::vector<net::Prefix> with_derived = in_the_way;
    derive(p, source, rest, with_derived);
    auto shortages = place(source, with_derived, rest);
    if (!shortages.empty() && rest.size() < ipv6.size()) // tight: numbers do not matter then
        shortages = place(source, in_the_way, rest = ipv6);
    refuse_rest(p, source, rest, shortages);
}

} // namespace jackal::lab
