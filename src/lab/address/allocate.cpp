#include "allocate.h"

#include "jackal/net/place.h"

#include <algorithm>
#include <array>
#include <bit>
#include <fmt/format.h>
#include <set>
#include <unordered_map>

namespace jackal::lab {

namespace {

constexpr int default_ipv4_length = 24;
constexpr int derived_length = 64; // of IPv6 subnets whose number is read from the IPv4 prefix

enum class What : std::uint8_t { subnet, link, loopback };

struct Wish {
    What what;
    std::size_t row; // of the plan's subnets, links or machines
    net::Family family;
    int length;
    Choice* into;
};

// Wishes that are granted from the same spaces.
struct Source {
    std::string name;       // "site harbour"
    SiteId site;            // none for a pool
    bool own = true;        // the plan writes its spaces
    PerFamily<bool> wanted; // what its subnets and links want prefixes of
    std::vector<net::Prefix> spaces;
    std::vector<Wish> wishes;

    bool serves(net::Family family) const {
        return std::ranges::any_of(spaces, [&](const auto& p) { return p.family() == family; });
    }
};

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

class Planner {
  public:
    Planner(const plan::Plan& plan, const std::vector<SiteId>& site_of_subnet,
            const std::vector<SiteId>& site_of_link, const std::vector<SiteId>& site_of_machine)
        : plan_(plan), site_of_subnet_(site_of_subnet), site_of_link_(site_of_link),
          site_of_machine_(site_of_machine) {
        result_.subnets.resize(plan.subnets.size());
        result_.links.resize(plan.links.size());
        bool any =
            std::ranges::any_of(plan.machines, [](const auto& m) { return bool(m.loopback); });
        result_.loopbacks.resize(any ? plan.machines.size() : 0);
    }

    Allocation run() {
        add_sources();
        take_written();
        take_pinned();
        taken_ = all_chosen();
        for (const auto& prefix : plan_.outside.lan)
            taken_.push_back(prefix.value);
        std::ranges::sort(taken_);
        find_spaces();
        wish();
        for (const plan::Pool& pool : plan_.pools) // which do not overlap each other
            grant(sources_[pool_source(pool)], taken_);
        for (const plan::Pool& pool : plan_.pools)
            for (const auto& prefix : pool.space)
                taken_.push_back(prefix.value);
        std::ranges::sort(taken_);
        for (std::size_t site = 0; site < site_count(); ++site)
            grant(sources_[site], taken_);
        for (std::size_t site = 0; site < site_count(); ++site)
            result_.spaces.push_back(std::move(sources_[site].spaces));
        return std::move(result_);
    }

  private:
    // --- sources: the sites, then the pools ------------------------------------------------

    std::size_t site_count() const { return std::max<std::size_t>(plan_.sites.size(), 1); }
    std::size_t pool_source(const plan::Pool& pool) const {
        return site_count() + static_cast<std::size_t>(&pool - plan_.pools.data());
    }

    void add_sources() {
        for (std::uint32_t i = 0; i < site_count(); ++i)
            sources_.push_back(
                {.name = "the lab", .site = SiteId{i}, .own = false, .spaces = {}, .wishes = {}});
        for (std::size_t i = 0; i < plan_.sites.size(); ++i) {
            sources_[i].own = !plan_.sites[i].space.empty();
            sources_[i].name = fmt::format("site {}", plan_.sites[i].name);
            for (const auto& prefix : plan_.sites[i].space)
                sources_[i].spaces.push_back(prefix.value);
        }
        for (const plan::Pool& pool : plan_.pools) {
            pool_rows_.emplace(pool.name, pool_source(pool));
            Source source{.name = fmt::format("pool {}", pool.name),
                          .site = {},
                          .own = true,
                          .spaces = {},
                          .wishes = {}};
            for (const auto& prefix : pool.space)
                source.spaces.push_back(prefix.value);
            sources_.push_back(std::move(source));
        }
    }

    Source& source_of(const plan::Placed<std::string>& pool, SiteId site) {
        return sources_[pool.value.empty() ? site.row : pool_rows_.at(pool.value)];
    }

    // --- what is decided already -------------------------------------------------------------

