// Codecs of values that many keys have.
#pragma once

#include "plan/bounds.h"
#include "plan/fields/field.h"

namespace jackal::plan {

/// A text for readers.
struct Text : Scalar<Text> {
    static Shape shape() { return {.is_text = true}; }
    static std::optional<std::string> parse(Reader& r, NodeId node);
    static std::string text(const std::string& of) { return of; }
};

/// A host-name label (RFC 1123 section 2.1).
Shape label_shape();

/// The name of something in the plan: what, is looked up once all is read.
template <NameKind... kinds>
struct Name : Scalar<Name<kinds...>> {
    static Shape shape() {
        Shape shape = label_shape();
        shape.names = {kinds...};
        return shape;
    }
    static std::optional<std::string> parse(Reader& r, NodeId node) {
        auto text = r.scalar(node, wanted());
        return text ? std::optional<std::string>(*text) : std::nullopt;
    }
    static std::string text(const std::string& of) { return of; }

  private:
    static constexpr std::string_view wanted() {
        constexpr std::array known{kinds...};
        if (known.size() == 1 && known.front() == NameKind::site)
            return "the name of a site";
        return known.size() == 1 && known.front() == NameKind::nic ? "the name of a NIC" : "a name";
    }
};
template <>
constexpr std::string_view Name<>::wanted() {
    return "a name";
}

/// The same, of something whose names are no labels: `SWITCH/PORT`, a NIC.
template <NameKind... kinds>
struct FreeName : Name<kinds...> {
    static Shape shape() { return {.pattern = "^.", .names = {kinds...}}; }
};

struct PortName : Name<NameKind::port> {
    static Shape shape();
};

template <std::uint64_t least, std::uint64_t most>
struct Number : Scalar<Number<least, most>> {
    static Shape shape() { return {.number = Bounds{least, most}}; }
    static std::optional<std::uint64_t> parse(Reader& r, NodeId node) {
        return read_number<std::uint64_t>(r, node, least, most);
    }
    static std::string text(std::uint64_t of) { return fmt::format("{}", of); }
};

using Mtu = Number<least_mtu_bytes, 65535>;
using Vlan = Number<1, most_vlan>;
using Metric = Number<0, 4'294'967'295>;
using As = Number<1, 4'294'967'295>; // RFC 6793
using Cpus = Number<0, 1'000'000>;

/// One of a few words. A derived codec has `what`, and `words` with their values.
template <class C>
struct Choice : Scalar<C> {
    static Shape shape() { return {.words = known()}; }
    static auto parse(Reader& r, NodeId node) {
        using Type = typename std::remove_cvref_t<decltype(C::words[0])>::second_type;
        auto i = r.word(node, C::what, known());
        return i ? std::optional<Type>(C::words[*i].second) : std::nullopt;
    }
    template <class V>
    static std::string text(const V& of) {
        for (const auto& [word, value] : C::words)
            if (value == of)
                return word;
        return "";
    }

