// Sites, regions, peerings and pools.
#include "plan/fields/codecs.h"

namespace jackal::plan {

namespace {

struct Routing : Choice<Routing> {
    static constexpr std::string_view what = "way of routing";
    static constexpr std::array words{std::pair{"manual", false}, std::pair{"automatic", true}};
};

constexpr Field<Site> site_fields[] = {
    field<OneOrMore<Prefix>, &Site::space>(
        "space", "prefixes that the site owns, of both families if it likes",
        "private ranges of its own"),
    field<Name<NameKind::region>, &Site::region>("region", "where it is: how far peerings reach",
                                                 "none"),
    field<Routing, &Site::automatic>("routing",
                                     "manual: only the routers drawn in the plan carry traffic; "
                                     "automatic: the site has a core, which joins all its subnets",
                                     "manual"),
    field<ListOf<route_entry>, &Site::routes>("routes", "routes of the core, as for a machine",
                                              "none"),
    field<Name<NameKind::filter>, &Site::filter>(
        "filter", "the name of a filter for what the core takes, sends and forwards", "none"),
    field<Name<NameKind::machine>, &Site::relay>(
        "relay", "the machine on the site that passes on what its peers send each other", "none"),
    about_field<&Site::about>(),
};
static_assert(covers<Site>(site_fields, {tag<&Site::name>, tag<&Site::at>}));

constexpr Field<Pool> pool_fields[] = {
    field<OneOrMore<Prefix>, &Pool::space>("space",
                                           "prefixes that links and loopbacks are numbered from"),
    about_field<&Pool::about>(),
};
static_assert(covers<Pool>(pool_fields, {tag<&Pool::name>, tag<&Pool::at>}));

constexpr Field<Distance> distance_fields[] = {
    field<Delay, &Distance::delay>("delay", "one way", "1ms within a region, 20ms across"),
    field<Cost, &Distance::peering_cost>("peering-cost", "of a peering, an hour",
                                         "0.01 within a region, 0.05 across"),
    field<Cost, &Distance::line_cost>("line-cost", "of a wire of one's own, an hour",
                                      "0.2 within a region, 1 across"),
};
static_assert(covers<Distance>(distance_fields));

const Entry<Distance>& distance_entry() {
    static const Entry<Distance> entry{"distance", "a distance", distance_fields};
    return entry;
}

// `{REGION: {delay: …}, …}`
struct Distances {
    static Shape shape() {
        return {.map = {Name<NameKind::region>::shape(), One<distance_entry>::shape()}};
    }
    using Type = std::vector<std::pair<Placed<std::string>, Distance>>;
    static void read(Reader& r, NodeId node, std::string_view key, Type& into) {
        r.each_pair(node, key, [&](NodeId name, NodeId value) {
            Distance distance;
            read_entry(r, value, distance_entry(), distance);
            into.emplace_back(Placed<std::string>(std::string(r.text(name)), r.at(name)), distance);
        });
    }
    static Value write(const Type& of) {
        Value map = Value::named();
        for (const auto& [name, distance] : of)
            map.add(name.value, written(distance, distance_entry()));
        return map;
    }
};

constexpr Field<SiteRegion> region_fields[] = {
    field<One<distance_entry>, &SiteRegion::within>("within",
                                                    "a distance: of peerings inside the region"),
    field<Distances, &SiteRegion::to>("to", "other regions, by name, each with a distance"),
    about_field<&SiteRegion::about>(),
};
static_assert(covers<SiteRegion>(region_fields, {tag<&SiteRegion::name>, tag<&SiteRegion::at>}));

struct ExitWord : Choice<ExitWord> {
    static constexpr std::string_view what = "way to share an exit";
    static constexpr std::array words{std::pair{"none", Exit::none}, std::pair{"lend", Exit::lend},
                                      std::pair{"borrow", Exit::borrow}};
};

constexpr Field<PeeringSide> side_fields[] = {
    field<Flag, &PeeringSide::accepts>("accept", "whether the site accepts the peering",
                                       "true, if the side is there"),
    field<Flag, &PeeringSide::relayed>("relay", "true: it takes what its peer only passes on",
                                       "false"),
    field<ExitWord, &PeeringSide::exit>("exit", "whether it lends or borrows a way outside",
                                        "none"),
    field<Name<NameKind::machine>, &PeeringSide::border>(
        "border", "the router that the peering ends at; for a manual site only, which needs it"),
};
static_assert(covers<PeeringSide>(side_fields,
                                  {tag<&PeeringSide::declared>, tag<&PeeringSide::at>}));

const Entry<PeeringSide>& side_entry() {
    static const Entry<PeeringSide> entry{"side", "a side of a peering", side_fields};
    return entry;
}

constexpr Field<Peering> peering_fields[] = {
    whole<Pair<&Peering::first, &Peering::second, Name<NameKind::site>>, &Peering::first,
          &Peering::second>("between", "the two sites; each is also a key: what it consents to"),
    field<Delay, &Peering::delay>("delay", "one way", "that of the regions"),
    field<Cost, &Peering::hourly_cost>(
        "hourly-cost", "what it costs an hour, in a currency of your own", "that of the regions"),
    field<PerFamily<Prefix>, &Peering::prefixes>(
        "prefix", "the prefix of the link that it makes, or one for each family",
        "the next free ones"),
    field<Name<NameKind::pool>, &Peering::pool>("pool", "the pool whose next free ones those are",
                                                "none"),
    field<Mtu, &Peering::mtu_bytes>("mtu", "bytes of the largest IP packet", "1500"),
    state_field<&Peering::up>(),
    about_field<&Peering::about>(),
};
static_assert(covers<Peering>(peering_fields, {tag<&Peering::sides>, tag<&Peering::at>}));

constexpr Entry<Peering>::Others sides{
    .shape =
        [] {
            return Shape{.map = {Name<NameKind::site>::shape(), One<side_entry>::shape()}};
        },
    .read =
        [](Reader& r, NodeId key, NodeId value, Peering& peering) {
            const int side = peering.side_of(r.text(key));
            if (side < 0)
                return false;
            peering.sides[side].declared = true;
            peering.sides[side].at = r.at(key);
            read_entry(r, value, side_entry(), peering.sides[side]);
            return true;
        },
    .write =
        [](const Peering& peering, Value& into) {
            for (int side : {0, 1})
                if (peering.sides[side].declared)
                    into.add(peering.site(side), written(peering.sides[side], side_entry()));
        },
    .known =
        [](const Peering& peering) {
            return std::vector<std::string_view>{peering.first.value, peering.second.value};
        },
    .what = "none of its two sites"};

} // namespace

const Entry<Site>& site_entry() {
    static const Entry<Site> entry{"site", "a site", site_fields};
    return entry;
}

const Entry<Pool>& pool_entry() {
    static const Entry<Pool> entry{"pool", "a pool", pool_fields, {{Rule::Kind::needs, {"space"}}}};
    return entry;
}

const Entry<SiteRegion>& region_entry() {
    static const Entry<SiteRegion> entry{"site-region", "a region", region_fields};
    return entry;
}

const Entry<Peering>& peering_entry() {
    static const Entry<Peering> entry{
        .name = "peering",
        .what = "a peering",
        .fields = peering_fields,
        .rules = {{Rule::Kind::needs, {"between"}}},
        // Its two sites are keys, so they are read before all others.
        .begin =
            [](Reader& r, NodeId node, Peering& peering) {
                peering.sides[0] = peering.sides[1] = {};
                r.each_pair_quietly(node, [&](NodeId key, NodeId value) {
                    if (r.text(key) == "between")
                        read_pair(r, value, "between", peering.first, peering.second);
                });
            },
        .check =
            [](Reader& r, NodeId node, Peering& peering) {
                if (peering.first.value.empty() || peering.second.value.empty())
                    r.problem(node, "a peering needs `between: [SITE, SITE]`");
            },
        .others = &sides,
        .is_one = true,
        .is_same =
            [](const Peering& one, const Peering& other) {
                return (one.first == other.first && one.second == other.second)
                       || (one.first == other.second && one.second == other.first);
            }};
    return entry;
}

} // namespace jackal::plan