    static void take(PerFamily<Choice>& into, const plan::Placed<net::Prefix>& prefix,
                     Reason::Kind kind) {
        into[prefix.value.family()] = {prefix.value, {.kind = kind, .block = {}, .at = prefix.at}};
    }

    void take_written() {
        for (std::size_t i = 0; i < plan_.subnets.size(); ++i)
            for (const auto& prefix : plan_.subnets[i].prefixes)
                take(result_.subnets[i], prefix, Reason::Kind::written);
        for (std::size_t i = 0; i < plan_.links.size(); ++i)
            for (const auto& prefix : plan_.links[i].prefixes)
                take(result_.links[i], prefix, Reason::Kind::written);
        for (std::size_t i = 0; i < result_.loopbacks.size(); ++i)
            if (const auto& loopback = plan_.machines[i].loopback)
                for (const auto& address : loopback->given)
                    take(result_.loopbacks[i], whole(address), Reason::Kind::written);
    }

    static plan::Placed<net::Prefix> whole(const plan::Placed<net::Address>& address) {
        return {net::Prefix(address.value, net::address_bits(address.value.family())), address.at};
    }

    // Pins count for entries that are there and write no prefix of their own.
    void take_pinned() {
        std::unordered_map<std::string_view, std::size_t> rows;
        auto number = [&](const auto& entries) {
            rows.clear();
            for (std::size_t i = 0; i < entries.size(); ++i)
                rows.emplace(entries[i].name, i);
        };
        number(plan_.subnets);
        for (const auto& pin : plan_.pins.subnets)
            if (auto found = rows.find(pin.name);
                found != rows.end() && plan_.subnets[found->second].prefixes.empty())
                pin_subnet(found->second, pin);
        number(plan_.machines);
        for (const auto& pin : plan_.pins.loopbacks)
            if (auto found = rows.find(pin.machine); found != rows.end())
                if (const auto& loopback = plan_.machines[found->second].loopback;
                    loopback && loopback->given.empty())
                    for (const auto& address : pin.chosen)
                        take(result_.loopbacks[found->second], whole(address),
                             Reason::Kind::pinned);
        if (plan_.pins.links.empty())
            return;
        rows.clear();
        const std::vector<std::string> names = plan::link_names(plan_.links);
        for (std::size_t i = 0; i < names.size(); ++i)
            rows.emplace(names[i], i);
        for (const auto& pin : plan_.pins.links)
            if (auto found = rows.find(pin.name);
                found != rows.end() && plan_.links[found->second].prefixes.empty())
                for (const auto& prefix : pin.prefixes)
                    if (prefix.value.usable() >= 2)
                        take(result_.links[found->second], prefix, Reason::Kind::pinned);
    }

    void pin_subnet(std::size_t row, const plan::Pins::Prefixes& pin) {
        const plan::Subnet& subnet = plan_.subnets[row];
        for (const auto& prefix : pin.prefixes) {
            take(result_.subnets[row], prefix, Reason::Kind::pinned);
            int wanted = wanted_length(subnet, prefix.value.family());
            if (prefix.value.length() > wanted)
                result_.unplaced.push_back(
                    {.what =
                         fmt::format("subnet {} wants {}", subnet.name, wish_text(subnet, wanted)),
                     .why = fmt::format("it is pinned to {}", net::to_string(prefix.value)),
                     .advice = fmt::format("take {} out of `pinned` and pin again; it will move",
                                           subnet.name),
                     .family = prefix.value.family(),
                     .site = {},
                     .subnet = SubnetId{static_cast<std::uint32_t>(row)},
                     .length = wanted,
                     .at = subnet.at});
        }
    }

    std::vector<net::Prefix> all_chosen() const {
        std::vector<net::Prefix> all;
        for (const auto* rows : {&result_.subnets, &result_.links, &result_.loopbacks})
            for (const PerFamily<Choice>& row : *rows)
                for (net::Family family : net::both_families)
                    if (row[family].prefix)
                        all.push_back(*row[family].prefix);
        return all;
    }

    // --- spaces for sites without one ----------------------------------------------------------

