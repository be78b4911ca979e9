// Guests and routers: their NICs, routes, translations, and what else they do.
#include "jackal/limits.h"
#include "jackal/plan/edit.h"
#include "plan/fields/images.h"
#include "plan/suggester.h"

#include <map>

namespace jackal::plan {

namespace {

// --- NICs ------------------------------------------------------------------------------------

constexpr Field<BondMember> member_fields[] = {
    field<Name<>, &BondMember::name>("name", "its name", "wire0, wire1, …"),
    field<PortName, &BondMember::port>("port", "SWITCH/PORT", "directly on the subnet's segment"),
    state_field<&BondMember::up>(),
};
static_assert(covers<BondMember>(member_fields, {tag<&BondMember::at>}));

const Entry<BondMember>& member_entry() {
    static const Entry<BondMember> entry{"wire", "a member of a bond", member_fields};
    return entry;
}

constexpr std::size_t most_bonded = limits::bond_members;

struct Bond : ListOf<member_entry> {
    static Shape shape() {
        Shape shape = ListOf<member_entry>::shape();
        shape.most = most_bonded;
        return shape;
    }
    static void read(Reader& r, NodeId node, std::string_view key, std::vector<BondMember>& into) {
        ListOf<member_entry>::read(r, node, key, into);
        if (into.size() > most_bonded)
            r.problem(node, fmt::format("a bond has at most {} members", most_bonded));
    }
};

struct AddressAtNic : Scalar<AddressAtNic> {
    static Shape shape() { return {.forms = {Address::shape(), Prefix::shape()}}; }
    static std::optional<GivenAddress> parse(Reader& r, NodeId node) {
        return r.value(node, "auto, dhcp, none, an address or ADDRESS/LENGTH",
                       [](std::string_view text) -> std::optional<GivenAddress> {
                           if (auto bare = net::parse_address(text))
                               return GivenAddress{*bare, std::nullopt};
                           if (auto both = net::parse_address_with_length(text))
                               return GivenAddress{both->address, both->length};
                           return std::nullopt;
                       });
    }
    static std::string text(const GivenAddress& of) {
        return of.length ? fmt::format("{}/{}", net::to_string(of.address), *of.length)
                         : net::to_string(of.address);
    }
};

struct AddressesOfNic {
    static Shape shape() {
        return {.forms = {Shape{.words = {"auto", "dhcp", "none"}},
                          OneOrMore<AddressAtNic, Shape::any_number, 1>::shape()}};
    }
    static void read(Reader& r, NodeId node, std::string_view key, NicAddress& into) {
        into.at = r.at(node);
        for (auto [word, kind] : words)
            if (r.kind(node) == NodeKind::scalar && r.text(node) == word) {
                into.kind = kind;
                return;
            }
        into.kind = NicAddress::Kind::given;
        OneOrMore<AddressAtNic>::read(r, node, key, into.given);
        refuse_empty_list(r, node, "address; write none for no address");
    }
    static Value write(const NicAddress& of) {
        for (auto [word, kind] : words)
            if (of.kind == kind)
                return Value::scalar(word);
        return OneOrMore<AddressAtNic>::write(of.given);
    }

