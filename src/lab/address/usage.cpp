#include "jackal/lab/usage.h"

#include "jackal/net/place.h"

#include <algorithm>
#include <cmath>
#include <set>

namespace jackal::lab {

namespace {

// How many usable addresses of `prefix` are in the range.
std::uint64_t usable_in(const net::Prefix& prefix, const net::Range& range) {
    net::Range usable{prefix.first_usable(), prefix.last_usable()};
    if (range.first.family() != prefix.family() || !usable.overlaps(range))
        return 0;
    return net::Range{std::max(usable.first, range.first), std::min(usable.last, range.last)}
        .size();
}

// The parts of the row that depend on what its subnet sets aside.
void count_set_aside(PrefixUsage& row, const Subnet& subnet, const std::set<net::Address>& taken) {
    row.gateway = subnet.gateway[row.prefix.family()];
    if (row.prefix.family() == net::Family::ipv4 && subnet.dhcp)
        row.dhcp = *subnet.dhcp;
    std::uint64_t aside = 0;
    for (const net::Range& range : subnet.reserved)
        row.reserved += usable_in(row.prefix, range);
    if (row.dhcp) {
        aside = usable_in(row.prefix, *row.dhcp);
        for (const net::Range& range : subnet.reserved)
            if (range.overlaps(*row.dhcp)) // counted once
                aside -= usable_in(row.prefix, {std::max(range.first, row.dhcp->first),
                                                std::min(range.last, row.dhcp->last)});
    }
    aside += row.reserved;
    auto is_plain = [&](net::Address a) { return subnet.set_aside(a) == nullptr; };
    auto plain = static_cast<std::uint64_t>(std::ranges::count_if(taken, is_plain));
    row.free = row.prefix.usable() - std::min(aside + plain, row.prefix.usable());
    if (subnet.hosts == 0 || row.prefix.family() == net::Family::ipv6)
        return;
    std::uint64_t hosts = subnet.hosts;
    if (row.gateway)
        ++hosts;
    std::uint64_t spoken_for = row.reserved + std::max(hosts, row.used);
    row.growth_left = row.prefix.usable() - std::min(spoken_for, row.prefix.usable());
}

} // namespace

std::vector<PrefixUsage> usage(const Lab& lab) {
    std::vector<PrefixUsage> rows;
    for (SegmentId id : lab.segments.ids()) {
        const Segment& segment = lab.segments[id];
        for (net::Family family : net::both_families) {
            if (!segment.prefix[family])
                continue;
            PrefixUsage row{.segment = id, .site = {}, .prefix = *segment.prefix[family]};
            std::set<net::Address> taken;
            for (NicId nic : segment.nics)
                for (AddressId address : lab.addresses_of(nic))
                    if (row.prefix.contains(lab.addresses[address].address))
                        taken.insert(lab.addresses[address].address);
            row.used = taken.size();
            row.free = row.prefix.usable() - std::min(row.used, row.prefix.usable());
            if (segment.subnet) {
                row.site = lab.subnets[segment.subnet].site;
                count_set_aside(row, lab.subnets[segment.subnet], taken);
            }
            rows.push_back(row);
        }
    }
    return rows;
}

namespace {

// The share of `part` that the blocks leave over.
double used_share(const net::Prefix& part, const std::vector<net::Prefix>& free) {
    double share = 1;
    for (const net::Prefix& block : free) {
        if (block.contains(part))
            return 0;
        if (part.contains(block))
            share -= std::ldexp(1.0, part.length() - block.length());
    }
    return std::max(share, 0.0);
}

std::vector<net::Prefix> parts_of(const net::Prefix& space) {
    constexpr int most_bits = 5;
    std::vector<net::Prefix> parts{space};
    for (int bits = std::min(most_bits, space.host_bits()); bits > 0; --bits) {
        std::vector<net::Prefix> halves;
        for (const net::Prefix& part : parts) {
            halves.push_back(part.lower_half());
            halves.push_back(part.upper_half());
        }
        parts = std::move(halves);
    }
    return parts;
}

} // namespace

std::vector<SpaceUsage> space_usage(const Lab& lab) {
    std::vector<SpaceUsage> rows;
    auto add = [&](SiteId site, PoolId pool, const net::Prefix& space,
                   const std::vector<net::Prefix>& taken) {
        SpaceUsage row{.site = site, .pool = pool, .space = space};
        std::span one(&space, 1);
        row.free = net::place(one, net::overlapping(taken, one), {}).free;
        row.used_share = used_share(space, row.free);
        for (const net::Prefix& part : parts_of(space))
            row.parts.push_back(used_share(part, row.free));
        rows.push_back(std::move(row));
    };
    const std::vector<net::Prefix> taken = lab.taken();
    for (SiteId id : lab.sites.ids())
        for (const net::Prefix& space : lab.sites[id].space)
            if (!lab.sites[id].outside)
                add(id, {}, space, taken);
    const std::vector<net::Prefix> used = lab.prefixes();
    for (PoolId id : lab.pools.ids())
        for (const net::Prefix& space : lab.pools[id].space)
            add({}, id, space, used);
    return rows;
}

std::vector<Room> rooms(const Lab& lab, net::Family family, int length) {
    constexpr int most_bits = 63; // of the count
    std::vector<Room> found;
    const std::vector<net::Prefix> taken = lab.taken();
    for (SiteId id : lab.sites.ids()) {
        if (lab.sites[id].outside)
            continue;
        const auto& spaces = lab.sites[id].space;
        auto blocks = net::place(spaces, net::overlapping(taken, spaces), {}).free;
        std::ranges::stable_sort(blocks, std::greater<>(), &net::Prefix::length);
        for (const net::Prefix& block : blocks)
            if (block.family() == family && block.length() <= length)
                found.push_back(
                    {.site = id,
                     .first = {block.first(), length},
                     .block = block,
                     .count = std::uint64_t{1} << std::min(length - block.length(), most_bits)});
    }
    return found;
}

AddressMap::AddressMap(const Lab& lab) : lab_(&lab) {
    std::vector<net::PrefixTable::Entry> entries;
    auto number = [&](const auto& rows) {
        entries.clear();
        for (std::uint32_t i = 0; i < rows.size(); ++i)
            entries.push_back({rows[i].prefix, i});
        return net::PrefixTable(entries);
    };
    for (SegmentId id : lab.segments.ids())
        for (net::Family family : net::both_families)
            if (const auto& prefix = lab.segments[id].prefix[family])
                ranges_.push_back({*prefix, id});
    for (SiteId id : lab.sites.ids())
        for (const net::Prefix& space : lab.sites[id].space)
            spaces_.push_back({space, id, {}});
    for (PoolId id : lab.pools.ids()) // after the sites: of equal prefixes the pool's counts
        for (const net::Prefix& space : lab.pools[id].space)
            spaces_.push_back({space, {}, id});
    range_table_ = number(ranges_);
    space_table_ = number(spaces_);
}

Whose AddressMap::whose(net::Address address) const {
    using Kind = Whose::Kind;
    Whose answer;
    answer.owners = lab_->owners_of(address);
    std::uint32_t range = range_table_.lookup(address);
    std::uint32_t space = space_table_.lookup(address);
    if (range != net::PrefixTable::none) {
        const net::Prefix& prefix = ranges_[range].prefix;
        answer.segment = ranges_[range].segment;
        answer.prefix = prefix;
        answer.kind = prefix.is_broadcast_address(address) ? Kind::broadcast
                      : prefix.is_network_address(address) ? Kind::network
                                                           : Kind::free;
        if (SubnetId subnet = lab_->segments[answer.segment].subnet) {
            answer.site = lab_->subnets[subnet].site;
            const Subnet& row = lab_->subnets[subnet];
            if (const net::Range* aside = row.set_aside(address))
                answer.kind = row.dhcp && aside == &*row.dhcp ? Kind::dhcp : Kind::reserved;
            if (row.gateway[address.family()] == address)
                answer.kind = Kind::gateway;
        }
    } else if (space != net::PrefixTable::none) {
        answer.kind = Kind::space;
        answer.prefix = spaces_[space].prefix;
        answer.site = spaces_[space].site;
        answer.pool = spaces_[space].pool;
    } else {
        for (const net::Prefix& lan : lab_->outside_lan)
            if (lan.contains(address)) {
                answer.kind = Kind::lan;
                answer.prefix = lan;
            }
    }
    if (!answer.owners.empty())
        answer.kind = Kind::machine;
    return answer;
}

} // namespace jackal::lab
