// Filters and translations.
#include "jackal/plan/edit.h"
#include "plan/fields/codecs.h"

namespace jackal::plan {

namespace {

struct Verdict : Choice<Verdict> {
    static constexpr std::string_view what = "verdict";
    static constexpr std::array words{std::pair{"allow", true}, std::pair{"deny", false}};
};

struct WayWord : Choice<WayWord> {
    static constexpr std::string_view what = "way";
    static constexpr std::array words{std::pair{"in", Way::in}, std::pair{"out", Way::out},
                                      std::pair{"through", Way::through}};
};

struct PortsOfRule : Scalar<PortsOfRule> {
    static Shape shape() {
        return {.name = "port",
                .about = "a port, or a range such as 8000-8099",
                .forms = {Shape{.number = Bounds{1, 65535}},
                          Shape{.pattern = "^[0-9]{1,5}(-[0-9]{1,5})?$"}}};
    }
    static std::optional<net::Ports> parse(Reader& r, NodeId node) {
        return r.value(node, "a port from 1 to 65535, or a range such as 8000-8099",
                       net::parse_ports);
    }
    static std::string text(net::Ports of) { return net::to_string(of); }
};

constexpr Field<FilterRule> rule_fields[] = {
    field<Verdict, &FilterRule::allows>("do", "allow or deny", {}, true),
    field<WayWord, &FilterRule::way>("way", "in, out or through", "all"),
    field<Protocol, &FilterRule::protocol>(
        "proto",
        "any, icmp (of both address families), tcp, udp or ospf; RIP is udp/520 and, for IPv6, "
        "udp/521, BGP tcp/179",
        "any"),
    field<OneOrMore<PortsOfRule>, &FilterRule::ports>(
        "port",
        "destination ports: one, a range such as 8000-8099, or a list of such; then only tcp and "
        "udp match",
        "any"),
    field<OneOrMore<EndsOfRule>, &FilterRule::from>(
        "from", "prefixes, addresses, names of machines (all their addresses) or subnets", "any"),
    field<OneOrMore<EndsOfRule>, &FilterRule::to>("to", "the same, of where the packet goes",
                                                  "any"),
};
static_assert(covers<FilterRule>(rule_fields, {tag<&FilterRule::at>}));

const Entry<FilterRule>& filter_rule_entry() {
    static const Entry<FilterRule> entry{
        .name = "rule",
        .what = "a rule",
        .fields = rule_fields,
        .rules = {{Rule::Kind::needs, {"do"}}},
        .check = [](Reader& r, NodeId node, FilterRule& rule) {
            if (!r.has_key(node, "do"))
                r.problem(node, "a rule needs `do: allow` or `do: deny`");
            if (!rule.ports.empty() && rule.protocol != net::Protocol::any
                && !net::has_ports(rule.protocol))
                r.problem(node, fmt::format("{} has no ports", net::to_string(rule.protocol)));
        }};
    return entry;
}

constexpr Field<Filter> filter_fields[] = {
    whole<WithPlace<Verdict, &Filter::allows, &Filter::default_at>, &Filter::allows,
          &Filter::default_at>("default",
                               "allow or deny: what becomes of packets that no rule names"),
    field<ListOf<filter_rule_entry>, &Filter::rules>(
        "rules", "a list of rules; the first that matches decides", "none"),
    about_field<&Filter::about>(),
};
static_assert(covers<Filter>(filter_fields, {tag<&Filter::name>, tag<&Filter::at>}));

// --- translations ------------------------------------------------------------------------------

template <Translation::Kind kind>
struct NicOfTranslation {
    static Shape shape() { return FreeName<NameKind::nic>::shape(); }
    static void read(Reader& r, NodeId node, std::string_view key, Translation& t) {
        if (!t.nic.value.empty())
            r.problem(node, "a translation has `out` or `in`, not both");
        t.kind = kind;
        Name<>::read(r, node, key, t.nic);
    }
    static Value write(const Translation& of) {
        return of.kind == kind ? Value::scalar(of.nic.value) : Value{};
    }
};

constexpr Field<Translation> translation_fields[] = {
    whole<NicOfTranslation<Translation::Kind::source>, &Translation::nic, &Translation::kind>(
        "out", "a NIC: what leaves by it gets its address as source"),
    field<OneOrMore<EndsOfRule>, &Translation::from>(
        "from",
        "with out: only packets from there: a prefix, an address, the name of a machine or subnet, "
        "or a list of such",
        "all"),
    whole<NicOfTranslation<Translation::Kind::destination>, &Translation::nic, &Translation::kind>(
        "in", "a NIC: what arrives by it for its own address is sent on to another"),
    field<Protocol, &Translation::protocol>("proto", "with in: only icmp, tcp or udp", "any"),
    field<Number<1, 65535>, &Translation::port>("port", "with in and tcp or udp: only this port",
                                                "any"),
    field<HostName, &Translation::to>(
        "to",
        "with in: an address, or the name of a machine (its address on a shared segment, if there "
        "is one)"),
    field<Number<1, 65535>, &Translation::to_port>("to-port", "with port: the port there",
                                                   "the same"),
};
static_assert(covers<Translation>(translation_fields, {tag<&Translation::at>}));

void check_translation(Reader& r, NodeId node, Translation& t) {
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

std::string to_string(const FilterRule& rule) {
    return to_text(written(rule, filter_rule_entry()));
}

std::string to_string(const Translation& rule) {
    return to_text(written(rule, translation_entry()));
}

std::optional<AddedRule> added_rule(const Edit& edit) {
    if (edit.move != Move::add_filter_rule || edit.changes.empty())
        return std::nullopt;
    const PlaceChange& change = edit.changes.front();
    const auto& steps = change.place.steps; // filters.NAME.rules, and where among them
    AddedRule added{steps[1].word, std::nullopt, {}};
    if (steps.size() > 3)
        added.position = steps[3].index;
    Change reading(std::span(&change, 1));
    reading.read_value(
        [&](Reader& r, NodeId node) { read_entry(r, node, filter_rule_entry(), added.rule); });
    if (!reading.applies())
        return std::nullopt;
    return added;
}

const Entry<Filter>& filter_entry() {
    static const Entry<Filter> entry{
        .name = "filter",
        .what = "a filter",
        .fields = filter_fields,
        .rules = {{Rule::Kind::needs, {"default"}}},
        .check = [](Reader& r, NodeId, Filter& filter) {
            if (!filter.default_at)
                r.problem(filter.at,
                          fmt::format("filter {} needs `default: allow` or `default: deny`",
                                      filter.name));
        }};
    return entry;
}

const Entry<Translation>& translation_entry() {
    static const Entry<Translation> entry{
        .name = "translation",
        .what = "a translation",
        .fields = translation_fields,
        .rules = {{Rule::Kind::one_of, {"out", "in"}}, {Rule::Kind::with, {"in", "to"}}},
        .check = check_translation};
    return entry;
}

} // namespace jackal::plan