  private:
    static constexpr std::pair<const char*, NicAddress::Kind> words[] = {
        {"auto", NicAddress::Kind::automatic},
        {"dhcp", NicAddress::Kind::dhcp},
        {"none", NicAddress::Kind::none}};
};

struct MacAddress : Scalar<MacAddress> {
    static Shape shape() { return {.pattern = "^([0-9A-Fa-f]{2}([:-][0-9A-Fa-f]{2}){5})$"}; }
    static std::optional<net::Mac> parse(Reader& r, NodeId node) {
        return r.value(node, "the MAC address of one NIC, such as 02:00:5e:10:00:07",
                       [](std::string_view text) {
                           auto parsed = net::parse_mac(text);
                           return parsed && parsed->is_multicast() ? std::nullopt : parsed;
                       });
    }
    static std::string text(net::Mac of) { return net::to_string(of); }
};

struct NicName : Name<> {
    static Shape shape() { return {.pattern = "^[a-z0-9]([a-z0-9-]{0,13}[a-z0-9])?$"}; }
};

// The range that a NIC's own way out has where the plan does not say.
constexpr const char* usual_way_out = "192.168.253.0/24";
constexpr int smallest_way_out = 30; // the NIC, and its gateway

struct WayOut {
    static Shape shape() { return {.pattern = "^(auto|[0-9.]+/[0-9]+)$"}; }
    static void read(Reader& r, NodeId node, std::string_view,
                     std::optional<Placed<net::Prefix>>& into) {
        auto prefix =
            r.value(node, fmt::format("auto, or an IPv4 prefix of at most /{}", smallest_way_out),
                    [](std::string_view text) -> std::optional<net::Prefix> {
                        auto parsed = net::parse_prefix(text == "auto" ? usual_way_out : text);
                        return parsed && parsed->family() == net::Family::ipv4
                                       && parsed->length() <= smallest_way_out
                                   ? std::optional(*parsed)
                                   : std::nullopt;
                    });
        into = {prefix.value_or(net::parse_prefix(usual_way_out).value()), r.at(node)};
    }
    static Value write(const std::optional<Placed<net::Prefix>>& of) {
        const std::string text = net::to_string(of->value);
        return Value::scalar(text == usual_way_out ? "auto" : text);
    }
};

constexpr Field<Nic> nic_fields[] = {
    field<Name<NameKind::subnet>, &Nic::subnet>(
        "subnet", "the subnet whose segment it is on; required, but with way-out"),
    field<WayOut, &Nic::options, &NicOptions::way_out>(
        "way-out",
        "auto or an IPv4 prefix: a segment that is its alone, with a gateway of its own that "
        "translates",
        "none"),
    field<NicName, &Nic::name>("name", "its name, at most 15 letters, not lo, all or default",
                               "eth0, eth1, …"),
    field<AddressesOfNic, &Nic::address>(
        "address", "auto, dhcp, none, an address, ADDRESS/LENGTH, or a list of such",
        "auto: one of each family of the subnet"),
    field<Metric, &Nic::options, &NicOptions::metric>(
        "metric", "of the default route that comes with a lease", "0"),
    field<MacAddress, &Nic::mac>("mac", "a MAC address", "made from the names of machine and NIC"),
    field<Mtu, &Nic::mtu_bytes>("mtu", "bytes of the largest IP packet", "1500"),
    field<Name<NameKind::filter>, &Nic::options, &NicOptions::filter>(
        "filter", "the name of a filter for what arrives (in) and leaves (out) by it", "none"),
    field<PortName, &Nic::options, &NicOptions::port>(
        "port", "SWITCH/PORT: the switch port that it is plugged into",
        "directly on the subnet's segment"),
    field<Vlan, &Nic::options, &NicOptions::vlan>(
        "vlan", "the VLAN that it tags its frames with (IEEE 802.1Q), on a trunk", "untagged"),
    field<Bond, &Nic::options, &NicOptions::bond>(
        "bond",
        "a list of wires that make up the NIC, at most 16: the first that works carries all",
        "one wire"),
    state_field<&Nic::up>(),
    about_field<&Nic::options, &NicOptions::about>(),
};
static_assert(covers<Nic>(nic_fields, {tag<&Nic::at>}));
static_assert(covers<NicOptions>(nic_fields));

// --- routes ------------------------------------------------------------------------------------

struct TargetOfRoute : Scalar<TargetOfRoute> {
    static Shape shape() {
        return {.forms = {Shape{.words = {"default"}},
                          Name<NameKind::subnet, NameKind::site>::shape(), Prefix::shape()}};
    }
    static std::optional<Route::Target> parse(Reader& r, NodeId node) {
        auto text = r.scalar(node, "default, a prefix or the name of a subnet");
        if (!text)
            return std::nullopt;
        if (*text == "default")
            return Route::Default{};
        if (text->find('/') == text->npos)
            return std::string(*text);
        auto prefix = Prefix::parse(r, node);
        return Route::Target(prefix.value_or(net::Prefix{}));
    }
    static std::string text(const Route::Target& of) { return to_string(of); }
};

constexpr Field<Route> route_fields[] = {
    field<TargetOfRoute, &Route::to>("to",
                                     "default (both families), a prefix, or the name of a subnet "
                                     "(all its prefixes) or of a site (its space, and what its "
                                     "subnets have outside of it)",
                                     {}, true),
    field<HostName, &Route::via>("via", "an address, or the name of a machine on a shared segment",
                                 {}, true),
    field<FreeName<NameKind::nic>, &Route::nic>("nic", "for a via by name: the NIC to reach it by",
                                                "the first that shares a segment"),
    field<Metric, &Route::metric>("metric", "lower wins among routes to one prefix",
                                  "0 in IPv4, 1024 in IPv6"),
    about_field<&Route::about>(),
};
static_assert(covers<Route>(route_fields, {tag<&Route::at>}));

// --- machines ----------------------------------------------------------------------------------

struct GatewayOfMachine {
    static Shape shape() {
        return {.forms = {Shape{.words = {"auto", "none"}}, PerFamily<Address, 1>::shape()}};
    }
    static void read(Reader& r, NodeId node, std::string_view key, Rare<MachineGateway>& into) {
        MachineGateway gateway;
        gateway.at = r.at(node);
        std::string_view word = r.kind(node) == NodeKind::scalar ? r.text(node) : "";
        if (word == "none") {
            gateway.kind = MachineGateway::Kind::none;
        } else if (word != "auto") {
            gateway.kind = MachineGateway::Kind::given;
            PerFamily<Address>::read(r, node, key, gateway.given);
            refuse_empty_list(r, node, "gateway; write none for no gateway");
        }
        into = gateway;
    }
    static Value write(const Rare<MachineGateway>& of) {
        switch (of->kind) {
        case MachineGateway::Kind::automatic: return Value::scalar("auto");
        case MachineGateway::Kind::none: return Value::scalar("none");
        case MachineGateway::Kind::given: break;
        }
        return PerFamily<Address>::write(of->given);
    }
};

struct LoopbackOfMachine {
    static Shape shape() {
        return {.forms = {Shape{.words = {"auto", "none"}}, Name<NameKind::pool>::shape(),
                          PerFamily<Address>::shape()}};
    }
    static void read(Reader& r, NodeId node, std::string_view key, Rare<Loopback>& into) {
        std::string_view word = r.kind(node) == NodeKind::scalar ? r.text(node) : "";
        if (word == "none")
            return into.reset();
        Loopback loopback;
        loopback.at = r.at(node);
        if (is_name(word) && word != "auto")
            loopback.pool = {std::string(word), r.at(node)};
        else if (word != "auto")
            PerFamily<Address>::read(r, node, key, loopback.given);
        into = std::move(loopback);
    }
    static Value write(const Rare<Loopback>& of) {
        if (!of->pool.value.empty())
            return Value::scalar(of->pool.value);
        return of->given.empty() ? Value::scalar("auto") : PerFamily<Address>::write(of->given);
    }
};

struct Count : Number<1, limits::clones> {};

constexpr Field<Machine> machine_fields[] = {
    unread<Machine, Flag>("template", "true: the entry is only there for others to be like",
                          "false"),
    unread<Machine, Name<NameKind::machine>>(
        "like", "another guest or router; its keys are taken over, but for those given here",
        "none"),
    unread<Machine, Count>("count",
                           "how many machines the entry stands for, 1 to 10000, named NAME-1, "
                           "NAME-2, …",
                           "one, named NAME"),
    field<ListOf<nic_entry>, &Machine::nics>(
        "nics", "a list of NICs; those of links come after them", "none"),
    field<GatewayOfMachine, &Machine::gateway>("gateway",
                                               "auto, none, or an address (or one for each family)",
                                               "auto for guests, none for routers"),
    field<ListOf<route_entry>, &Machine::routes>("routes", "a list of static routes", "none"),
    field<Flag, &Machine::forwards>("forwards",
                                    "whether it passes on packets that are not meant for it",
                                    "true for routers, false for guests"),
    field<Name<NameKind::filter>, &Machine::duties, &Duties::filter>(
        "filter", "the name of a filter for what it takes (in), sends (out) and forwards (through)",
        "none"),
    field<ListOf<translation_entry>, &Machine::duties, &Duties::translations>(
        "nat", "a list of translations", "none"),
    field<OneOrMore<Service>, &Machine::duties, &Duties::listens>(
        "listens", "services, such as tcp/22, or a list of them: what answers there", "none"),
    field<OneOrMore<HostName>, &Machine::duties, &Duties::dns>(
        "dns",
        "name servers that it asks for the names of hosts outside, besides those of its leases: "
        "addresses or names of machines",
        "none"),
    field<OneOrMore<Name<NameKind::machine>>, &Machine::duties, &Duties::starts_after>(
        "starts-after", "machines that must run before it does", "none"),
    field<One<ospf_entry>, &Machine::duties, &Duties::protocols, &Protocols::ospf>(
        "ospf", "what it does by OSPF", "nothing"),
    field<One<rip_entry>, &Machine::duties, &Duties::protocols, &Protocols::rip>(
        "rip", "what it does by RIP", "nothing"),
    field<One<bgp_entry>, &Machine::duties, &Duties::protocols, &Protocols::bgp>(
        "bgp", "what it does by BGP", "nothing"),
    field<Ipv4Address, &Machine::duties, &Duties::protocols, &Protocols::router_id>(
        "router-id", "its router id for OSPF and BGP, written as an IPv4 address",
        "the highest IPv4 address of its loopback, else of its NICs"),
    field<LoopbackOfMachine, &Machine::loopback>(
        "loopback",
        "an address of the machine itself, /32 and /128: auto (of its site's space), the name of a "
        "pool, an address (or one for each family), or none",
        "none"),
    user_field<&Machine::login>("that of the plan"),
    keys_field<&Machine::login>("those of the plan"),
    image_field<&Machine::image>("that of the plan"),
    boot_field<&Machine::image>("that of the plan"),
    runs_as_field<&Machine::image>("that of the plan, else machine"),
    field<Cpus, &Machine::sizes, &Sizes::cpus>("cpus", "processor cores that it takes", "0"),
    field<Mebibytes, &Machine::sizes, &Sizes::memory_mib>("memory",
                                                          "memory that it takes: 512M, 4G", "0"),
    field<Mebibytes, &Machine::sizes, &Sizes::disk_mib>("disk", "disk space that it takes: 20G, 1T",
                                                        "0"),
    field<State, &Machine::up>("state", "up or down: whether it runs", "up"),
    about_field<&Machine::about>(),
};
static_assert(covers<Machine>(machine_fields, {tag<&Machine::kind>, tag<&Machine::name>,
                                               tag<&Machine::clone_digits>, tag<&Machine::at>}));
static_assert(covers<Duties>(machine_fields));
static_assert(covers<Protocols>(machine_fields));
static_assert(covers<Login>(machine_fields));
static_assert(covers<Sizes>(machine_fields));

// Reads the guests and routers of a plan, those they are like first.
class MachineReader {
  public:
    explicit MachineReader(Reader& r) : r_(r) {}