    void find_spaces() {
        std::vector<net::Prefix> owned = taken_;
        for (const Source& source : sources_)
            owned.insert(owned.end(), source.spaces.begin(), source.spaces.end());
        take_pinned_spaces(owned);
        std::ranges::sort(owned);
        give_ipv4_spaces(owned);
        give_ipv6_spaces(owned);
    }

    void take_pinned_spaces(std::vector<net::Prefix>& owned) {
        std::unordered_map<std::string_view, std::size_t> rows;
        for (std::size_t i = 0; i < plan_.sites.size(); ++i)
            rows.emplace(plan_.sites[i].name, i);
        if (plan_.sites.empty())
            rows.emplace(plan_.lab, 0);
        for (const auto& pin : plan_.pins.sites) {
            auto found = rows.find(pin.name);
            if (found == rows.end() || sources_[found->second].own)
                continue;
            for (const auto& prefix : pin.prefixes) {
                sources_[found->second].spaces.push_back(prefix.value);
                owned.push_back(prefix.value);
            }
        }
    }

    // Addresses that will be asked of each site without a space of the family's own; and subnets.
    std::vector<std::uint64_t> ipv4_demand() const {
        std::vector<std::uint64_t> demand(site_count(), 0);
        for (std::size_t i = 0; i < plan_.subnets.size(); ++i)
            if (plan_.subnets[i].prefixes.empty() && !result_.subnets[i].ipv4.prefix)
                demand[site_of_subnet_[i].row] +=
                    std::uint64_t{1} << (32 - wanted_length(plan_.subnets[i], net::Family::ipv4));
        for (std::size_t i = 0; i < plan_.links.size(); ++i)
            if (plan_.links[i].prefixes.empty() && plan_.links[i].pool.value.empty())
                demand[site_of_link_[i].row] += 2;
        for (std::size_t i = 0; i < result_.loopbacks.size(); ++i)
            if (const auto& loopback = plan_.machines[i].loopback;
                loopback && loopback->given.empty() && loopback->pool.value.empty())
                demand[site_of_machine_[i].row] += 1;
        return demand;
    }

    // Each such site gets a block of its own, twice as large as it needs now and at least a /16;
    // if there is none, one that just holds what it needs.
    void give_ipv4_spaces(std::vector<net::Prefix>& owned) {
        static const std::array<net::Prefix, 3> private_spaces = {
            private_space, net::Prefix(net::Address::ipv4(172U << 24 | 16U << 16), 12),
            net::Prefix(net::Address::ipv4(192U << 24 | 168U << 16), 16)};
        constexpr int shortest_by_itself = 16;
        std::vector<std::uint64_t> demand = ipv4_demand();
        std::vector<std::size_t> sites;
        for (std::size_t i = 0; i < site_count(); ++i)
            if (!sources_[i].own && demand[i] > 0 && !sources_[i].serves(net::Family::ipv4))
                sites.push_back(i);
        for (bool with_room : {true, false})
            for (const net::Prefix& from : private_spaces) {
                std::vector<net::PlaceWish> wishes;
                for (std::size_t site : sites) {
                    int needed = 32 - static_cast<int>(std::bit_width(demand[site] - 1));
                    wishes.push_back(
                        {net::Family::ipv4,
                         std::clamp(with_room ? std::min(needed - 1, shortest_by_itself) : needed,
                                    1, 32)});
                }
                std::span one(&from, 1);
                net::Placements placed = net::place(one, net::overlapping(owned, one), wishes);
                std::vector<std::size_t> left;
                for (std::size_t k = 0; k < sites.size(); ++k) {
                    if (!placed.prefixes[k]) {
                        left.push_back(sites[k]);
                        continue;
                    }
                    sources_[sites[k]].spaces.push_back(*placed.prefixes[k]);
                    owned.push_back(*placed.prefixes[k]);
                }
                sites = std::move(left);
                std::ranges::sort(owned);
            }
    }