  private:
    static const std::vector<std::string_view>& known() {
        static const std::vector<std::string_view> known = [] {
            std::vector<std::string_view> all;
            for (const auto& [word, value] : C::words)
                all.emplace_back(word);
            return all;
        }();
        return known;
    }
};

struct Flag : Choice<Flag> {
    static constexpr std::string_view what = "answer";
    static constexpr std::array words{std::pair{"true", true}, std::pair{"false", false}};
    static Shape shape() { return {.is_flag = true}; }
};

/// Whether something runs, or carries anything.
struct State : Choice<State> {
    static constexpr std::string_view what = "state";
    static constexpr std::array words{std::pair{"up", true}, std::pair{"down", false}};
};

struct Delay : Scalar<Delay> {
    static Shape shape();
    static std::optional<std::chrono::microseconds> parse(Reader& r, NodeId node);
    static std::string text(std::chrono::microseconds of);
};

struct Cost : Scalar<Cost> {
    static Shape shape();
    static std::optional<double> parse(Reader& r, NodeId node);
    static std::string text(double of) { return fmt::format("{}", of); }
};

/// Whole seconds, such as `10s`.
template <std::uint64_t most>
struct Seconds : Scalar<Seconds<most>> {
    static Shape shape() {
        return {
            .name = "seconds", .about = "whole seconds, such as 10s", .pattern = "^[1-9][0-9]*s$"};
    }
    static std::optional<std::uint32_t> parse(Reader& r, NodeId node) {
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
    static std::string text(std::uint32_t of) { return fmt::format("{}s", of); }
};

struct Mebibytes : Scalar<Mebibytes> {
    static Shape shape();
    static std::optional<std::uint32_t> parse(Reader& r, NodeId node);
    static std::string text(std::uint32_t of) { return size_text(of); }
};

struct Percent {
    static Shape shape();
    static std::string text(double percent) { return fmt::format("{}%", percent); }
};

struct Address : Scalar<Address> {
    static constexpr std::string_view what = "address";
    static Shape shape();
    static std::optional<net::Address> parse(Reader& r, NodeId node);
    static std::string text(const net::Address& of) { return net::to_string(of); }
};

struct Ipv4Address : Scalar<Ipv4Address> {
    static Shape shape() { return Address::shape(); }
    static std::optional<net::Address> parse(Reader& r, NodeId node);
    static std::string text(const net::Address& of) { return Address::text(of); }
};

struct Prefix : Scalar<Prefix> {
    static constexpr std::string_view what = "prefix";
    static Shape shape();
    static std::optional<net::Prefix> parse(Reader& r, NodeId node);
    static std::string text(const net::Prefix& of) { return net::to_string(of); }
};

/// An address, or the name of a machine.
struct HostName : Scalar<HostName> {
    static Shape shape();
    static std::optional<Host> parse(Reader& r, NodeId node);
    static std::string text(const Host& of);
};

/// A prefix, an address, or the name of a machine or subnet.
struct EndsOfRule : Scalar<EndsOfRule> {
    static Shape shape();
    static std::optional<Ends> parse(Reader& r, NodeId node);
    static std::string text(const Ends& of) { return to_string(of); }
};

/// A stretch of a subnet.
struct Stretch : Scalar<Stretch> {
    static Shape shape();
    static std::optional<Region> parse(Reader& r, NodeId node);
    static std::string text(const Region& of);
};

struct Service : Scalar<Service> {
    static Shape shape();
    static std::optional<net::Service> parse(Reader& r, NodeId node);
    static std::string text(net::Service of) { return net::to_string(of); }
};

struct Protocol : Choice<Protocol> {
    static constexpr std::string_view what = "protocol";
    static constexpr std::array words{
        std::pair{"any", net::Protocol::any}, std::pair{"icmp", net::Protocol::icmp},
        std::pair{"tcp", net::Protocol::tcp}, std::pair{"udp", net::Protocol::udp},
        std::pair{"ospf", net::Protocol::ospf}};
};

/// A value and the place where it stands, each in a member of its own; always written.
template <class C, auto value, auto at>
struct WithPlace {
    using Owner = typename MemberOf<decltype(value)>::Owner;
    static Shape shape() { return C::shape(); }
    static void read(Reader& r, NodeId node, std::string_view key, Owner& into) {
        C::read(r, node, key, into.*value);
        into.*at = r.at(node);
    }
    static Value write(const Owner& of) { return C::write(of.*value); }
};

/// `[ONE, OTHER]`, into the two members.
template <auto first, auto second, class Name>
struct Pair {
    using Owner = typename MemberOf<decltype(first)>::Owner;
    static Shape shape() {
        return {.list = {Name::shape()}, .all_differ = true, .fewest = 2, .most = 2};
    }
    static void read(Reader& r, NodeId node, std::string_view key, Owner& into) {
        read_pair(r, node, key, into.*first, into.*second);
    }
    static Value write(const Owner& of) {
        return Value::list({Value::scalar((of.*first).value), Value::scalar((of.*second).value)});
    }
};

/// The same, into an array; written if there is a first.
template <class Name>
struct PairOf {
    static Shape shape() { return {.list = {Name::shape()}, .fewest = 2, .most = 2}; }
    static void read(Reader& r, NodeId node, std::string_view key,
                     std::array<Placed<std::string>, 2>& into) {
        read_pair(r, node, key, into[0], into[1]);
    }
    static Value write(const std::array<Placed<std::string>, 2>& of) {
        return Value::list({Value::scalar(of[0].value), Value::scalar(of[1].value)});
    }
};

/// Keys of many entries.
template <auto... path>
constexpr auto about_field() {
    return field<Text, path...>("about", "a text for readers", "none");
}
template <auto up>
constexpr auto state_field() {
    return field<State, up>("state", "up or down", "up");
}

/// A key whose value means nothing here.
template <class T, class ShapeOf>
constexpr Field<T> unread(std::string_view key, std::string_view about, std::string_view usual) {
    Field<T> made;
    made.key = key;
    made.about = about;
    made.usual = usual;
    made.shape = &ShapeOf::shape;
    made.read = [](Reader&, NodeId, std::string_view, T&) {};
    made.write = [](const T&) { return Value{}; };
    made.reset = [](T&) {};
    made.at = [](const T&) { return Mark{}; };
    return made;
}

template <auto entry, NameKind kind>
Shape Named<entry, kind>::shape() {
    return {.map = {label_shape(), One<entry>::shape()}, .entries = kind};
}

// --- entries that stand in several others ------------------------------------------------------

const Entry<Route>& route_entry();
const Entry<Translation>& translation_entry();
const Entry<Nic>& nic_entry();
const Entry<Machine>& machine_entry();
const Entry<Ospf>& ospf_entry();
const Entry<Rip>& rip_entry();
const Entry<Bgp>& bgp_entry();
const Entry<Site>& site_entry();
const Entry<Pool>& pool_entry();
const Entry<SiteRegion>& region_entry();
const Entry<Peering>& peering_entry();
const Entry<Subnet>& subnet_entry();
const Entry<Switch>& switch_entry();
const Entry<Filter>& filter_entry();
const Entry<Policy>& policy_entry();
const Entry<Link>& link_entry();
const Entry<Link>& tunnel_entry();
const Entry<Cable>& cable_entry();
const Entry<Expectation>& expectation_entry();
const Entry<Outside>& outside_entry();
const Entry<Limits>& limits_entry();
const Entry<Image>& boot_entry();
const Entry<Pins>& pins_entry();
const Entry<Plan>& plan_entry();

/// Guests and routers, those they are like first.
template <MachineKind kind>
struct Machines {
    static Shape shape();
    static void read(Reader& r, NodeId node, std::string_view key, Plan& into);
    static Value write(const Plan& of);
    static bool change(Change& change, Steps rest, Plan& into);
};

/// Wires and tunnels; those between switches stand among the wires.
template <bool tunnels>
struct Links {
    static Shape shape();
    static void read(Reader& r, NodeId node, std::string_view key, Plan& into);
    static Value write(const Plan& of);
    static bool change(Change& change, Steps rest, Plan& into);
};

} // namespace jackal::plan
