#include "export/renumber/renumberer.h"

#include "jackal/lab/build.h"
#include "jackal/net/place.h"
#include "jackal/plan/rewrite.h"

#include <algorithm>
#include <charconv>
#include <fmt/format.h>

namespace jackal::exports {

using lab::SegmentId;
using lab::SiteId;
using lab::SubnetId;
using net::Prefix;

namespace {

std::vector<net::PlaceWish> wishes_for(const std::vector<Prefix>& pieces) {
    std::vector<net::PlaceWish> wishes;
    for (const Prefix& piece : pieces)
        wishes.push_back({piece.family(), piece.length()});
    return wishes;
}

std::string needed(const Renumberer& r, const std::vector<Prefix>& pieces) {
    const std::vector<net::PlaceWish> wishes = wishes_for(pieces);
    for (int length = r.to.length() - 1; length >= 0; --length) {
        Prefix larger(r.to.first(), length);
        if (net::place({&larger, 1}, {}, wishes).shortages.empty())
            return fmt::format("a /{}", length);
    }
    return "more than there is";
}

bool find_moves(Renumberer& r, const std::vector<Prefix>& pieces) {
    net::Placements placed = net::place({&r.to, 1}, {}, wishes_for(pieces));
    r.moves.clear();
    for (std::size_t i = 0; i < pieces.size(); ++i)
        if (placed.prefixes[i])
            r.moves.push_back({pieces[i], *placed.prefixes[i]});
    return placed.shortages.empty();
}

// Every prefix of the site by itself, where its spaces as they are have no room.
void find_segment_moves(Renumberer& r) {
    std::vector<Prefix> pieces;
    for (SegmentId id : r.own_segments)
        if (const auto& prefix = r.lab.segments[id].prefix[r.to.family()];
            prefix && is_old(r, *prefix))
            pieces.push_back(*prefix);
    for (const lab::Pool& pool : r.lab.pools)
        for (const Prefix& space : pool.space)
            if (is_old(r, space))
                pieces.push_back(space);
    pieces = net::outermost(std::move(pieces));
    if (!find_moves(r, pieces))
        r.problem({}, fmt::format("{} has no room for all prefixes of {}; the plan needs {}",
                                  net::to_string(r.to), r.what, needed(r, pieces)));
}

void index_moves(Renumberer& r) {
    std::vector<net::PrefixTable::Entry> entries;
    for (std::uint32_t i = 0; i < r.moves.size(); ++i)
        entries.push_back({r.moves[i].from, i});
    r.table = net::PrefixTable(entries);
}

// The site of a subnet, or of the first NIC of the machine that a link or loopback belongs to.
SiteId site_of(const Renumberer& r, SegmentId id) {
    const lab::Segment& segment = r.lab.segments[id];
    if (segment.subnet)
        return r.lab.subnets[segment.subnet].site;
    for (lab::NicId nic : segment.nics)
        for (lab::NicId first : r.lab.nics_of(r.lab.nics[nic].machine))
            if (SubnetId subnet = r.lab.segments[r.lab.nics[first].segment].subnet)
                return r.lab.subnets[subnet].site;
    return SiteId{0};
}

} // namespace

void find_site_moves(Renumberer& r, SiteId site) {
    r.what = fmt::format("site {}", r.lab.sites[site].name);
    for (const Prefix& space : r.lab.sites[site].space)
        if (space.family() == r.to.family())
            r.old.push_back(space);
    if (r.lab.sites[site].space_chosen || r.old.empty())
        return r.problem(r.lab.sites[site].at,
                         fmt::format("{} has no {} space in the plan; write one, and there is "
                                     "nothing to renumber",
                                     r.what, net::to_string(r.to.family())));
    r.old = net::outermost(std::move(r.old));
    for (SegmentId id : r.lab.segments.ids())
        if (site_of(r, id) == site)
            r.own_segments.insert(id);
    r.own_site = site;
    if (!find_moves(r, r.old))
        find_segment_moves(r);
    index_moves(r);
}

void find_subnet_move(Renumberer& r, SubnetId id) {
    const lab::Subnet& subnet = r.lab.subnets[id];
    r.what = fmt::format("subnet {}", subnet.name);
    const auto& old = r.lab.segments[subnet.segment].prefix[r.to.family()];
    const plan::Subnet& entry = r.plan->entries().subnets[id.row];
    auto is_pin = [&](const auto& pin) { return pin.name == subnet.name; };
    if (!old
        || (entry.prefixes.empty() && std::ranges::none_of(r.plan->entries().pins.subnets, is_pin)))
        return r.problem(subnet.at,
                         fmt::format("{} has no {} prefix in the plan; write or pin one first",
                                     r.what, net::to_string(r.to.family())));
    r.own_segments.insert(subnet.segment);
    r.old.push_back(*old);
    r.moves.push_back({*old, r.to});
    index_moves(r);
}

const Prefix* old_around(const Renumberer& r, net::Address a) {
    auto after = std::ranges::upper_bound(r.old, a, {}, &Prefix::first);
    return after != r.old.begin() && std::prev(after)->contains(a) ? &*std::prev(after) : nullptr;
}

bool is_old(const Renumberer& r, const Prefix& prefix) {
    const Prefix* around = old_around(r, prefix.first());
    return around != nullptr && around->contains(prefix);
}

bool touches_old(const Renumberer& r, const Prefix& prefix) {
    auto inside = std::ranges::lower_bound(r.old, prefix.first(), {}, &Prefix::first);
    return old_around(r, prefix.first()) != nullptr
           || (inside != r.old.end() && prefix.contains(inside->first()));
}

const Move* move_of(const Renumberer& r, net::Address a) {
    std::uint32_t row = r.table.lookup(a);
    return row == net::PrefixTable::none ? nullptr : &r.moves[row];
}

std::optional<net::Address> moved(Renumberer& r, net::Address a, const plan::ValuePlace& place) {
    const Move* move = move_of(r, a);
    if (move != nullptr && move->to.contains((*move)(a)))
        return (*move)(a);
    r.problem(place.at, fmt::format("{} has no place in {}", place.value, net::to_string(r.to)));
    return std::nullopt;
}

} // namespace jackal::exports
