// What an earlier planning chose.
#include "plan/fields/codecs.h"

namespace jackal::plan {

namespace {

// `{NAME: PREFIXES, …}`
template <NameKind kind>
struct PinnedPrefixes {
    static Shape shape() {
        return {.map = {Shape{.pattern = "^.", .names = {kind}}, PerFamily<Prefix>::shape()}};
    }
    static void read(Reader& r, NodeId node, std::string_view key,
                     std::vector<Pins::Prefixes>& into) {
        r.each_pair(node, fmt::format("pinned {}", key), [&](NodeId name, NodeId value) {
            Pins::Prefixes pin{.name = std::string(r.text(name)), .prefixes = {}, .at = r.at(name)};
            PerFamily<Prefix>::read(r, value, key, pin.prefixes);
            into.push_back(std::move(pin));
        });
    }
    static Value write(const std::vector<Pins::Prefixes>& of) {
        Value map = Value::named();
        for (const Pins::Prefixes& pin : of)
            map.add(pin.name, PerFamily<Prefix>::write(pin.prefixes));
        return map;
    }
};

struct PinnedRanges {
    static Shape shape() {
        return {.map = {Shape{.pattern = "^.", .names = {NameKind::subnet}}, Stretch::shape()}};
    }
    static void read(Reader& r, NodeId node, std::string_view key,
                     std::vector<Pins::DhcpRange>& into) {
        r.each_pair(node, fmt::format("pinned {}", key), [&](NodeId subnet, NodeId value) {
            if (auto range =
                    r.value(value, "a range such as 10.40.8.10-10.40.8.19", net::parse_range))
                into.push_back({std::string(r.text(subnet)), {*range, r.at(value)}});
        });
    }
    static Value write(const std::vector<Pins::DhcpRange>& of) {
        Value map = Value::named();
        for (const Pins::DhcpRange& pin : of)
            map.add(pin.subnet, Value::scalar(net::to_string(pin.range.value)));
        return map;
    }
};

void read_addresses(Reader& r, NodeId node, std::string_view key, Pins::Addresses pin,
                    std::vector<Pins::Addresses>& into) {
    pin.at = r.at(node);
    OneOrMore<Address>::read(r, node, key, pin.chosen);
    into.push_back(std::move(pin));
}

struct PinnedLoopbacks {
    static Shape shape() {
        return {.map = {Shape{.pattern = "^.", .names = {NameKind::machine}},
                        OneOrMore<Address>::shape()}};
    }
    static void read(Reader& r, NodeId node, std::string_view key,
                     std::vector<Pins::Addresses>& into) {
        r.each_pair(node, fmt::format("pinned {}", key), [&](NodeId machine, NodeId value) {
            read_addresses(r, value, key, {.machine = std::string(r.text(machine))}, into);
        });
    }
    static Value write(const std::vector<Pins::Addresses>& of) {
        Value map = Value::named();
        for (const Pins::Addresses& pin : of)
            map.add(pin.machine, OneOrMore<Address>::write(pin.chosen));
        return map;
    }
};

// Adds a value below the two keys, the first of which may be there.
void add_below(Value& map, const std::string& first, const std::string& second, Value value) {
    if (map.keys.empty() || map.keys.back() != first)
        map.add(first, Value::named());
    map.items.back().add(second, std::move(value));
}

// `{MACHINE: {PLACE: VALUE, …}, …}`
template <class C, NameKind... places>
Shape by_machine_and_place() {
    const Shape machine{.pattern = "^.", .names = {NameKind::machine}};
    const Shape place{.pattern = "^.", .names = {places...}};
    return {.map = {machine, Shape{.map = {place, OneOrMore<C>::shape()}}}};
}

struct PinnedMachines {
    static Shape shape() { return by_machine_and_place<Address, NameKind::subnet>(); }
    static void read(Reader& r, NodeId node, std::string_view key,
                     std::vector<Pins::Addresses>& into) {
        r.each_pair(node, fmt::format("pinned {}", key), [&](NodeId machine, NodeId subnets) {
            r.each_pair(subnets, "a pinned machine", [&](NodeId subnet, NodeId value) {
                read_addresses(r, value, key,
                               {.machine = std::string(r.text(machine)),
                                .subnet = std::string(r.text(subnet))},
                               into);
            });
        });
    }
    static Value write(const std::vector<Pins::Addresses>& of) {
        Value map = Value::named();
        for (const Pins::Addresses& pin : of)
            add_below(map, pin.machine, pin.subnet, OneOrMore<Address>::write(pin.chosen));
        return map;
    }
};

struct PinnedNics {
    static Shape shape() {
        return by_machine_and_place<Name<>, NameKind::subnet, NameKind::link>();
    }
    static void read(Reader& r, NodeId node, std::string_view key, std::vector<Pins::Names>& into) {
        r.each_pair(node, fmt::format("pinned {}", key), [&](NodeId machine, NodeId places) {
            r.each_pair(places, "a pinned machine", [&](NodeId on, NodeId value) {
                Pins::Names pin{std::string(r.text(machine)), std::string(r.text(on)), {}};
                r.each_item(value, [&](NodeId item) {
                    pin.names.push_back(Name<>::parse(r, item).value_or(""));
                });
                into.push_back(std::move(pin));
            });
        });
    }
    static Value write(const std::vector<Pins::Names>& of) {
        Value map = Value::named();
        for (const Pins::Names& pin : of)
            add_below(map, pin.machine, pin.on, OneOrMore<Name<>>::write(pin.names));
        return map;
    }
};

constexpr Field<Pins> pins_fields[] = {
    field<PinnedPrefixes<NameKind::site>, &Pins::sites>(
        "sites", "the spaces of sites without space, by site (or by the lab's name, without sites)",
        "none"),
    field<PinnedPrefixes<NameKind::subnet>, &Pins::subnets>("subnets", "the prefixes of subnets",
                                                            "none"),
    field<PinnedRanges, &Pins::dhcp>("dhcp", "the DHCP ranges of subnets whose dhcp has size",
                                     "none"),
    field<PinnedPrefixes<NameKind::link>, &Pins::links>(
        "links",
        "the prefixes of links, by ONE -- OTHER, for a second link between the two ONE -- OTHER -- "
        "2",
        "none"),
    field<PinnedMachines, &Pins::machines>(
        "machines",
        "by machine and subnet, the addresses of its automatic NICs there, in their order", "none"),
    field<PinnedLoopbacks, &Pins::loopbacks>("loopbacks", "loopback addresses, by machine", "none"),
    field<PinnedNics, &Pins::nics>(
        "nics",
        "by machine and subnet or link, what its NICs there are called, and with that their MACs; "
        "of those without a written name, in their order",
        "none"),
};
static_assert(covers<Pins>(pins_fields, {tag<&Pins::at>}));

} // namespace

const Entry<Pins>& pins_entry() {
    static const Entry<Pins> entry{"pins", "pinned", pins_fields};
    return entry;
}

} // namespace jackal::plan