    // A site that chose all its IPv4 prefixes itself and none of IPv6 stays without.
    void give_ipv6_spaces(const std::vector<net::Prefix>& owned) {
        constexpr std::size_t subnets_in_each = 1U << 15;
        constexpr int most_tries = 100;
        std::vector<std::size_t> subnets(site_count(), 0);
        for (std::size_t i = 0; i < plan_.subnets.size(); ++i)
            if (plan_.subnets[i].prefixes.empty()
                || result_.subnets[i].ipv6.prefix) // links then have IPv6 as well
                ++subnets[site_of_subnet_[i].row];
        std::set<net::Prefix> given;
        for (std::size_t i = 0; i < site_count(); ++i) {
            if (sources_[i].own || subnets[i] == 0 || sources_[i].serves(net::Family::ipv6))
                continue;
            std::string words = plan_.lab + "/" + (plan_.sites.empty() ? "" : plan_.sites[i].name);
            std::size_t wanted = subnets[i] / subnets_in_each + 1;
            for (int k = 0; k < most_tries && wanted > 0; ++k) {
                net::Prefix found =
                    net::unique_local_prefix(k == 0 ? words : fmt::format("{}/{}", words, k));
                if (!net::overlapping(owned, {&found, 1}).empty() || !given.insert(found).second)
                    continue;
                sources_[i].spaces.push_back(found);
                --wanted;
            }
        }
    }

    // --- wishes --------------------------------------------------------------------------------

    // A site that no space was found for still wants IPv4 prefixes, so that the want is told.
    void note_families() {
        for (Source& source : sources_)
            for (net::Family family : net::both_families)
                source.wanted[family] =
                    source.serves(family) || (!source.own && family == net::Family::ipv4);
    }

    void wish() {
        note_families();
        for (std::size_t i = 0; i < plan_.subnets.size(); ++i)
            if (plan_.subnets[i].prefixes.empty())
                for (net::Family family : net::both_families)
                    wish(sources_[site_of_subnet_[i].row], result_.subnets[i],
                         {What::subnet, i, family, wanted_length(plan_.subnets[i], family), {}});
        for (std::size_t i = 0; i < plan_.links.size(); ++i)
            if (const plan::Link& link = plan_.links[i]; link.prefixes.empty())
                for (net::Family family : net::both_families) // RFC 3021, RFC 6164
                    wish(source_of(link.pool, site_of_link_[i]), result_.links[i],
                         {What::link, i, family, net::address_bits(family) - 1, {}});
        for (std::size_t i = 0; i < result_.loopbacks.size(); ++i)
            if (const auto& loopback = plan_.machines[i].loopback;
                loopback && loopback->given.empty())
                for (net::Family family : net::both_families)
                    wish(source_of(loopback->pool, site_of_machine_[i]), result_.loopbacks[i],
                         {What::loopback, i, family, net::address_bits(family), {}});
    }

    static void wish(Source& source, PerFamily<Choice>& row, Wish wish) {
        wish.into = &row[wish.family];
        if (!wish.into->prefix && source.wanted[wish.family])
            source.wishes.push_back(wish);
    }

    // --- granting ------------------------------------------------------------------------------

    void grant(Source& source, const std::vector<net::Prefix>& taken) {
        std::vector<net::Prefix> in_the_way = net::overlapping(taken, source.spaces);
        std::vector<Wish> ipv4;
        std::vector<Wish> ipv6;
        for (const Wish& wish : source.wishes)
            (wish.family == net::Family::ipv4 ? ipv4 : ipv6).push_back(wish);
        if (!ipv4.empty())
            refuse_rest(source, ipv4, place(source, in_the_way, ipv4));
        if (ipv6.empty())
            return;
        std::vector<Wish> rest = ipv6;
        std::vector<net::Prefix> with_derived = in_the_way;
        derive(source, rest, with_derived);
        auto shortages = place(source, with_derived, rest);
        if (!shortages.empty() && rest.size() < ipv6.size()) // tight: numbers do not matter then
            shortages = place(source, in_the_way, rest = ipv6);
        refuse_rest(source, rest, shortages);
    }

