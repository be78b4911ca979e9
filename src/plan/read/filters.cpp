#include "reader.h"

namespace jackal::plan {

namespace {

// One end or a list of them: prefixes, addresses, names.
void read_ends(Reader& r, NodeId node, std::vector<Placed<Ends>>& into) {
    into.clear();
    r.each_item(node, [&](NodeId item) {
        auto text = r.scalar(item, "a prefix, an address, or the name of a machine or subnet");
        if (!text)
            return;
        if (auto address = net::parse_address(*text)) {
            into.emplace_back(net::Prefix(*address, net::address_bits(address->family())),
                              r.at(item));
        } else if (text->find('/') == text->npos) {
            into.emplace_back(std::string(*text), r.at(item));
        } else {
            std::vector<Placed<net::Prefix>> prefixes;
            read_prefixes(r, item, prefixes);
            for (const auto& prefix : prefixes)
                into.emplace_back(prefix.value, prefix.at);
        }
    });
}

std::optional<bool> read_filter_verdict(Reader& r, NodeId node) {
    if (auto i = r.word(node, "verdict", {"allow", "deny"}))
        return *i == 0;
    return std::nullopt;
}

void read_protocol(Reader& r, NodeId node, net::Protocol& into) {
    constexpr std::array protocols{net::Protocol::any, net::Protocol::icmp, net::Protocol::tcp,
                                   net::Protocol::udp, net::Protocol::ospf};
    if (auto i = r.word(node, "protocol", {"any", "icmp", "tcp", "udp", "ospf"}))
        into = protocols.at(*i);
}

const Key<FilterRule> filter_rule_keys[] = {
    {"do", [](Reader& r, NodeId n,
              FilterRule& rule) { rule.allows = read_filter_verdict(r, n).value_or(false); }},
    {"from", [](Reader& r, NodeId n, FilterRule& rule) { read_ends(r, n, rule.from); }},
    {"port",
     [](Reader& r, NodeId n, FilterRule& rule) {
         r.each_item(n, [&](NodeId item) {
             if (auto ports = r.value(item, "a port from 1 to 65535, or a range such as 8000-8099",
                                      net::parse_ports))
                 rule.ports.push_back(*ports);
         });
     }},
    {"proto", [](Reader& r, NodeId n, FilterRule& rule) { read_protocol(r, n, rule.protocol); }},
    {"to", [](Reader& r, NodeId n, FilterRule& rule) { read_ends(r, n, rule.to); }},
    {"way",
     [](Reader& r, NodeId n, FilterRule& rule) {
         constexpr std::array ways{Way::in, Way::out, Way::through};
         if (auto i = r.word(n, "way", {"in", "out", "through"}))
             rule.way = ways.at(*i);
     }},
};

const Key<Filter> filter_keys[] = {
    {"about", [](Reader& r, NodeId n, Filter& f) { read_text(r, n, f.about); }},
    {"default",
     [](Reader& r, NodeId n, Filter& f) {
         f.allows = read_filter_verdict(r, n).value_or(false);
         f.default_at = r.at(n);
     }},
    {"rules",
     [](Reader& r, NodeId n, Filter& f) {
         read_list(r, n, "rules", [&](NodeId item) {
             FilterRule rule;
             rule.at = r.at(item);
             r.mapping(item, "a rule", filter_rule_keys, rule);
             if (!r.has_key(item, "do"))
                 r.problem(item, "a rule needs `do: allow` or `do: deny`");
             if (!rule.ports.empty() && rule.protocol != net::Protocol::any
                 && !net::has_ports(rule.protocol))
                 r.problem(item, fmt::format("{} has no ports", net::to_string(rule.protocol)));
             f.rules.push_back(std::move(rule));
         });
     }},
};

std::uint16_t read_port(Reader& r, NodeId node) {
    return read_number<std::uint16_t>(r, node, 1, 65535).value_or(0);
}

void read_nat_nic(Reader& r, NodeId node, Translation& t, Translation::Kind kind) {
    if (!t.nic.value.empty())
        r.problem(node, "a translation has `out` or `in`, not both");
    t.kind = kind;
    read_word(r, node, t.nic);
}

const Key<Translation> translation_keys[] = {
    {"from", [](Reader& r, NodeId n, Translation& t) { read_ends(r, n, t.from); }},
    {"in", [](Reader& r, NodeId n,
              Translation& t) { read_nat_nic(r, n, t, Translation::Kind::destination); }},
    {"out",
     [](Reader& r, NodeId n, Translation& t) { read_nat_nic(r, n, t, Translation::Kind::source); }},
    {"port", [](Reader& r, NodeId n, Translation& t) { t.port = read_port(r, n); }},
    {"proto", [](Reader& r, NodeId n, Translation& t) { read_protocol(r, n, t.protocol); }},
    {"to", [](Reader& r, NodeId n, Translation& t) { read_address_or_name(r, n, t.to); }},
    {"to-port", [](Reader& r, NodeId n, Translation& t) { t.to_port = read_port(r, n); }},
};

void check_translation(Reader& r, NodeId node, const Translation& t) {
    if (t.nic.value.empty())
        return r.problem(node, "a translation needs `out: NIC` (of sources) or `in: NIC` (of "
                               "destinations)");
    if (t.protocol == net::Protocol::ospf)
        r.problem(node, "OSPF packets are not translated; they never leave their segment");
    bool inward = t.protocol != net::Protocol::any || t.port != 0 || t.to_port != 0 || t.to.at;
    if (t.kind == Translation::Kind::source) {
        if (inward)
            r.problem(node, "proto, port, to and to-port are for translations with `in`");
        return;
    }
    if (!t.from.empty())
        r.problem(node, "from is for translations with `out`");
    if (!t.to.at)
        r.problem(node, "a translation with `in` needs `to`");
    if ((t.port != 0 || t.to_port != 0) && !net::has_ports(t.protocol))
        r.problem(node, "only tcp and udp have ports: `proto: tcp` or `proto: udp`");
    if (t.to_port != 0 && t.port == 0)
        r.problem(node, "to-port needs `port`");
}

} // namespace

void read_filters(Reader& r, NodeId node, Plan& plan) {
    read_entries(r, node, "filters", "a filter", filter_keys, plan.filters);
    for (const Filter& filter : plan.filters)
        if (!filter.default_at)
            r.problem(filter.at, fmt::format("filter {} needs `default: allow` or `default: deny`",
                                             filter.name));
}

void read_translations(Reader& r, NodeId node, Duties& duties) {
    duties.translations.clear();
    read_list(r, node, "nat", [&](NodeId item) {
        Translation t;
        t.at = r.at(item);
        r.mapping(item, "a translation", translation_keys, t);
        check_translation(r, item, t);
        duties.translations.push_back(std::move(t));
    });
}

void read_services(Reader& r, NodeId node, std::vector<Placed<net::Service>>& into) {
    into.clear();
    r.each_item(node, [&](NodeId item) {
        if (auto service = r.value(item, "a service such as tcp/22 or udp/53", net::parse_service))
            into.emplace_back(*service, r.at(item));
    });
}

} // namespace jackal::plan
