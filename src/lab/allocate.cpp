#include "allocate.h"

#include "jackal/net/free_space.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::lab {

namespace {

// Where sites without a space of their own get their prefixes (RFC 1918).
const net::Prefix common_space(net::Address::ipv4(10U << 24), 8);

constexpr int default_ipv4_length = 24;
constexpr int default_ipv6_length = 64; // RFC 4291 section 2.5.4

struct Wish {
    net::Family family;
    int length;
    SiteId site;
    SubnetId subnet;  // none for a link
    std::size_t link; // unused for a subnet
    std::optional<net::Prefix>* into;
};

// The longest IPv4 prefix with room for the hosts, their growth and a gateway.
int length_for_hosts(const plan::Subnet& subnet) {
    std::uint64_t grown = (subnet.hosts->value * (100 + subnet.growth_percent) + 99) / 100;
    if (subnet.gateway.kind != plan::SubnetGateway::Kind::none)
        ++grown;
    int length = 30;
    while (length > 0 && net::Prefix(net::Address::ipv4(0), length).usable() < grown)
        --length;
    return length;
}

std::string wish_text(const plan::Subnet& subnet, int length) {
    if (!subnet.hosts)
        return fmt::format("a /{}", length);
    return fmt::format(
        "a /{} for {} hosts{}", length, subnet.hosts->value,
        subnet.growth_percent == 0 ? "" : fmt::format(" and {}% growth", subnet.growth_percent));
}

// Free space of the sites, one pool for each site and family; sites without a space share one.
class Pools {
  public:
    Pools(const plan::Plan& plan, const Table<Site>& sites) : sites_(sites), own_(sites.size()) {
        common_.add(common_space);
        for (SiteId id : sites.ids())
            for (const net::Prefix& prefix : sites[id].space) {
                net::FreeSpace& pool = own_[id.row][prefix.family()];
                pool.remove(prefix); // spaces of one site may be written so that they overlap
                pool.add(prefix);
                remove_from_common(prefix);
            }
        for (const plan::Subnet& subnet : plan.subnets)
            for (const auto& prefix : subnet.prefixes)
                remove(prefix.value);
        for (const plan::Link& link : plan.links)
            for (const auto& prefix : link.prefixes)
                remove(prefix.value);
    }

    // True if the site has space of the family to place anything in.
    bool serves(SiteId site, net::Family family) const {
        const auto& space = sites_[site].space;
        if (space.empty())
            return family == common_space.family();
        return std::ranges::any_of(space, [&](const auto& p) { return p.family() == family; });
    }

    net::FreeSpace& pool(SiteId site, net::Family family) {
        return sites_[site].space.empty() ? common_ : own_[site.row][family];
    }

  private:
    void remove(const net::Prefix& prefix) {
        for (SiteId id : sites_.ids())
            if (std::ranges::any_of(sites_[id].space,
                                    [&](const auto& space) { return space.overlaps(prefix); }))
                own_[id.row][prefix.family()].remove(prefix);
        remove_from_common(prefix);
    }

    void remove_from_common(const net::Prefix& prefix) {
        if (prefix.overlaps(common_space))
            common_.remove(prefix);
    }

    const Table<Site>& sites_;
    std::vector<PerFamily<net::FreeSpace>> own_;
    net::FreeSpace common_;
};

std::string shortage(const net::FreeSpace& pool, const Site& site) {
    auto largest = pool.largest();
    std::string where = site.name.empty() ? "the lab" : fmt::format("site {}", site.name);
    if (!largest)
        return fmt::format("{} has no address space left", where);
    return fmt::format("the largest free block of {} is {}", where, net::to_string(*largest));
}

int wanted_length(const plan::Subnet& subnet, net::Family family) {
    if (family == net::Family::ipv6)
        return default_ipv6_length;
    if (subnet.size)
        return static_cast<int>(subnet.size->value);
    return subnet.hosts ? length_for_hosts(subnet) : default_ipv4_length;
}

class Planner {
  public:
    Planner(const plan::Plan& plan, const Table<Site>& sites)
        : plan_(plan), sites_(sites), pools_(plan, sites) {
        result_.subnets.resize(plan.subnets.size());
        result_.links.resize(plan.links.size());
    }

    Allocation run(const std::vector<SiteId>& site_of_subnet,
                   const std::vector<SiteId>& site_of_link) {
        for (std::uint32_t i = 0; i < plan_.subnets.size(); ++i)
            wish_for_subnet(SubnetId{i}, site_of_subnet[i]);
        for (std::size_t i = 0; i < plan_.links.size(); ++i)
            wish_for_link(i, site_of_link[i]);
        std::ranges::stable_sort(wishes_, {}, &Wish::length);
        for (const Wish& wish : wishes_)
            grant(wish);
        return std::move(result_);
    }

  private:
    void wish_for_subnet(SubnetId id, SiteId site) {
        const plan::Subnet& subnet = plan_.subnets[id.row];
        auto& into = result_.subnets[id.row];
        for (const auto& prefix : subnet.prefixes)
            into[prefix.value.family()] = prefix.value;
        if (!subnet.prefixes.empty())
            return;
        for (net::Family family : net::both_families) {
            if (!pools_.serves(site, family))
                continue;
            wishes_.push_back({family, wanted_length(subnet, family), site, id, 0, &into[family]});
        }
    }

    void wish_for_link(std::size_t i, SiteId site) {
        const plan::Link& link = plan_.links[i];
        auto& into = result_.links[i];
        for (const auto& prefix : link.prefixes)
            into[prefix.value.family()] = prefix.value;
        if (!link.prefixes.empty())
            return;
        for (net::Family family : net::both_families) {
            if (!pools_.serves(site, family))
                continue;
            int length = net::address_bits(family) - 1; // RFC 3021, RFC 6164
            wishes_.push_back({family, length, site, {}, i, &into[family]});
        }
    }

    void grant(const Wish& wish) {
        net::FreeSpace& pool = pools_.pool(wish.site, wish.family);
        *wish.into = pool.take(wish.family, wish.length);
        if (!*wish.into)
            refuse(wish, shortage(pool, sites_[wish.site]));
    }

    void refuse(const Wish& wish, std::string why) {
        std::string what;
        plan::Mark at;
        if (wish.subnet) {
            const plan::Subnet& subnet = plan_.subnets[wish.subnet.row];
            what =
                fmt::format("subnet {} wants {}", subnet.name,
                            wish.family == net::Family::ipv4 ? wish_text(subnet, wish.length)
                                                             : fmt::format("a /{}", wish.length));
            at = subnet.at;
        } else {
            const plan::Link& link = plan_.links[wish.link];
            what = fmt::format("the link {} -- {} wants a /{}", link.first.value, link.second.value,
                               wish.length);
            at = link.at;
        }
        result_.unplaced.push_back({std::move(what), std::move(why), wish.family, wish.site,
                                    wish.subnet, wish.length, at});
    }

    const plan::Plan& plan_;
    const Table<Site>& sites_;
    Pools pools_;
    Allocation result_;
    std::vector<Wish> wishes_;
};

} // namespace

Allocation allocate(const plan::Plan& plan, const Table<Site>& sites,
                    const std::vector<SiteId>& site_of_subnet,
                    const std::vector<SiteId>& site_of_link) {
    return Planner(plan, sites).run(site_of_subnet, site_of_link);
}

} // namespace jackal::lab
