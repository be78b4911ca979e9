// Links, tunnels, and cables between switch ports.
#include "plan/fields/codecs.h"

namespace jackal::plan {

namespace {

struct Loss : Scalar<Loss> {
    static Shape shape() { return {.pattern = "^((100(\\.0*)?|[0-9]{1,2}(\\.[0-9]*)?)%)$"}; }
    static std::optional<double> parse(Reader& r, NodeId node) {
        auto percent = r.value(node, "a percentage from 0% to 100%", parse_percent);
        if (percent && *percent <= 100)
            return *percent / 100;
        if (percent)
            r.problem(node, "loss is at most 100%");
        return std::nullopt;
    }
    static std::string text(double of) { return Percent::text(of * 100); }
};

// A machine; of a wire a switch port, too.
struct EndOfLink : FreeName<NameKind::machine, NameKind::port> {};

using EndsOfTunnel = Pair<&Link::first, &Link::second, Name<NameKind::machine>>;
using EndsOfWire = Pair<&Link::first, &Link::second, EndOfLink>;

constexpr auto nics_of_link = field<PairOf<Name<>>, &Link::nics>(
    "nics", "what the NICs of the two are called: [eth7, to-shore]",
    "eth and the position after the machine's own");
constexpr auto prefix_of_link = field<PerFamily<Prefix>, &Link::prefixes>(
    "prefix", "the prefix of the link, or one for each family",
    "the next free /31 (RFC 3021) and /127 (RFC 6164) of the first machine's site");
constexpr auto pool_of_link = field<Name<NameKind::pool>, &Link::pool>(
    "pool", "the pool whose next free ones those are", "none");
constexpr auto state_of_link = state_field<&Link::up>();
constexpr auto about_of_link = about_field<&Link::about>();

constexpr Field<Link> link_fields[] = {
    whole<EndsOfWire, &Link::first, &Link::second>(
        "between", "two machines; each gets one more NIC; or two switch ports, SWITCH/PORT"),
    prefix_of_link,
    pool_of_link,
    field<Delay, &Link::delay>("delay", "one way: 250us, 4ms, 1.5s", "0ms"),
    field<Delay, &Link::jitter>("jitter", "at most this is added, one way", "0ms"),
    field<Loss, &Link::loss>("loss", "share of packets lost, one way", "0%"),
    field<Mtu, &Link::mtu_bytes>("mtu", "bytes of the largest IP packet", "1500"),
    field<Number<1, 65535>, &Link::cost>(
        "cost", "what OSPF counts for it, at both its ends, 1 to 65535", "10"),
    nics_of_link,
    state_of_link,
    about_of_link,
};
static_assert(covers<Link>(link_fields, {tag<&Link::tunnel>, tag<&Link::at>}));

constexpr Field<Link> tunnel_fields[] = {
    whole<EndsOfTunnel, &Link::first, &Link::second>("between",
                                                     "two machines; each gets one more NIC"),
    nics_of_link,
    field<PairOf<FreeName<NameKind::nic>>, &Link::tunnel, &Tunnel::over>(
        "over", "two NICs, one of each machine, whose addresses the outer packets have",
        "the first with an address"),
    prefix_of_link,
    pool_of_link,
    field<Mtu, &Link::mtu_bytes>("mtu", "bytes of the largest inner packet",
                                 "that of the NIC under it, less 50 bytes (70 over IPv6)"),
    field<Cost, &Link::tunnel, &Tunnel::hourly_cost>("hourly-cost",
                                                     "what the two gateways cost an hour", "0.1"),
    state_of_link,
    about_of_link,
};
static_assert(covers<Tunnel>(tunnel_fields));

constexpr Field<Cable> cable_fields[] = {
    whole<Pair<&Cable::first, &Cable::second, PortName>, &Cable::first, &Cable::second>(
        "between", "two switch ports, SWITCH/PORT"),
    state_field<&Cable::up>(),
    about_field<&Cable::about>(),
};
static_assert(covers<Cable>(cable_fields, {tag<&Cable::at>}));

void check_ends(Reader& r, NodeId node, Link& link) {
    if (link.first.value.empty() || link.second.value.empty())
        r.problem(node, fmt::format("a {} needs `between: [ONE, OTHER]`",
                                    link.tunnel ? "tunnel" : "link"));
}

bool names_port(const Placed<std::string>& end) {
    return end.value.find('/') != std::string::npos;
}

// A link between two switch ports.
Cable cable_of(Reader& r, NodeId node, Link link) {
    for (const auto* end : {&link.first, &link.second})
        if (!names_port(*end))
            r.problem(end->at, fmt::format("a switch port is linked to another; to plug {} into "
                                           "one, write `port: SWITCH/PORT` at its NIC",
                                           shown(end->value)));
    r.each_pair_quietly(node, [&](NodeId key, NodeId) {
        if (std::ranges::find(cable_fields, r.text(key), &Field<Cable>::key)
            == std::end(cable_fields))
            r.problem(key, fmt::format("a link between switch ports has no {}; only about, "
                                       "between and state",
                                       shown(r.text(key))));
    });
    return {.first = std::move(link.first),
            .second = std::move(link.second),
            .about = std::move(link.about),
            .up = link.up,
            .at = link.at};
}

} // namespace

const Entry<Link>& link_entry() {
    static const Entry<Link> entry{.name = "link",
                                   .what = "a link",
                                   .fields = link_fields,
                                   .rules = {{Rule::Kind::needs, {"between"}}},
                                   .check = check_ends};
    return entry;
}

const Entry<Link>& tunnel_entry() {
    static const Entry<Link> entry{.name = "tunnel",
                                   .what = "a tunnel",
                                   .fields = tunnel_fields,
                                   .rules = {{Rule::Kind::needs, {"between"}}},
                                   .check = check_ends};
    return entry;
}

const Entry<Cable>& cable_entry() {
    static const Entry<Cable> entry{"cable", "a cable", cable_fields};
    return entry;
}

namespace {

void read_links(Reader& r, NodeId node, std::string_view key, bool tunnels, Plan& into) {
    read_list(r, node, key, [&](NodeId item) {
        Link link;
        link.at = r.at(item);
        if (tunnels)
            link.tunnel = Tunnel{};
        read_entry(r, item, tunnels ? tunnel_entry() : link_entry(), link);
        if (!tunnels && (names_port(link.first) || names_port(link.second)))
            into.cables.push_back(cable_of(r, item, std::move(link)));
        else
            into.links.push_back(std::move(link));
    });
}

Value written_links(const Plan& of, bool tunnels) {
    // Wires and cables stand among each other, in the order of their lines if they have any.
    std::vector<std::pair<Mark, Value>> entries;
    for (const Link& link : of.links)
        if (bool(link.tunnel) == tunnels)
            entries.emplace_back(link.at, written(link, tunnels ? tunnel_entry() : link_entry()));
    if (!tunnels)
        for (const Cable& cable : of.cables)
            entries.emplace_back(cable.at, written(cable, cable_entry()));
    auto place = [](const auto& entry) {
        constexpr auto behind = std::numeric_limits<std::uint32_t>::max();
        const Mark at = entry.first;
        return at ? std::pair(at.line, at.column) : std::pair(behind, behind);
    };
    std::ranges::stable_sort(entries, {}, place);
    std::vector<Value> items;
    for (auto& [at, value] : entries)
        items.push_back(std::move(value));
    return items.empty() ? Value{} : Value::list(std::move(items));
}

} // namespace

template <bool tunnels>
Shape Links<tunnels>::shape() {
    return tunnels ? ListOf<tunnel_entry>::shape() : ListOf<link_entry>::shape();
}

template <bool tunnels>
void Links<tunnels>::read(Reader& r, NodeId node, std::string_view key, Plan& into) {
    read_links(r, node, key, tunnels, into);
}

template <bool tunnels>
Value Links<tunnels>::write(const Plan& of) {
    return written_links(of, tunnels);
}

template struct Links<false>;
template struct Links<true>;

} // namespace jackal::plan
