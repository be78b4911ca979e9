// Expectations, and what lies outside.
#include "jackal/plan/cause.h"
#include "plan/fields/codecs.h"

namespace jackal::plan {

namespace {

// A machine, MACHINE/NIC, a subnet, a site, or an address.
struct EndOfQuestion : Name<> {
    static Shape shape() {
        static const std::string pattern =
            "^([a-z0-9-]+|[a-z0-9-]+/[a-z0-9-]+|[0-9.]+|[0-9A-Fa-f:]*:[0-9A-Fa-f:.]*)$";
        return {.name = "end",
                .about = "a machine, MACHINE/NIC, a subnet, a site, or an address",
                .pattern = pattern,
                .names = {NameKind::machine, NameKind::nic, NameKind::subnet, NameKind::site}};
    }
};

constexpr const char* one_question =
    "an expectation has one of `ping`, `connect` and `apart`, not two";

Value ends_of(const Expectation& of) {
    return Value::list({Value::scalar(of.from.value), Value::scalar(of.to.value)});
}

struct Ping {
    static Shape shape() { return {.list = {EndOfQuestion::shape()}, .fewest = 2, .most = 2}; }
    static void read(Reader& r, NodeId node, std::string_view key, Expectation& into) {
        if (into.service || into.apart)
            return r.problem(node, one_question);
        read_pair(r, node, key, into.from, into.to);
    }
    static Value write(const Expectation& of) {
        return of.service || of.apart ? Value{} : ends_of(of);
    }
};

// `connect: [FROM, TO, tcp/22]`
struct Connect {
    static Shape shape() {
        return {.list = {EndOfQuestion::shape(), EndOfQuestion::shape(), Service::shape()},
                .is_tuple = true};
    }
    static void read(Reader& r, NodeId node, std::string_view, Expectation& into) {
        if (into.from.at)
            return r.problem(node, one_question);
        into.service = net::Service{};
        if (!into.gets.at)
            into.gets.value = "open";
        std::vector<NodeId> items;
        if (r.kind(node) == NodeKind::sequence)
            r.each_item(node, [&](NodeId item) { items.push_back(item); });
        if (items.size() != 3)
            return r.problem(node, "connect takes two names and a service: [ONE, OTHER, tcp/22]");
        read_word(r, items[0], into.from);
        read_word(r, items[1], into.to);
        into.service = Service::parse(r, items[2]).value_or(net::Service{});
    }
    static Value write(const Expectation& of) {
        if (!of.service)
            return {};
        Value value = ends_of(of);
        value.items.push_back(Value::scalar(net::to_string(*of.service)));
        return value;
    }
};

struct Apart {
    static Shape shape() { return Ping::shape(); }
    static void read(Reader& r, NodeId node, std::string_view key, Expectation& into) {
        if (into.service || into.from.at)
            return r.problem(node, one_question);
        into.apart = true;
        if (!into.gets.at)
            into.gets.value = "nothing";
        read_pair(r, node, key, into.from, into.to);
    }
    static Value write(const Expectation& of) { return of.apart ? ends_of(of) : Value{}; }
};

struct Gets {
    static Shape shape() {
        Shape shape{.words = {"reply", "no-reply", "open", "closed"}};
        for (const CauseText& cause : all_causes())
            shape.words.push_back(cause.slug);
        return shape;
    }
    static void read(Reader& r, NodeId node, std::string_view key, Expectation& into) {
        Name<>::read(r, node, key, into.gets);
    }
    static Value write(const Expectation& of) {
        const std::string_view usual = of.apart ? "nothing" : of.service ? "open" : "reply";
        return of.gets.value == usual ? Value{} : Value::scalar(of.gets.value);
    }
};

struct FamilyNumber : Choice<FamilyNumber> {
    static constexpr std::string_view what = "address family";
    static constexpr std::array words{std::pair{"4", net::Family::ipv4},
                                      std::pair{"6", net::Family::ipv6}};
};

struct Cuts {
    static Shape shape() {
        const Shape any{.words = {"any", "any-two"}};
        const Shape cut{.pattern = "^.", .names = {NameKind::cut}};
        return {.forms = {any, cut, Shape{.list = {cut}}}};
    }
    static void read(Reader& r, NodeId node, std::string_view, Expectation& into) {
        if (r.kind(node) == NodeKind::scalar && r.text(node) == "any")
            into.any_cuts = 1;
        else if (r.kind(node) == NodeKind::scalar && r.text(node) == "any-two")
            into.any_cuts = 2;
        else
            r.each_item(node, [&](NodeId item) { read_word(r, item, into.cuts.emplace_back()); });
    }
    static Value write(const Expectation& of) {
        if (of.any_cuts != 0)
            return Value::scalar(of.any_cuts == 1 ? "any" : "any-two");
        return of.cuts.empty() ? Value{} : OneOrMore<Name<>>::write(of.cuts);
    }
};

constexpr Field<Expectation> expectation_fields[] = {
    whole<Ping, &Expectation::from, &Expectation::to>("ping", "[FROM, TO]"),
    whole<Connect, &Expectation::service, &Expectation::from, &Expectation::to>(
        "connect", "[FROM, TO, SERVICE], the service such as tcp/22 or udp/53"),
    whole<Apart, &Expectation::apart, &Expectation::from, &Expectation::to>(
        "apart", "[ONE, OTHER]: nothing gets through either way"),
    whole<Gets, &Expectation::gets>("gets",
                                    "of a ping reply or no-reply, of a connection open or closed, "
                                    "or the slug of the cause that "
                                    "must be in the way",
                                    "reply, open"),
    field<FamilyNumber, &Expectation::family>("family", "4 or 6",
                                              "IPv4 where both ends have it, else IPv6"),
    field<Delay, &Expectation::within>("within", "the longest mean round-trip time allowed",
                                       "none"),
    whole<Cuts, &Expectation::cuts, &Expectation::any_cuts>(
        "cut",
        "what is cut meanwhile, as --cut takes it, or a list of such for all at once; or any: it "
        "must hold whichever one link or cable is cut, and if none is; or any-two: whichever two "
        "are",
        "nothing"),
    about_field<&Expectation::about>(),
};
static_assert(covers<Expectation>(expectation_fields, {tag<&Expectation::at>}));

// --- outside -----------------------------------------------------------------------------------

constexpr Field<OutsideHost> host_fields[] = {
    field<PerFamily<Address>, &OutsideHost::addresses>(
        "address", "an address for documentation (RFC 5737, RFC 3849), or one of each family"),
    field<OneOrMore<Service>, &OutsideHost::listens>("listens", "services that answer there",
                                                     "none"),
    about_field<&OutsideHost::about>(),
};
static_assert(covers<OutsideHost>(host_fields, {tag<&OutsideHost::name>, tag<&OutsideHost::at>}));

const Entry<OutsideHost>& host_entry() {
    static const Entry<OutsideHost> entry{
        "outside-host", "a host", host_fields, {{Rule::Kind::needs, {"address"}}}};
    return entry;
}

constexpr Field<Outside> outside_fields[] = {
    field<PerFamily<Prefix>, &Outside::lan>(
        "lan",
        "the physical network around the lab: a prefix, or one for each family; nothing is placed "
        "there",
        "192.168.254.0/24, if there is an uplink; with more than 250 ways out 172.31.0.0/16"),
    field<Named<host_entry, NameKind::machine>, &Outside::hosts>(
        "hosts", "stand-ins for hosts far away, by name", "none"),
    field<Delay, &Outside::delay>("delay", "from the physical network to any of them, one way",
                                  "0ms"),
};
static_assert(covers<Outside>(outside_fields, {tag<&Outside::at>}));

constexpr Field<Limits> limits_fields[] = {
    field<Cpus, &Limits::sizes, &Sizes::cpus>("cpus", "processor cores of all machines together",
                                              "no limit"),
    field<Mebibytes, &Limits::sizes, &Sizes::memory_mib>("memory", "memory of all together",
                                                         "no limit"),
    field<Mebibytes, &Limits::sizes, &Sizes::disk_mib>("disk", "disk space of all together",
                                                       "no limit"),
};
static_assert(covers<Limits>(limits_fields, {tag<&Limits::at>}));
static_assert(covers<Sizes>(limits_fields));

} // namespace

const Entry<Expectation>& expectation_entry() {
    static const Entry<Expectation> entry{
        .name = "expectation",
        .what = "an expectation",
        .fields = expectation_fields,
        .rules = {{Rule::Kind::one_of, {"ping", "connect", "apart"}}},
        .check =
            [](Reader& r, NodeId node, Expectation& e) {
                if (!e.service && (e.from.value.empty() || e.to.value.empty()))
                    r.problem(node, "an expectation needs `ping: [FROM, TO]`, `connect: [FROM, TO, "
                                    "SERVICE]` or `apart: [ONE, OTHER]`");
            },
        .is_one = true};
    return entry;
}

const Entry<Outside>& outside_entry() {
    static const Entry<Outside> entry{"outside", "outside", outside_fields};
    return entry;
}

const Entry<Limits>& limits_entry() {
    static const Entry<Limits> entry{"limits", "limits", limits_fields};
    return entry;
}

} // namespace jackal::plan
