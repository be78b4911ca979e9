// Routing protocols, and the policies for what they take and give.
#include "plan/fields/codecs.h"

namespace jackal::plan {

namespace {

// NICs: by name, by the name of their subnet, or by the machine at the other end of their link.
Shape nic_names_key() {
    return {.name = "nic-name",
            .about =
                "a NIC: by name, by the name of its subnet, or by the machine at the other end "
                "of its link",
            .pattern = "^.",
            .names = {NameKind::nic, NameKind::subnet, NameKind::machine}};
}

struct NicWord : Name<> {
    static Shape shape() { return nic_names_key(); }
};

// `all`, or the names of NICs.
struct Nics {
    static Shape shape() {
        return {.forms = {Shape{.words = {"all"}}, OneOrMore<NicWord>::shape()}};
    }
    static void read(Reader& r, NodeId node, std::string_view key, NicList& into) {
        into = {};
        if (r.kind(node) == NodeKind::scalar && r.text(node) == "all")
            into.all = true;
        else
            OneOrMore<NicWord>::read(r, node, key, into.names);
    }
    static Value write(const NicList& of) {
        return of.all ? Value::scalar("all") : OneOrMore<NicWord>::write(of.names);
    }
};

// `{eth0: VALUE, …}`
template <class C>
struct ByNic {
    static Shape shape() { return {.map = {nic_names_key(), C::shape()}}; }
    template <class V>
    static void read(Reader& r, NodeId node, std::string_view key, std::vector<NicValue<V>>& into) {
        into.clear();
        r.each_pair(node, key, [&](NodeId nic, NodeId item) {
            if (auto value = C::parse(r, item))
                into.push_back({{std::string(r.text(nic)), r.at(nic)}, static_cast<V>(*value)});
        });
    }
    template <class V>
    static Value write(const std::vector<NicValue<V>>& of) {
        Value map = Value::named();
        for (const auto& one : of)
            map.add(one.nic.value, Value::scalar(C::text(one.value)));
        return map;
    }
};

struct NetworkWord : Choice<NetworkWord> {
    static constexpr std::string_view what = "sort of network";
    static constexpr std::array words{std::pair{"broadcast", false},
                                      std::pair{"point-to-point", true}};
};

struct Default : Choice<Default> {
    static constexpr std::string_view what = "answer";
    static constexpr std::array words{std::pair{"false", DefaultRoute::none},
                                      std::pair{"true", DefaultRoute::held},
                                      std::pair{"always", DefaultRoute::always}};
    static Shape shape() {
        return {.name = "default-route",
                .about = "true, false or always",
                .forms = {Shape{.is_flag = true}, Shape{.words = {"always"}}}};
    }
    static std::optional<DefaultRoute> parse(Reader& r, NodeId node) {
        auto i = r.word(node, what, {"false", "true", "always"});
        return i ? std::optional(words.at(*i).second) : std::nullopt;
    }
};

// --- redistribution ----------------------------------------------------------------------------

struct Source : Choice<Source> {
    static constexpr std::string_view what = "source of routes";
    static constexpr std::array words{
        std::pair{"connected", RouteSource::connected},
        std::pair{"static", RouteSource::static_routes}, std::pair{"ospf", RouteSource::ospf},
        std::pair{"rip", RouteSource::rip}, std::pair{"bgp", RouteSource::bgp}};
};

constexpr Field<Redistribution> redistribution_fields[] = {
    field<Source, &Redistribution::from>("from", "the source", {}, true),
    field<Number<0, 16'777'214>, &Redistribution::metric>("metric", "what they are announced with",
                                                          "20 in OSPF, 1 in RIP, 0 in BGP"),
    field<Number<1, 2>, &Redistribution::type>(
        "type", "in OSPF 1: the costs inside count too; 2: they decide only between equals", "2"),
    field<Name<NameKind::policy>, &Redistribution::policy>(
        "policy", "the policy that they must pass", "none"),
};
static_assert(covers<Redistribution>(redistribution_fields, {tag<&Redistribution::at>}));

const Entry<Redistribution>& redistribution_entry() {
    static const Entry<Redistribution> entry{"redistribution",
                                             "a redistribution",
                                             redistribution_fields,
                                             {{Rule::Kind::needs, {"from"}}}};
    return entry;
}

// A word, or a mapping, or a list of them.
struct Redistributions {
    static Shape shape() {
        const Shape one{.forms = {Source::shape(), One<redistribution_entry>::shape()}};
        Shape list{.list = {one}};
        return {.name = "redistributions",
                .about = "a source of routes, an entry that says more of it, or a list of them",
                .forms = {one, list}};
    }
    static void read(Reader& r, NodeId node, std::string_view key,
                     std::vector<Redistribution>& into) {
        into.clear();
        r.each_item(node, [&](NodeId item) {
            Redistribution entry;
            entry.at = r.at(item);
            if (r.kind(item) == NodeKind::mapping)
                read_entry(r, item, redistribution_entry(), entry);
            else
                Source::read(r, item, key, entry.from);
            into.push_back(std::move(entry));
        });
    }
    static Value write(const std::vector<Redistribution>& of) {
        std::vector<Value> items;
        for (const Redistribution& one : of) {
            Value keys = written(one, redistribution_entry());
            items.push_back(keys.items.size() == 1 ? keys.items.front() : std::move(keys));
        }
        return Value::one_or_list(std::move(items));
    }
};

constexpr std::string_view what_is_redistributed =
    "what is announced besides, by where it comes from";
constexpr std::string_view default_announced =
    "true: announces a default route if it has one from elsewhere; always";

// --- OSPF --------------------------------------------------------------------------------------

// A number, or four bytes as in an address.
struct Area : Scalar<Area> {
    static Shape shape() {
        return {
            .name = "area",
            .about = "the number of an area, such as 0 or 0.0.0.1",
            .forms = {Shape{.number = Bounds{0, 4'294'967'295}}, Shape{.pattern = "^[0-9.]+$"}}};
    }
    static std::optional<std::uint32_t> parse(Reader& r, NodeId node) {
        return r.value(node, "the number of an area, such as 0 or 0.0.0.1",
                       [](std::string_view text) -> std::optional<std::uint32_t> {
                           if (auto n = parse_count(text); n && *n <= 0xffffffff)
                               return static_cast<std::uint32_t>(*n);
                           auto address = net::parse_address(text);
                           if (!address || address->family() != net::Family::ipv4)
                               return std::nullopt;
                           return static_cast<std::uint32_t>(address->low());
                       });
    }
    static std::string text(std::uint32_t of) { return fmt::format("{}", of); }
};

struct Areas {
    static Shape shape() { return {.fewest = 1, .map = {Shape{.pattern = "^."}, Nics::shape()}}; }
    static void read(Reader& r, NodeId node, std::string_view key, std::vector<OspfArea>& into) {
        into.clear();
        r.each_pair(node, key, [&](NodeId number, NodeId nics) {
            OspfArea area;
            area.at = r.at(number);
            area.number = Area::parse(r, number).value_or(0);
            Nics::read(r, nics, key, area.nics);
            into.push_back(std::move(area));
        });
    }
    static Value write(const std::vector<OspfArea>& of) {
        Value map = Value::named();
        for (const OspfArea& area : of)
            map.add(Area::text(area.number), Nics::write(area.nics));
        return map;
    }
};

// Areas that are a stub, or an NSSA, and not the other.
template <auto own, auto other>
struct SpecialAreas {
    static Shape shape() { return OneOrMore<Area>::shape(); }
    static void read(Reader& r, NodeId node, std::string_view, Ospf& into) {
        constexpr bool is_nssa = tag<own> == tag<&Ospf::nssas>;
        auto& areas = into.*own;
        const auto& others = into.*other;
        areas.clear();
        r.each_item(node, [&](NodeId item) {
            auto area = Area::parse(r, item);
            if (!area)
                return;
            const auto twin = std::ranges::find(others, *area, &Placed<std::uint32_t>::value);
            if (*area == 0)
                r.problem(item, fmt::format("the backbone, area 0, cannot be {}",
                                            is_nssa ? "an NSSA (RFC 3101 section 2.1)"
                                                    : "a stub (RFC 2328 section 3.6)"));
            else if (twin != others.end())
                r.problem(item, fmt::format("area {} is a stub or an NSSA, not both (line {})",
                                            *area, twin->at.line));
            else
                areas.emplace_back(*area, r.at(item));
        });
    }
    static Value write(const Ospf& of) {
        return (of.*own).empty() ? Value{} : OneOrMore<Area>::write(of.*own);
    }
};

// `{AREA: one or several, …}`, flat.
template <class C, class One>
struct ByArea {
    static Shape shape() { return {.map = {Shape{.pattern = "^."}, OneOrMore<C>::shape()}}; }
    static Value write(const std::vector<One>& of) {
        Value map = Value::named();
        for (std::size_t i = 0; i < of.size();) {
            std::vector<Value> items;
            const std::uint32_t area = of[i].area;
            for (; i < of.size() && of[i].area == area; ++i)
                items.push_back(Value::scalar(C::text(what(of[i]))));
            map.add(Area::text(area), Value::one_or_list(std::move(items)));
        }
        return map;
    }

  private:
    static const net::Prefix& what(const OspfRange& range) { return range.prefix.value; }
    static const std::string& what(const OspfVirtualLink& link) { return link.to.value; }
};

struct Ranges : ByArea<Prefix, OspfRange> {
    static void read(Reader& r, NodeId node, std::string_view key, std::vector<OspfRange>& into) {
        into.clear();
        r.each_pair(node, key, [&](NodeId number, NodeId value) {
            std::vector<Placed<net::Prefix>> prefixes;
            OneOrMore<Prefix>::read(r, value, key, prefixes);
            auto area = Area::parse(r, number);
            for (const auto& prefix : prefixes)
                into.push_back({area.value_or(0), prefix});
        });
    }
};

struct VirtualLinks : ByArea<Name<NameKind::machine>, OspfVirtualLink> {
    static void read(Reader& r, NodeId node, std::string_view key,
                     std::vector<OspfVirtualLink>& into) {
        into.clear();
        r.each_pair(node, key, [&](NodeId number, NodeId value) {
            auto area = Area::parse(r, number);
            if (area && *area == 0)
                r.problem(number, "a virtual link goes through an area other than the backbone "
                                  "(RFC 2328 section 15)");
            std::vector<Placed<std::string>> machines;
            OneOrMore<Name<>>::read(r, value, key, machines);
            for (auto& machine : machines)
                into.push_back({area.value_or(0), std::move(machine)});
        });
    }
};

constexpr Field<Ospf> ospf_fields[] = {
    field<Areas, &Ospf::areas>(
        "areas", "which NICs are in which area, by number or as four bytes; all for the rest"),
    whole<SpecialAreas<&Ospf::stubs, &Ospf::nssas>, &Ospf::stubs>(
        "stub",
        "the areas that take no external routes, but a default route of their border routers",
        "none"),
    whole<SpecialAreas<&Ospf::nssas, &Ospf::stubs>, &Ospf::nssas>(
        "nssa",
        "the areas that take no external routes but those of their own routers, and a default "
        "route "
        "of their border routers (RFC 3101)",
        "none"),
    field<ByNic<Number<1, 65535>>, &Ospf::costs>("cost", "{NIC: 1 to 65535, …}",
                                                 "that of the link, or 10"),
    field<ByNic<Seconds<65535>>, &Ospf::hello_s>("hello", "{NIC: SECONDS, …}: hello intervals",
                                                 "10s"),
    field<ByNic<Seconds<65535>>, &Ospf::dead_s>("dead", "{NIC: SECONDS, …}: dead intervals",
                                                "four hello intervals"),
    field<ByNic<Number<0, 255>>, &Ospf::priorities>(
        "priority",
        "{NIC: 0 to 255, …}: who becomes designated router of a broadcast network; 0 never", "1"),
    field<ByNic<NetworkWord>, &Ospf::point_to_point>(
        "network", "{NIC: broadcast or point-to-point, …}",
        "point-to-point on links, broadcast on subnets"),
    field<OneOrMore<NicWord>, &Ospf::passive>(
        "passive", "NICs whose prefixes are announced, but which have no neighbours", "none"),
    field<VirtualLinks, &Ospf::virtual_links>("virtual-links",
                                              "{AREA: machines, …}: joins of the backbone through "
                                              "another area, written at both ends (RFC "
                                              "2328 section 15)",
                                              "none"),
    field<Ranges, &Ospf::ranges>(
        "summarise", "{AREA: prefixes, …}: ranges that a border router announces as one", "none"),
    field<Redistributions, &Ospf::redistribute>("redistribute", what_is_redistributed, "nothing"),
    field<Default, &Ospf::default_route>("default", default_announced, "false"),
};
static_assert(covers<Ospf>(ospf_fields, {tag<&Ospf::at>}));

// --- RIP and BGP -------------------------------------------------------------------------------

constexpr Field<Rip> rip_fields[] = {
    field<Nics, &Rip::nics>("nics", "which NICs; or all"),
    field<ByNic<Number<1, 15>>, &Rip::costs>(
        "cost", "{NIC: 1 to 15, …}: hops that are added to what comes in by it", "1"),
    field<OneOrMore<NicWord>, &Rip::passive>("passive", "NICs by which it hears, but says nothing",
                                             "none"),
    field<Flag, &Rip::split_horizon>("split-horizon",
                                     "not to say on a segment what was heard there", "true"),
    field<Seconds<3600>, &Rip::update_s>("update", "the interval of updates", "30s"),
    field<Redistributions, &Rip::redistribute>("redistribute", what_is_redistributed, "nothing"),
    field<Default, &Rip::default_route>("default", default_announced, "false"),
};
static_assert(covers<Rip>(rip_fields, {tag<&Rip::at>}));

constexpr Field<BgpNeighbour> neighbour_fields[] = {
    field<As, &BgpNeighbour::as>("as", "the AS that it is expected in"),
    field<FreeName<NameKind::nic>, &BgpNeighbour::from>(
        "from", "the NIC whose address the session uses",
        "on a shared segment that one, else the loopback"),
    field<Name<NameKind::policy>, &BgpNeighbour::takes>("takes", "the policy for what it announces",
                                                        "all is taken"),
    field<Name<NameKind::policy>, &BgpNeighbour::gives>(
        "gives", "the policy for what is announced to it", "all is given"),
    field<Flag, &BgpNeighbour::next_hop_self>(
        "next-hop-self", "true: inside an AS, announces itself as the next hop", "false"),
    field<Flag, &BgpNeighbour::client>("client",
                                       "true: inside an AS, it is a client of this machine, which "
                                       "reflects paths to it and from it "
                                       "(RFC 4456)",
                                       "false"),
    field<Flag, &BgpNeighbour::distant>(
        "distant", "true, at both ends: it is in another AS, and not on a shared subnet", "false"),
    field<State, &BgpNeighbour::up>("state", "up or down; down keeps the session from coming up",
                                    "up"),
};
static_assert(covers<BgpNeighbour>(neighbour_fields,
                                   {tag<&BgpNeighbour::peer>, tag<&BgpNeighbour::at>}));

const Entry<BgpNeighbour>& neighbour_entry() {
    static const Entry<BgpNeighbour> entry{
        .name = "bgp-neighbour",
        .what = "a neighbour",
        .fields = neighbour_fields,
        .rules = {{Rule::Kind::needs, {"as"}}},
        .check = [](Reader& r, NodeId node, BgpNeighbour& neighbour) {
            if (!r.has_key(node, "as"))
                r.problem(neighbour.at, "a neighbour needs `as: NUMBER`");
        }};
    return entry;
}

struct Neighbours {
    static Shape shape() {
        return {.map = {Shape{.pattern = "^.", .names = {NameKind::machine}},
                        One<neighbour_entry>::shape()}};
    }
    static void read(Reader& r, NodeId node, std::string_view key,
                     std::vector<BgpNeighbour>& into) {
        into.clear();
        r.each_pair(node, key, [&](NodeId peer, NodeId value) {
            BgpNeighbour neighbour;
            neighbour.at = r.at(peer);
            HostName::read(r, peer, key, neighbour.peer);
            read_entry(r, value, neighbour_entry(), neighbour);
            into.push_back(std::move(neighbour));
        });
    }
    static Value write(const std::vector<BgpNeighbour>& of) {
        Value map = Value::named();
        for (const BgpNeighbour& neighbour : of)
            map.add(HostName::text(neighbour.peer.value), written(neighbour, neighbour_entry()));
        return map;
    }
};

// A prefix, or the name of a subnet.
struct Network : Scalar<Network> {
    using Type = std::variant<net::Prefix, std::string>;
    static Shape shape() { return {.forms = {Name<NameKind::subnet>::shape(), Prefix::shape()}}; }
    static std::optional<Type> parse(Reader& r, NodeId node) {
        auto text = r.scalar(node, "a prefix or the name of a subnet");
        if (!text)
            return std::nullopt;
        if (text->find('/') == text->npos)
            return std::string(*text);
        auto prefix = Prefix::parse(r, node);
        return prefix ? std::optional<Type>(*prefix) : std::nullopt;
    }
    static std::string text(const Type& of) {
        const auto* prefix = std::get_if<net::Prefix>(&of);
        return prefix != nullptr ? net::to_string(*prefix) : std::get<std::string>(of);
    }
};

constexpr Field<Bgp> bgp_fields[] = {
    field<As, &Bgp::as>("as", "its AS number"),
    field<Neighbours, &Bgp::neighbours>(
        "neighbours", "{NAME or ADDRESS: {…}, …}: by the name of a machine, or by address", "none"),
    field<OneOrMore<Network>, &Bgp::networks>(
        "networks",
        "prefixes and subnets that it announces, as long as it has a route to them that is not of "
        "BGP",
        "none"),
    field<Seconds<65535>, &Bgp::hold_s>("hold", "the hold time", "90s"),
    field<Ipv4Address, &Bgp::cluster_id>(
        "cluster-id", "of a machine with clients, written as an IPv4 address", "its router id"),
    field<Flag, &Bgp::equal_paths>(
        "equal-paths", "true: paths that differ in nothing but the neighbour are used together",
        "false"),
    field<Redistributions, &Bgp::redistribute>("redistribute", what_is_redistributed, "nothing"),
    field<Default, &Bgp::default_route>("default", default_announced, "false"),
};
static_assert(covers<Bgp>(bgp_fields, {tag<&Bgp::at>}));

// --- policies ----------------------------------------------------------------------------------

struct CommunityText : Scalar<CommunityText> {
    static Shape shape() {
        return {.name = "community",
                .about = "a community, such as 64512:100",
                .pattern = "^[0-9]{1,5}:[0-9]{1,5}$"};
    }
    static std::optional<Community> parse(Reader& r, NodeId node) {
        return r.value(node, "a community such as 64512:100", parse_community);
    }
    static std::string text(Community of) { return community_text(of); }
};

struct PolicyVerdict : Choice<PolicyVerdict> {
    static constexpr std::string_view what = "verdict";
    static constexpr std::array words{std::pair{"accept", true}, std::pair{"refuse", false}};
};

constexpr Field<PolicyRule> policy_rule_fields[] = {
    field<PolicyVerdict, &PolicyRule::accepts>("do", "accept or refuse", {}, true),
    field<OneOrMore<Prefix>, &PolicyRule::prefixes>("prefix", "only these prefixes", "any"),
    field<Flag, &PolicyRule::longer>("longer", "true: and what they hold", "false"),
    field<OneOrMore<CommunityText>, &PolicyRule::communities>(
        "community", "only paths with one of these, such as 64512:100", "any"),
    field<As, &PolicyRule::passed_as>("passed-as", "only paths by this AS", "any"),
    field<Metric, &PolicyRule::preference>("preference",
                                           "sets the local preference; the largest is used", "100"),
    field<Metric, &PolicyRule::med>("med", "sets the MED", "as it is"),
    field<Number<1, 16>, &PolicyRule::prepend>(
        "prepend", "adds the AS number of the one who announces so many times more, 1 to 16",
        "none more"),
    field<OneOrMore<CommunityText>, &PolicyRule::add_communities>("add-community",
                                                                  "adds communities", "none"),
};
static_assert(covers<PolicyRule>(policy_rule_fields, {tag<&PolicyRule::at>}));

const Entry<PolicyRule>& policy_rule_entry() {
    static const Entry<PolicyRule> entry{
        .name = "policy-rule",
        .what = "a rule",
        .fields = policy_rule_fields,
        .rules = {{Rule::Kind::needs, {"do"}}},
        .check = [](Reader& r, NodeId node, PolicyRule&) {
            if (!r.has_key(node, "do"))
                r.problem(node, "a rule needs `do: accept` or `do: refuse`");
        }};
    return entry;
}

constexpr Field<Policy> policy_fields[] = {
    whole<WithPlace<PolicyVerdict, &Policy::accepts, &Policy::default_at>, &Policy::accepts,
          &Policy::default_at>("default", "accept or refuse: what becomes of what no rule names"),
    field<ListOf<policy_rule_entry>, &Policy::rules>(
        "rules", "a list of rules; the first that matches decides", "none"),
    about_field<&Policy::about>(),
};
static_assert(covers<Policy>(policy_fields, {tag<&Policy::name>, tag<&Policy::at>}));

} // namespace

const Entry<Ospf>& ospf_entry() {
    static const Entry<Ospf> entry{.name = "ospf",
                                   .what = "ospf",
                                   .fields = ospf_fields,
                                   .rules = {{Rule::Kind::needs, {"areas"}}},
                                   .check = [](Reader& r, NodeId node, Ospf& ospf) {
                                       if (ospf.areas.empty())
                                           r.problem(node,
                                                     "ospf needs `areas: {NUMBER: [NIC, …]}`");
                                   }};
    return entry;
}

const Entry<Rip>& rip_entry() {
    static const Entry<Rip> entry{.name = "rip",
                                  .what = "rip",
                                  .fields = rip_fields,
                                  .rules = {{Rule::Kind::needs, {"nics"}}},
                                  .check = [](Reader& r, NodeId node, Rip& rip) {
                                      if (!rip.nics.all && rip.nics.names.empty())
                                          r.problem(node,
                                                    "rip needs `nics: [NIC, …]` or `nics: all`");
                                  }};
    return entry;
}

const Entry<Bgp>& bgp_entry() {
    static const Entry<Bgp> entry{.name = "bgp",
                                  .what = "bgp",
                                  .fields = bgp_fields,
                                  .rules = {{Rule::Kind::needs, {"as"}}},
                                  .check = [](Reader& r, NodeId node, Bgp&) {
                                      if (!r.has_key(node, "as"))
                                          r.problem(node, "bgp needs `as: NUMBER`");
                                  }};
    return entry;
}

const Entry<Policy>& policy_entry() {
    static const Entry<Policy> entry{
        .name = "policy",
        .what = "a policy",
        .fields = policy_fields,
        .rules = {{Rule::Kind::needs, {"default"}}},
        .check = [](Reader& r, NodeId, Policy& policy) {
            if (!policy.default_at)
                r.problem(policy.at,
                          fmt::format("policy {} needs `default: accept` or `default: refuse`",
                                      policy.name));
        }};
    return entry;
}

} // namespace jackal::plan