    void read(NodeId section, MachineKind kind, std::vector<Machine>& into) {
        bool guest = kind == MachineKind::guest;
        into.reserve(into.size() + r_.pair_count(section));
        r_.each_pair(section, guest ? "guests" : "routers", [&](NodeId key, NodeId entry) {
            if (parts_ > most_parts)
                return; // said once
            Machine machine;
            machine.kind = kind;
            machine.name = r_.text(key);
            machine.at = r_.at(key);
            read_entry_of(std::move(machine), entry, into);
        });
    }

    // Of one entry, for a machine of that name and kind.
    void read_entry_of(Machine machine, NodeId entry, std::vector<Machine>& into) {
        entry_.what = machine.kind == MachineKind::guest ? "a guest" : "a router";
        fill(machine, entry, 0);
        if (!is_template(entry))
            add(std::move(machine), count_of(entry), into);
    }

  private:
    static constexpr int most_alike = limits::alike;
    static constexpr std::uint64_t most_parts = limits::clone_parts;

    void fill(Machine& machine, NodeId entry, int depth) {
        if (NodeId like = r_.find(entry, "like").second; like != Document::none)
            if (auto name = r_.scalar(like, "the name of a guest or router"))
                fill_like(machine, like, *name, depth);
        read_entry(r_, entry, entry_, machine);
    }