    // Gives subnets the IPv6 numbers that their IPv4 prefixes suggest, and takes them off `wishes`.
    void derive(const Source& source, std::vector<Wish>& wishes, std::vector<net::Prefix>& taken) {
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
                || !result_.subnets[wish.row].ipv4.prefix)
                return false;
            for (const net::Prefix& space : spaces) {
                auto found = suggested(*result_.subnets[wish.row].ipv4.prefix, space);
                if (!found || !space.contains(*found)
                    || !net::overlapping(before, {&*found, 1}).empty()
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
            *wishes[i].into = {
                placed.prefixes[i],
                {.kind = placed.prefixes[i] ? Reason::Kind::placed : Reason::Kind::none,
                 .block = placed.blocks[i],
                 .at = {}}};
        return std::move(placed.shortages);
    }

    void refuse_rest(const Source& source, const std::vector<Wish>& wishes,
                     const std::vector<net::Shortage>& shortages) {
        for (const net::Shortage& shortage : shortages)
            refuse(source, wishes[shortage.wish], shortage.largest);
    }

    void refuse(const Source& source, const Wish& wish, const std::optional<net::Prefix>& largest) {
        Unplaced entry{.what = {},
                       .why = shortage_text(source, wish, largest),
                       .advice = "give it a larger or a further space, or ask for less",
                       .family = wish.family,
                       .site = source.site,
                       .subnet = {},
                       .length = wish.length,
                       .at = {}};
        bool ipv4 = wish.family == net::Family::ipv4;
        if (wish.what == What::subnet) {
            const plan::Subnet& subnet = plan_.subnets[wish.row];
            entry.what = fmt::format("subnet {} wants {}", subnet.name,
                                     ipv4 ? wish_text(subnet, wish.length)
                                          : fmt::format("a /{}", wish.length));
            entry.subnet = SubnetId{static_cast<std::uint32_t>(wish.row)};
            entry.at = subnet.at;
        } else if (wish.what == What::link) {
            const plan::Link& link = plan_.links[wish.row];
            entry.what = fmt::format("the link {} -- {} wants a /{}", link.first.value,
                                     link.second.value, wish.length);
            entry.at = link.at;
        } else {
            const plan::Machine& machine = plan_.machines[wish.row];
            entry.what = fmt::format("the loopback of {} wants a /{}", machine.name, wish.length);
            entry.at = machine.loopback->at;
        }
        result_.unplaced.push_back(std::move(entry));
    }

    std::string shortage_text(const Source& source, const Wish& wish,
                              const std::optional<net::Prefix>& largest) const {
        if (!source.serves(wish.family))
            return fmt::format("no private range (RFC 1918) is left for {}", source.name);
        if (!largest)
            return fmt::format("{} has no address space left", source.name);
        std::string missing;
        if (wish.family == net::Family::ipv4)
            missing = fmt::format(", {} addresses too small{}",
                                  net::Prefix(net::Address::ipv4(0), wish.length).size()
                                      - largest->size(),
                                  growth_text(wish, *largest));
        return fmt::format("the largest free block of {} is {}{}", source.name,
                           net::to_string(*largest), missing);
    }

    // How much growth there would be room for, if that is what is too much.
    std::string growth_text(const Wish& wish, const net::Prefix& largest) const {
        const plan::Subnet& subnet = plan_.subnets[wish.row];
        if (wish.what != What::subnet || !subnet.hosts)
            return "";
        plan::Subnet without = subnet;
        for (unsigned percent = subnet.growth_percent; percent > 0;) {
            percent = percent > 10 ? (percent - 1) / 10 * 10 : 0;
            without.growth_percent = static_cast<std::uint16_t>(percent);
            if (wanted_length(without, net::Family::ipv4) >= largest.length())
                return fmt::format("; with a growth of {}% it would fit", percent);
        }
        return "";
    }

    const plan::Plan& plan_;
    const std::vector<SiteId>& site_of_subnet_;
    const std::vector<SiteId>& site_of_link_;
    const std::vector<SiteId>& site_of_machine_;
    Allocation result_;
    std::vector<Source> sources_;
    std::unordered_map<std::string, std::size_t> pool_rows_;
    std::vector<net::Prefix> taken_; // sorted, but while it is put together
};

} // namespace

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
    return Planner(plan, site_of_subnet, site_of_link, site_of_machine).run();
}

} // namespace jackal::lab
