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

const Entry<Link>& entry_for(bool tunnels) {
    return tunnels ? tunnel_entry() : link_entry();
}

void read_link(Reader& r, NodeId node, bool is_tunnel, Link link, Plan& into) {
    if (is_tunnel)
        link.tunnel = Tunnel{};
    read_entry(r, node, entry_for(is_tunnel), link);
    if (!is_tunnel && (names_port(link.first) || names_port(link.second)))
        into.cables.push_back(cable_of(r, node, std::move(link)));
    else
        into.links.push_back(std::move(link));
}

// One entry of a section: which of the plan's links or cables it is.
struct Wire {
    WrittenAt at;
    bool is_cable = false;
    std::size_t position = 0;
};

// Wires and cables stand among each other, in the order of their lines if they have any.
std::vector<Wire> wires_of(const Plan& plan, bool tunnels) {
    std::vector<Wire> wires;
    for (std::size_t i = 0; i < plan.links.size(); ++i)
        if (bool(plan.links[i].tunnel) == tunnels)
            wires.push_back({plan.links[i].at, false, i});
    if (!tunnels)
        for (std::size_t i = 0; i < plan.cables.size(); ++i)
            wires.push_back({plan.cables[i].at, true, i});
    std::ranges::stable_sort(wires, {}, [](const Wire& wire) {
        constexpr auto behind = std::numeric_limits<std::uint32_t>::max();
        return wire.at ? std::pair(wire.at.line, wire.at.column) : std::pair(behind, behind);
    });
    return wires;
}

Value written_wire(const Plan& of, bool tunnels, const Wire& wire) {
    return wire.is_cable ? written(of.cables[wire.position], cable_entry())
                         : written(of.links[wire.position], entry_for(tunnels));
}

class ChangeOfWires {
  public:
    ChangeOfWires(Change& change, bool tunnels, Plan& plan)
        : change_(change), tunnels_(tunnels), plan_(plan), wires_(wires_of(plan, tunnels)) {}

    void make(Steps rest) {
        const bool is_new = rest.size() <= 1 && change_.of().verb == Change::Verb::add;
        const std::size_t i = rest.empty() ? wires_.size() : place_of(rest.front());
        if (is_new && (rest.empty() || i <= wires_.size()))
            add(std::min(i, wires_.size()), rest.empty());
        else if (rest.empty())
            change_.refuse("a section of links is changed by its entries");
        else if (i >= wires_.size())
            change_.refuse(rest.front());
        else
            replace(i, rest.subspan(1));
    }

  private:
    // Beyond all of them if it is none of them.
    std::size_t place_of(const Place::Step& step) const {
        if (step.kind == Place::Step::Kind::index)
            return step.index;
        auto is_it = [&](const Wire& wire) {
            auto is_between = [&](const auto& entry) {
                return entry.first.value == step.word && entry.second.value == step.other;
            };
            return wire.is_cable ? is_between(plan_.cables[wire.position])
                                 : is_between(plan_.links[wire.position]);
        };
        auto found = std::ranges::find_if(wires_, is_it);
        return found == wires_.end() ? wires_.size() + 1
                                     : static_cast<std::size_t>(found - wires_.begin());
    }

    // A wire becomes a cable if the change is of its ends.
    Plan read(Reader& r, NodeId node, Mark at) const {
        Plan made;
        Link link;
        link.at = at;
        read_link(r, node, tunnels_, std::move(link), made);
        return made;
    }
    Plan given(Mark at) {
        Plan made;
        change_.read_value([&](Reader& r, NodeId node) { made = read(r, node, at); });
        return made;
    }
    Plan altered(const Wire& wire, Steps rest) {
        Value entry = written_wire(plan_, tunnels_, wire);
        change_.at = wire.at;
        change_.alter_all(entry, rest);
        Plan made;
        change_.read(entry, [&](Reader& r, NodeId node) { made = read(r, node, wire.at); });
        return made;
    }

    // So that it becomes number `place`; not if the like of it is there and any place will do.
    void add(std::size_t place, bool is_any_place) {
        Mark at{1, 1};
        if (place != 0)
            at = {wires_[place - 1].at.line, wires_[place - 1].at.column + 1};
        Plan made = given(is_any_place ? Mark{} : at);
        auto is_known = [](const auto& known, const auto& one) {
            return !one.empty() && std::ranges::find(known, one.front()) != known.end();
        };
        if (is_any_place
            && (is_known(plan_.links, made.links) || is_known(plan_.cables, made.cables)))
            return;
        insert(plan_.links, std::move(made.links), place, false);
        insert(plan_.cables, std::move(made.cables), place, true);
    }

    // Before the next of its sort, else behind the last one.
    template <class T>
    void insert(std::vector<T>& entries, std::vector<T> made, std::size_t place, bool cables) {
        std::size_t at = entries.size();
        for (std::size_t i = 0; i < wires_.size(); ++i)
            if (wires_[i].is_cable == cables) {
                at = wires_[i].position + (i < place ? 1 : 0);
                if (i >= place)
                    break;
            }
        entries.insert(entries.begin() + static_cast<std::ptrdiff_t>(at),
                       std::move_iterator(made.begin()), std::move_iterator(made.end()));
    }

    void replace(std::size_t place, Steps rest) {
        const Wire& wire = wires_[place];
        Plan made;
        if (!rest.empty())
            made = altered(wire, rest);
        else if (change_.of().verb != Change::Verb::remove)
            made = given(wire.at);
        if (wire.is_cable && !made.cables.empty())
            plan_.cables[wire.position] = std::move(made.cables.front());
        else if (!wire.is_cable && !made.links.empty())
            plan_.links[wire.position] = std::move(made.links.front());
        else
            move(wire, std::move(made), place);
    }

    // One that goes, or becomes one of the other sort.
    void move(Wire wire, Plan made, std::size_t place) {
        auto take = [&](auto& entries) {
            entries.erase(entries.begin() + static_cast<std::ptrdiff_t>(wire.position));
        };
        wire.is_cable ? take(plan_.cables) : take(plan_.links);
        wires_ = wires_of(plan_, tunnels_);
        insert(plan_.links, std::move(made.links), place, false);
        insert(plan_.cables, std::move(made.cables), place, true);
    }

    Change& change_;
    bool tunnels_;
    Plan& plan_;
    std::vector<Wire> wires_;
};

} // namespace

template <bool tunnels>
Shape Links<tunnels>::shape() {
    return tunnels ? ListOf<tunnel_entry>::shape() : ListOf<link_entry>::shape();
}

template <bool tunnels>
void Links<tunnels>::read(Reader& r, NodeId node, std::string_view key, Plan& into) {
    read_list(r, node, key, [&](NodeId item) {
        Link link;
        link.at = r.at(item);
        read_link(r, item, tunnels, std::move(link), into);
    });
}

template <bool tunnels>
Value Links<tunnels>::write(const Plan& of) {
    std::vector<Value> items;
    for (const Wire& wire : wires_of(of, tunnels))
        items.push_back(written_wire(of, tunnels, wire));
    return items.empty() ? Value{} : Value::list(std::move(items));
}

template <bool tunnels>
bool Links<tunnels>::change(Change& change, Steps rest, Plan& into) {
    ChangeOfWires(change, tunnels, into).make(rest);
    return true;
}

template struct Links<false>;
template struct Links<true>;

} // namespace jackal::plan