    // All entries that others may be like, collected when the first one asks.
    void collect_entries() {
        r_.each_pair_quietly(r_.root(), [&](NodeId key, NodeId section) {
            if (r_.text(key) == "guests" || r_.text(key) == "routers")
                r_.each_pair_quietly(section, [&](NodeId name, NodeId entry) {
                    entries_.emplace(r_.text(name), entry);
                });
        });
    }

    void fill_like(Machine& machine, NodeId at, std::string_view name, int depth) {
        if (entries_.empty())
            collect_entries();
        auto found = entries_.find(name);
        if (found == entries_.end()) {
            std::string near = suggester_.suggestion(name, entries_,
                                                     [](const auto& entry) { return entry.first; });
            return r_.problem(at,
                              fmt::format("there is no entry {} to be like{}", shown(name), near));
        }
        if (depth == most_alike)
            return r_.problem(at, fmt::format("more than {} entries are like each other in a row, "
                                              "perhaps in a circle",
                                              most_alike));
        fill(machine, found->second, depth + 1);
    }

    bool is_template(NodeId entry) const {
        NodeId node = r_.find(entry, "template").second;
        return node != Document::none && Flag::parse(r_, node).value_or(true);
    }

    // How many machines the entry stands for; 0 if it does not say.
    std::uint64_t count_of(NodeId entry) const {
        NodeId node = r_.find(entry, "count").second;
        return node == Document::none ? 0 : Count::parse(r_, node).value_or(1);
    }

