#include "reader.h"

#include <charconv>

namespace jackal::plan {

std::string_view to_string(RouteSource source) {
    switch (source) {
    case RouteSource::connected: return "connected";
    case RouteSource::static_routes: return "static";
    case RouteSource::ospf: return "ospf";
    case RouteSource::rip: return "rip";
    case RouteSource::bgp: break;
    }
    return "bgp";
}

std::optional<Community> parse_community(std::string_view text) {
    std::size_t colon = text.find(':');
    if (colon == text.npos)
        return std::nullopt;
    auto high = parse_count(text.substr(0, colon));
    auto low = parse_count(text.substr(colon + 1));
    if (!high || !low || *high > 65535 || *low > 65535)
        return std::nullopt;
    return static_cast<Community>(*high << 16 | *low);
}

std::string community_text(Community community) {
    return fmt::format("{}:{}", community >> 16, community & 0xffff);
}

namespace {

constexpr std::uint64_t most_as = 4'294'967'295; // RFC 6793

void read_names(Reader& r, NodeId node, std::vector<Placed<std::string>>& into) {
    into.clear();
    r.each_item(node, [&](NodeId item) { read_word(r, item, into.emplace_back()); });
}

// `all`, or the names of NICs.
void read_nics(Reader& r, NodeId node, NicList& into) {
    into = {};
    if (r.kind(node) == NodeKind::scalar && r.text(node) == "all")
        into.all = true;
    else
        read_names(r, node, into.names);
}

// `{eth0: VALUE, …}`
template <class Value, class Read>
void read_by_nic(Reader& r, NodeId node, std::string_view what, std::vector<NicValue<Value>>& into,
                 Read read) {
    into.clear();
    r.each_pair(node, what, [&](NodeId key, NodeId item) {
        if (std::optional<Value> value = read(item))
            into.push_back({{std::string(r.text(key)), r.at(key)}, *value});
    });
}

template <class Value>
void read_numbers_by_nic(Reader& r, NodeId node, std::string_view what,
                         std::vector<NicValue<Value>>& into, std::uint64_t least,
                         std::uint64_t most) {
    read_by_nic(r, node, what, into,
                [&](NodeId item) { return read_number<Value>(r, item, least, most); });
}

// Whole seconds.
std::optional<std::uint32_t> read_seconds(Reader& r, NodeId node, std::uint64_t most) {
    return r.value(node, fmt::format("whole seconds from 1s to {}s", most),
                   [&](std::string_view text) -> std::optional<std::uint32_t> {
                       if (!text.ends_with('s'))
                           return std::nullopt;
                       auto n = parse_count(text.substr(0, text.size() - 1));
                       if (!n || *n < 1 || *n > most)
                           return std::nullopt;
                       return static_cast<std::uint32_t>(*n);
                   });
}

void read_default(Reader& r, NodeId node, DefaultRoute& into) {
    constexpr std::array kinds{DefaultRoute::none, DefaultRoute::held, DefaultRoute::always};
    if (auto i = r.word(node, "answer", {"false", "true", "always"}))
        into = kinds.at(*i);
}

// --- redistribution ------------------------------------------------------------------------

void read_source(Reader& r, NodeId node, Redistribution& into) {
    constexpr std::array sources{RouteSource::connected, RouteSource::static_routes,
                                 RouteSource::ospf, RouteSource::rip, RouteSource::bgp};
    if (auto i = r.word(node, "source of routes", {"connected", "static", "ospf", "rip", "bgp"}))
        into.from = sources.at(*i);
}

const Key<Redistribution> redistribution_keys[] = {
    {"from", read_source},
    {"metric",
     [](Reader& r, NodeId n, Redistribution& d) {
         d.metric = read_number<std::uint32_t>(r, n, 0, 16'777'214);
     }},
    {"policy", [](Reader& r, NodeId n, Redistribution& d) { read_word(r, n, d.policy); }},
    {"type", [](Reader& r, NodeId n,
                Redistribution& d) { d.type = read_number<std::uint8_t>(r, n, 1, 2).value_or(2); }},
};

// A word, or a mapping, or a list of them.
void read_redistribute(Reader& r, NodeId node, std::vector<Redistribution>& into) {
    into.clear();
    r.each_item(node, [&](NodeId item) {
        Redistribution entry;
        entry.at = r.at(item);
        if (r.kind(item) == NodeKind::mapping)
            r.mapping(item, "a redistribution", redistribution_keys, entry);
        else
            read_source(r, item, entry);
        into.push_back(std::move(entry));
    });
}

// --- OSPF ------------------------------------------------------------------------------------

// A number, or four bytes as in an address.
std::optional<std::uint32_t> parse_area(std::string_view text) {
    if (auto n = parse_count(text); n && *n <= 0xffffffff)
        return static_cast<std::uint32_t>(*n);
    auto address = net::parse_address(text);
    if (!address || address->family() != net::Family::ipv4)
        return std::nullopt;
    return static_cast<std::uint32_t>(address->low());
}

constexpr const char* an_area = "the number of an area, such as 0 or 0.0.0.1";

// Areas that are a stub, or an NSSA, and not the other.
void read_special_areas(Reader& r, NodeId n, std::string_view what,
                        std::vector<Placed<std::uint32_t>>& areas,
                        const std::vector<Placed<std::uint32_t>>& others) {
    areas.clear();
    r.each_item(n, [&](NodeId item) {
        auto area = r.value(item, an_area, parse_area);
        if (!area)
            return;
        const auto other = std::ranges::find(others, *area, &Placed<std::uint32_t>::value);
        if (*area == 0)
            r.problem(item, fmt::format("the backbone, area 0, cannot be {}", what));
        else if (other != others.end())
            r.problem(item, fmt::format("area {} is a stub or an NSSA, not both (line {})", *area,
                                        other->at.line));
        else
            areas.emplace_back(*area, r.at(item));
    });
}

const Key<Ospf> ospf_keys[] = {
    {"areas",
     [](Reader& r, NodeId n, Ospf& o) {
         o.areas.clear();
         r.each_pair(n, "areas", [&](NodeId key, NodeId nics) {
             OspfArea area;
             area.at = r.at(key);
             area.number = r.value(key, an_area, parse_area).value_or(0);
             read_nics(r, nics, area.nics);
             o.areas.push_back(std::move(area));
         });
     }},
    {"cost",
     [](Reader& r, NodeId n, Ospf& o) { read_numbers_by_nic(r, n, "cost", o.costs, 1, 65535); }},
    {"dead",
     [](Reader& r, NodeId n, Ospf& o) {
         read_by_nic(r, n, "dead", o.dead_s,
                     [&](NodeId item) { return read_seconds(r, item, 65535); });
     }},
    {"default", [](Reader& r, NodeId n, Ospf& o) { read_default(r, n, o.default_route); }},
    {"hello",
     [](Reader& r, NodeId n, Ospf& o) {
         read_by_nic(r, n, "hello", o.hello_s,
                     [&](NodeId item) { return read_seconds(r, item, 65535); });
     }},
    {"network",
     [](Reader& r, NodeId n, Ospf& o) {
         read_by_nic(r, n, "network", o.point_to_point, [&](NodeId item) -> std::optional<bool> {
             if (auto i = r.word(item, "sort of network", {"broadcast", "point-to-point"}))
                 return *i == 1;
             return std::nullopt;
         });
     }},
    {"nssa",
     [](Reader& r, NodeId n, Ospf& o) {
         read_special_areas(r, n, "an NSSA (RFC 3101 section 2.1)", o.nssas, o.stubs);
     }},
    {"passive", [](Reader& r, NodeId n, Ospf& o) { read_names(r, n, o.passive); }},
    {"priority", [](Reader& r, NodeId n,
                    Ospf& o) { read_numbers_by_nic(r, n, "priority", o.priorities, 0, 255); }},
    {"redistribute", [](Reader& r, NodeId n, Ospf& o) { read_redistribute(r, n, o.redistribute); }},
    {"stub",
     [](Reader& r, NodeId n, Ospf& o) {
         read_special_areas(r, n, "a stub (RFC 2328 section 3.6)", o.stubs, o.nssas);
     }},
    {"summarise",
     [](Reader& r, NodeId n, Ospf& o) {
         o.ranges.clear();
         r.each_pair(n, "summarise", [&](NodeId key, NodeId value) {
             std::vector<Placed<net::Prefix>> prefixes;
             read_prefixes(r, value, prefixes);
             auto area = r.value(key, an_area, parse_area);
             for (const auto& prefix : prefixes)
                 o.ranges.push_back({area.value_or(0), prefix});
         });
     }},
    {"virtual-links",
     [](Reader& r, NodeId n, Ospf& o) {
         o.virtual_links.clear();
         r.each_pair(n, "virtual-links", [&](NodeId key, NodeId value) {
             auto area = r.value(key, an_area, parse_area);
             if (area && *area == 0)
                 r.problem(key, "a virtual link goes through an area other than the backbone "
                                "(RFC 2328 section 15)");
             std::vector<Placed<std::string>> machines;
             read_names(r, value, machines);
             for (auto& machine : machines)
                 o.virtual_links.push_back({area.value_or(0), std::move(machine)});
         });
     }},
};

// --- RIP and BGP -----------------------------------------------------------------------------

const Key<Rip> rip_keys[] = {
    {"cost",
     [](Reader& r, NodeId n, Rip& p) { read_numbers_by_nic(r, n, "cost", p.costs, 1, 15); }},
    {"default", [](Reader& r, NodeId n, Rip& p) { read_default(r, n, p.default_route); }},
    {"nics", [](Reader& r, NodeId n, Rip& p) { read_nics(r, n, p.nics); }},
    {"passive", [](Reader& r, NodeId n, Rip& p) { read_names(r, n, p.passive); }},
    {"redistribute", [](Reader& r, NodeId n, Rip& p) { read_redistribute(r, n, p.redistribute); }},
    {"split-horizon", [](Reader& r, NodeId n, Rip& p) { read_flag(r, n, p.split_horizon); }},
    {"update",
     [](Reader& r, NodeId n, Rip& p) { p.update_s = read_seconds(r, n, 3600).value_or(30); }},
};

const Key<BgpNeighbour> neighbour_keys[] = {
    {"as",
     [](Reader& r, NodeId n, BgpNeighbour& b) {
         b.as = read_number<std::uint32_t>(r, n, 1, most_as).value_or(1);
     }},
    {"client",
     [](Reader& r, NodeId n, BgpNeighbour& b) {
         read_flag(r, n, b.client.value);
         b.client.at = r.at(n);
     }},
    {"distant", [](Reader& r, NodeId n, BgpNeighbour& b) { read_flag(r, n, b.distant); }},
    {"from", [](Reader& r, NodeId n, BgpNeighbour& b) { read_word(r, n, b.from); }},
    {"gives", [](Reader& r, NodeId n, BgpNeighbour& b) { read_word(r, n, b.gives); }},
    {"next-hop-self",
     [](Reader& r, NodeId n, BgpNeighbour& b) { read_flag(r, n, b.next_hop_self); }},
    {"state", [](Reader& r, NodeId n, BgpNeighbour& b) { read_state(r, n, b.up); }},
    {"takes", [](Reader& r, NodeId n, BgpNeighbour& b) { read_word(r, n, b.takes); }},
};

// A prefix, or the name of a subnet.
void read_network(Reader& r, NodeId node,
                  std::vector<Placed<std::variant<net::Prefix, std::string>>>& into) {
    auto text = r.scalar(node, "a prefix or the name of a subnet");
    if (!text)
        return;
    if (text->find('/') == text->npos) {
        into.emplace_back(std::string(*text), r.at(node));
        return;
    }
    std::vector<Placed<net::Prefix>> prefixes;
    read_prefixes(r, node, prefixes);
    for (const auto& prefix : prefixes)
        into.emplace_back(prefix.value, prefix.at);
}

const Key<Bgp> bgp_keys[] = {
    {"as", [](Reader& r, NodeId n,
              Bgp& b) { b.as = read_number<std::uint32_t>(r, n, 1, most_as).value_or(1); }},
    {"cluster-id", [](Reader& r, NodeId n, Bgp& b) { b.cluster_id = read_ipv4_address(r, n); }},
    {"default", [](Reader& r, NodeId n, Bgp& b) { read_default(r, n, b.default_route); }},
    {"equal-paths", [](Reader& r, NodeId n, Bgp& b) { read_flag(r, n, b.equal_paths); }},
    {"hold",
     [](Reader& r, NodeId n, Bgp& b) { b.hold_s = read_seconds(r, n, 65535).value_or(90); }},
    {"neighbours",
     [](Reader& r, NodeId n, Bgp& b) {
         b.neighbours.clear();
         r.each_pair(n, "neighbours", [&](NodeId key, NodeId value) {
             BgpNeighbour neighbour;
             neighbour.at = r.at(key);
             read_address_or_name(r, key, neighbour.peer);
             r.mapping(value, "a neighbour", neighbour_keys, neighbour);
             if (neighbour.as == 0)
                 r.problem(key, "a neighbour needs `as: NUMBER`");
             b.neighbours.push_back(std::move(neighbour));
         });
     }},
    {"networks",
     [](Reader& r, NodeId n, Bgp& b) {
         b.networks.clear();
         r.each_item(n, [&](NodeId item) { read_network(r, item, b.networks); });
     }},
    {"redistribute", [](Reader& r, NodeId n, Bgp& b) { read_redistribute(r, n, b.redistribute); }},
};

// --- policies --------------------------------------------------------------------------------

void read_communities(Reader& r, NodeId node, std::vector<Community>& into) {
    into.clear();
    r.each_item(node, [&](NodeId item) {
        if (auto community = r.value(item, "a community such as 64512:100", parse_community))
            into.push_back(*community);
    });
}

std::optional<bool> read_policy_verdict(Reader& r, NodeId node) {
    if (auto i = r.word(node, "verdict", {"accept", "refuse"}))
        return *i == 0;
    return std::nullopt;
}

const Key<PolicyRule> policy_rule_keys[] = {
    {"add-community",
     [](Reader& r, NodeId n, PolicyRule& p) { read_communities(r, n, p.add_communities); }},
    {"community",
     [](Reader& r, NodeId n, PolicyRule& p) { read_communities(r, n, p.communities); }},
    {"do", [](Reader& r, NodeId n,
              PolicyRule& p) { p.accepts = read_policy_verdict(r, n).value_or(false); }},
    {"longer", [](Reader& r, NodeId n, PolicyRule& p) { read_flag(r, n, p.longer); }},
    {"med", [](Reader& r, NodeId n,
               PolicyRule& p) { p.med = read_number<std::uint32_t>(r, n, 0, most_as); }},
    {"passed-as",
     [](Reader& r, NodeId n, PolicyRule& p) {
         p.passed_as = read_number<std::uint32_t>(r, n, 1, most_as);
     }},
    {"prefix", [](Reader& r, NodeId n, PolicyRule& p) { read_prefixes(r, n, p.prefixes); }},
    {"preference",
     [](Reader& r, NodeId n, PolicyRule& p) {
         p.preference = read_number<std::uint32_t>(r, n, 0, most_as);
     }},
    {"prepend",
     [](Reader& r, NodeId n, PolicyRule& p) {
         p.prepend = read_number<std::uint8_t>(r, n, 1, 16).value_or(0);
     }},
};

const Key<Policy> policy_keys[] = {
    {"about", [](Reader& r, NodeId n, Policy& p) { read_text(r, n, p.about); }},
    {"default",
     [](Reader& r, NodeId n, Policy& p) {
         p.accepts = read_policy_verdict(r, n).value_or(false);
         p.default_at = r.at(n);
     }},
    {"rules",
     [](Reader& r, NodeId n, Policy& p) {
         p.rules.clear();
         read_list(r, n, "rules", [&](NodeId item) {
             PolicyRule rule;
             rule.at = r.at(item);
             r.mapping(item, "a rule", policy_rule_keys, rule);
             if (!r.has_key(item, "do"))
                 r.problem(item, "a rule needs `do: accept` or `do: refuse`");
             p.rules.push_back(std::move(rule));
         });
     }},
};

} // namespace

void read_ospf(Reader& r, NodeId node, Protocols& into) {
    Ospf ospf;
    ospf.at = r.at(node);
    r.mapping(node, "ospf", ospf_keys, ospf);
    if (ospf.areas.empty())
        r.problem(node, "ospf needs `areas: {NUMBER: [NIC, …]}`");
    into.ospf = std::move(ospf);
}

void read_rip(Reader& r, NodeId node, Protocols& into) {
    Rip rip;
    rip.at = r.at(node);
    r.mapping(node, "rip", rip_keys, rip);
    if (!rip.nics.all && rip.nics.names.empty())
        r.problem(node, "rip needs `nics: [NIC, …]` or `nics: all`");
    into.rip = std::move(rip);
}

void read_bgp(Reader& r, NodeId node, Protocols& into) {
    Bgp bgp;
    bgp.at = r.at(node);
    r.mapping(node, "bgp", bgp_keys, bgp);
    if (bgp.as == 0)
        r.problem(node, "bgp needs `as: NUMBER`");
    into.bgp = std::move(bgp);
}

void read_policies(Reader& r, NodeId node, Plan& plan) {
    read_entries(r, node, "policies", "a policy", policy_keys, plan.policies);
    for (const Policy& policy : plan.policies)
        if (!policy.default_at)
            r.problem(policy.at, fmt::format("policy {} needs `default: accept` or "
                                             "`default: refuse`",
                                             policy.name));
}

} // namespace jackal::plan
