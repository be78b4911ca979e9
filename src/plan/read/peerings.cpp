// Regions, peerings and tunnels.
#include "reader.h"

#include <array>

namespace jackal::plan {

namespace {

const Key<Distance> distance_keys[] = {
    {"delay", [](Reader& r, NodeId n, Distance& d) { d.delay = read_delay(r, n); }},
    {"line-cost", [](Reader& r, NodeId n, Distance& d) { d.line_cost = read_cost(r, n); }},
    {"peering-cost", [](Reader& r, NodeId n, Distance& d) { d.peering_cost = read_cost(r, n); }},
};

const Key<SiteRegion> region_keys[] = {
    {"about", [](Reader& r, NodeId n, SiteRegion& e) { read_text(r, n, e.about); }},
    {"to",
     [](Reader& r, NodeId n, SiteRegion& e) {
         r.each_pair(n, "to", [&](NodeId key, NodeId value) {
             Distance distance;
             r.mapping(value, "a distance", distance_keys, distance);
             e.to.emplace_back(Placed<std::string>(std::string(r.text(key)), r.at(key)), distance);
         });
     }},
    {"within", [](Reader& r, NodeId n,
                  SiteRegion& e) { r.mapping(n, "a distance", distance_keys, e.within); }},
};

const Key<PeeringSide> side_keys[] = {
    {"accept", [](Reader& r, NodeId n, PeeringSide& s) { read_flag(r, n, s.accepts); }},
    {"border", [](Reader& r, NodeId n, PeeringSide& s) { read_word(r, n, s.border); }},
    {"exit",
     [](Reader& r, NodeId n, PeeringSide& s) {
         constexpr std::array exits{Exit::none, Exit::lend, Exit::borrow};
         if (auto i = r.word(n, "way to share an exit", {"none", "lend", "borrow"}))
             s.exit = exits.at(*i);
     }},
    {"relay", [](Reader& r, NodeId n, PeeringSide& s) { read_flag(r, n, s.relayed); }},
};

const Key<Peering> peering_keys[] = {
    {"about", [](Reader& r, NodeId n, Peering& p) { read_text(r, n, p.about); }},
    {"between",
     [](Reader& r, NodeId n, Peering& p) { read_pair(r, n, "between", p.first, p.second); }},
    {"delay", [](Reader& r, NodeId n, Peering& p) { p.delay = read_delay(r, n); }},
    {"hourly-cost", [](Reader& r, NodeId n, Peering& p) { p.hourly_cost = read_cost(r, n); }},
    {"mtu", [](Reader& r, NodeId n, Peering& p) { p.mtu_bytes = read_mtu(r, n); }},
    {"pool", [](Reader& r, NodeId n, Peering& p) { read_word(r, n, p.pool); }},
    {"prefix", [](Reader& r, NodeId n, Peering& p) { read_prefix_per_family(r, n, p.prefixes); }},
    {"state", [](Reader& r, NodeId n, Peering& p) { read_state(r, n, p.up); }},
};

void read_side(Reader& r, NodeId key, NodeId value, PeeringSide& side) {
    side.declared = true;
    side.at = r.at(key);
    r.mapping(value, "a side of a peering", side_keys, side);
}

// Besides the keys of every peering, each of its two sites is a key.
void read_peering(Reader& r, NodeId node, Peering& peering) {
    r.each_pair_quietly(node, [&](NodeId key, NodeId value) {
        if (r.text(key) == "between")
            read_pair(r, value, "between", peering.first, peering.second);
    });
    r.each_pair(node, "a peering", [&](NodeId key, NodeId value) {
        if (r.text(key) == "between")
            return;
        auto known = std::ranges::find(peering_keys, r.text(key), &Key<Peering>::name);
        if (known != std::end(peering_keys))
            return known->read(r, value, peering);
        if (int side = peering.side_of(r.text(key)); side >= 0)
            return read_side(r, key, value, peering.sides[side]);
        std::vector<std::string_view> names{peering.first.value, peering.second.value};
        for (const Key<Peering>& k : peering_keys)
            names.push_back(k.name);
        r.problem(key, Reader::unknown("key of a peering, and none of its two sites", r.text(key),
                                       names));
    });
    if (peering.first.value.empty() || peering.second.value.empty())
        r.problem(node, "a peering needs `between: [SITE, SITE]`");
}

const Key<Link> tunnel_keys[] = {
    {"about", [](Reader& r, NodeId n, Link& l) { read_text(r, n, l.about); }},
    {"between",
     [](Reader& r, NodeId n, Link& l) { read_pair(r, n, "between", l.first, l.second); }},
    {"hourly-cost", [](Reader& r, NodeId n,
                       Link& l) { l.tunnel->hourly_cost = read_cost(r, n).value_or(tunnel_cost); }},
    {"mtu", [](Reader& r, NodeId n, Link& l) { l.mtu_bytes = read_mtu(r, n); }},
    {"nics", [](Reader& r, NodeId n, Link& l) { read_pair(r, n, "nics", l.nics[0], l.nics[1]); }},
    {"over", [](Reader& r, NodeId n,
                Link& l) { read_pair(r, n, "over", l.tunnel->over[0], l.tunnel->over[1]); }},
    {"pool", [](Reader& r, NodeId n, Link& l) { read_word(r, n, l.pool); }},
    {"prefix", [](Reader& r, NodeId n, Link& l) { read_prefix_per_family(r, n, l.prefixes); }},
    {"state", [](Reader& r, NodeId n, Link& l) { read_state(r, n, l.up); }},
};

} // namespace

void read_regions(Reader& r, NodeId node, Plan& plan) {
    read_entries(r, node, "regions", "a region", region_keys, plan.regions);
}

void read_peerings(Reader& r, NodeId node, Plan& plan) {
    read_list(r, node, "peerings", [&](NodeId item) {
        Peering peering;
        peering.at = r.at(item);
        read_peering(r, item, peering);
        plan.peerings.push_back(std::move(peering));
    });
}

void read_tunnels(Reader& r, NodeId node, Plan& plan) {
    read_list(r, node, "tunnels", [&](NodeId item) {
        Link link;
        link.tunnel = Tunnel{};
        link.at = r.at(item);
        r.mapping(item, "a tunnel", tunnel_keys, link);
        if (link.first.value.empty() || link.second.value.empty())
            r.problem(item, "a tunnel needs `between: [ONE, OTHER]`");
        plan.links.push_back(std::move(link));
    });
}

} // namespace jackal::plan