    void add(Machine machine, std::uint64_t count, std::vector<Machine>& into) {
        parts_ +=
            std::max<std::uint64_t>(count, 1) * (1 + machine.nics.size() + machine.routes.size());
        if (parts_ > most_parts)
            return r_.problem(machine.at, fmt::format("the plan has more than {} machines, NICs "
                                                      "and routes in all",
                                                      most_parts));
        for (std::uint64_t i = 1; i <= count; ++i) {
            Machine clone = machine;
            clone.name += fmt::format("-{}", i);
            clone.clone_digits =
                static_cast<std::uint16_t>(clone.name.size() - machine.name.size());
            into.push_back(std::move(clone));
        }
        if (count == 0)
            into.push_back(std::move(machine));
    }

    Reader& r_;
    Entry<Machine> entry_ = machine_entry(); // as it is called here
    std::uint64_t parts_ = 0;                // machines, NICs and routes so far
    Suggester suggester_;
    std::map<std::string_view, NodeId> entries_;
};

// How many machines from `first` on are the clones of one entry, as `count` makes them; 0 if that
// one is none, or if they are not all alike.
std::size_t clones_at(const std::vector<Machine>& machines, std::size_t first) {
    const Machine& model = machines[first];
    if (model.clone_digits == 0)
        return 0;
    std::size_t count = 0;
    while (first + count < machines.size()) {
        const Machine& next = machines[first + count];
        if (next.clone_digits == 0 || next.entry_name() != model.entry_name()
            || next.kind != model.kind)
            break;
        Machine alike = model;
        alike.name = fmt::format("{}-{}", model.entry_name(), count + 1);
        alike.clone_digits =
            static_cast<std::uint16_t>(alike.name.size() - model.entry_name().size());
        if (!(alike == next))
            return 0;
        ++count;
    }
    return count;
}

// An entry that stands for `clones` machines, or for one.
Value entry_of(const Machine& machine, std::size_t clones) {
    Value entry = Value::map();
    if (clones != 0)
        entry.add("count", Value::scalar(fmt::format("{}", clones)));
    Value keys = written(machine, machine_entry());
    for (std::size_t i = 0; i < keys.keys.size(); ++i)
        entry.add(keys.keys[i], std::move(keys.items[i]));
    return entry;
}

// A change of one machine, of all that an entry with `count` stands for, or of how many those are.
class ChangeOfMachines {
  public:
    ChangeOfMachines(Change& change, MachineKind kind, std::vector<Machine>& machines)
        : change_(change), kind_(kind), machines_(machines) {}

    void make(Steps rest) {
        if (rest.empty())
            return order();
        const Place::Step& step = rest.front();
        name_ = step.kind == Place::Step::Kind::one_of ? step.other : step.word;
        find();
        const bool is_whole = rest.size() == 1;
        if (count_ == 0 && (!is_whole || change_.of().verb == Change::Verb::remove))
            change_.refuse(step);
        else if (!is_whole && rest[1].word == "count")
            set_count(rest.subspan(1));
        else if (!is_whole)
            for (std::size_t i = first_; i < first_ + count_; ++i)
                change_entry(change_, rest.subspan(1), machine_entry(), machines_[i]);
        else
            replace(change_.of().verb == Change::Verb::remove ? std::vector<Machine>{} : given());
    }

  private:
    using Position = std::vector<Machine>::difference_type;

    void order() {
        if (change_.of().verb != Change::Verb::order)
            return change_.refuse("a section of machines is changed by its entries");
        // Those of the other kind stay where they are.
        std::vector<Machine> own;
        for (Machine& machine : machines_)
            if (machine.kind == kind_)
                own.push_back(std::move(machine));
        put_in_order(change_, own, [](const Machine& machine) { return machine.entry_name(); });
        auto next = own.begin();
        for (Machine& machine : machines_)
            if (machine.kind == kind_)
                machine = std::move(*next++);
    }

    // The machine of that name; else all that the entry of that name stands for, one behind the
    // other.
    void find() {
        auto is_own = [&](const Machine& machine) {
            return machine.kind == kind_ && machine.name == name_;
        };
        auto is_clone = [&](const Machine& machine) {
            return machine.kind == kind_ && machine.clone_digits != 0
                   && machine.entry_name() == name_;
        };
        auto found = std::ranges::find_if(machines_, is_own);
        if (found == machines_.end())
            found = std::ranges::find_if(machines_, is_clone);
        first_ = static_cast<std::size_t>(found - machines_.begin());
        count_ = found == machines_.end() ? 0 : 1;
        if (count_ != 0 && is_clone(*found))
            count_ = static_cast<std::size_t>(std::find_if_not(found, machines_.end(), is_clone)
                                              - found);
    }

    std::vector<Machine> given() {
        std::vector<Machine> made;
        change_.read_value([&](Reader& r, NodeId node) { made = machines_in(r, node); });
        return made;
    }
    std::vector<Machine> machines_in(Reader& r, NodeId entry) {
        Machine machine;
        machine.kind = kind_;
        machine.name = name_;
        machine.at = count_ == 0 ? change_.at : machines_[first_].at;
        std::vector<Machine> made;
        MachineReader(r).read_entry_of(std::move(machine), entry, made);
        return made;
    }

    void set_count(Steps rest) {
        const Machine& first = machines_[first_];
        Value entry = entry_of(first, first.clone_digits != 0 ? count_ : 0);
        change_.alter(entry, rest);
        std::vector<Machine> made;
        change_.read(entry, [&](Reader& r, NodeId node) { made = machines_in(r, node); });
        replace(std::move(made));
    }

    // By default behind the last one of their kind.
    void replace(std::vector<Machine> made) {
        auto at = machines_.begin() + static_cast<Position>(first_);
        if (count_ == 0) {
            auto last = std::find_if(machines_.rbegin(), machines_.rend(),
                                     [&](const Machine& machine) { return machine.kind == kind_; });
            at = last == machines_.rend() ? machines_.end() : last.base();
        } else if (change_.of().verb == Change::Verb::add) {
            if (!std::equal(made.begin(), made.end(), at, at + static_cast<Position>(count_)))
                change_.refuse(fmt::format("there is another {} already", shown(name_)));
            return;
        }
        at = machines_.erase(at, at + static_cast<Position>(count_));
        machines_.insert(at, std::move_iterator(made.begin()), std::move_iterator(made.end()));
    }

    Change& change_;
    MachineKind kind_;
    std::vector<Machine>& machines_;
    std::string name_;
    std::size_t first_ = 0; // of those that the change is about,
    std::size_t count_ = 0; // and how many they are
};

} // namespace

const Entry<Nic>& nic_entry() {
    static const Entry<Nic> entry{
        .name = "nic",
        .what = "a NIC",
        .fields = nic_fields,
        .rules = {{Rule::Kind::one_of, {"subnet", "way-out"}},
                  {Rule::Kind::not_both, {"way-out", "port"}},
                  {Rule::Kind::not_both, {"way-out", "bond"}}},
        .check = [](Reader& r, NodeId node, Nic& nic) {
            if (nic.subnet.value.empty() && !nic.has_way_out())
                r.problem(node, "a NIC needs `subnet: NAME`");
            if (nic.has_way_out()
                && (!nic.subnet.value.empty() || !nic.options->port.value.empty()
                    || !nic.options->bond.empty()))
                r.problem(node, "a NIC with a `way-out` of its own is on no subnet and no switch");
        }};
    return entry;
}

const Entry<Route>& route_entry() {
    static const Entry<Route> entry{
        .name = "route",
        .what = "a route",
        .fields = route_fields,
        .rules = {{Rule::Kind::needs, {"to", "via"}}},
        .check = [](Reader& r, NodeId node, Route& route) {
            const auto* hop = std::get_if<net::Address>(&route.via.value);
            if (!route.to.at || !route.via.at)
                r.problem(node, "a route needs `to` and `via`");
            else if (hop != nullptr && *hop == net::Address{})
                r.problem(route.via.at, "nobody has the address :: (RFC 4291 section 2.5.2)");
        }};
    return entry;
}

const Entry<Machine>& machine_entry() {
    static const Entry<Machine> entry{"machine", "a machine", machine_fields};
    return entry;
}

template <MachineKind kind>
Shape Machines<kind>::shape() {
    return Named<machine_entry, NameKind::machine>::shape();
}

template <MachineKind kind>
void Machines<kind>::read(Reader& r, NodeId node, std::string_view, Plan& into) {
    MachineReader(r).read(node, kind, into.machines);
}

template <MachineKind kind>
Value Machines<kind>::write(const Plan& of) {
    Value map = Value::named();
    for (std::size_t i = 0; i < of.machines.size();) {
        const std::size_t clones = clones_at(of.machines, i);
        const Machine& machine = of.machines[i];
        if (machine.kind == kind)
            map.add(std::string(clones != 0 ? machine.entry_name() : machine.name),
                    entry_of(machine, clones));
        i += std::max<std::size_t>(clones, 1);
    }
    return map.items.empty() ? Value{} : map;
}

template <MachineKind kind>
bool Machines<kind>::change(Change& change, Steps rest, Plan& into) {
    ChangeOfMachines(change, kind, into.machines).make(rest);
    return true;
}

template struct Machines<MachineKind::guest>;
template struct Machines<MachineKind::router>;

} // namespace jackal::plan
