// Subnets, with what their DHCP servers give out.
#include "plan/fields/codecs.h"

#include <cmath>

namespace jackal::plan {

namespace {

struct Lease : Scalar<Lease> {
    static Shape shape() { return {.pattern = "^[0-9]+[smhd]$"}; }
    static std::optional<std::chrono::seconds> parse(Reader& r, NodeId node) {
        return r.value(node, "a time such as 30m, 12h or 7d", parse_lease);
    }
    static std::string text(std::chrono::seconds of) {
        for (auto [unit, letter] : units)
            if (of.count() % unit == 0)
                return fmt::format("{}{}", of.count() / unit, letter);
        return "";
    }

  private:
    static constexpr std::pair<std::int64_t, char> units[] = {
        {24LL * 3600, 'd'}, {3600, 'h'}, {60, 'm'}, {1, 's'}};

    static std::optional<std::chrono::seconds> parse_lease(std::string_view text) {
        constexpr std::uint64_t most = 3650ULL * 24 * 3600;
        for (auto [unit, letter] : units) {
            if (!text.ends_with(letter))
                continue;
            auto count = parse_count(text.substr(0, text.size() - 1));
            if (count && *count != 0 && *count <= most / static_cast<std::uint64_t>(unit))
                return std::chrono::seconds(static_cast<std::int64_t>(*count) * unit);
        }
        return std::nullopt;
    }
};

// `{MAC or MACHINE: ADDRESS, …}`
struct Reservations {
    static Shape shape() {
        return {.map = {Shape{.pattern = "^.", .names = {NameKind::machine}}, Stretch::shape()}};
    }
    static void read(Reader& r, NodeId node, std::string_view key, std::vector<Reservation>& into) {
        into.clear();
        r.each_pair(node, key, [&](NodeId client, NodeId value) {
            Reservation entry;
            entry.at = r.at(client);
            if (auto mac = net::parse_mac(r.text(client)))
                entry.client = *mac;
            else
                entry.client = std::string(r.text(client));
            auto region = Stretch::parse(r, value);
            if (!region)
                return;
            const auto* range = std::get_if<net::Range>(&*region);
            const auto* places = std::get_if<Places>(&*region);
            bool one =
                range != nullptr ? range->first == range->last : places->first == places->last;
            if (!one)
                return r.problem(value, "one address is kept for one client");
            entry.address = {*region, r.at(value)};
            into.push_back(std::move(entry));
        });
    }
    static Value write(const std::vector<Reservation>& of) {
        Value map = Value::named();
        for (const Reservation& entry : of) {
            const auto* mac = std::get_if<net::Mac>(&entry.client);
            map.add(mac != nullptr ? net::to_string(*mac) : std::get<std::string>(entry.client),
                    Value::scalar(Stretch::text(entry.address.value)));
        }
        return map;
    }
};

// An address, or `none`.
struct RouterOption {
    static Shape shape() { return {.forms = {Shape{.words = {"none"}}, Address::shape()}}; }
    static void read(Reader& r, NodeId node, std::string_view, DhcpRange& into) {
        if (r.kind(node) == NodeKind::scalar && r.text(node) == "none")
            into.gives_router = false;
        else if (auto address = Address::parse(r, node))
            into.router = {*address, r.at(node)};
    }
    static Value write(const DhcpRange& of) {
        if (!of.gives_router)
            return Value::scalar("none");
        return of.router ? Value::scalar(net::to_string(of.router->value)) : Value{};
    }
};

constexpr Field<DhcpRange> dhcp_fields[] = {
    field<Stretch, &DhcpRange::range>("range", "the part of the IPv4 prefix that is given out"),
    field<Number<1, most_hosts>, &DhcpRange::size>(
        "size", "how many addresses are, at the upper end; one of range and size is needed"),
    field<OneOrMore<Stretch>, &DhcpRange::exclude>(
        "exclude", "a part of that, or a list of parts, that is not given out", "none"),
    field<Reservations, &DhcpRange::reservations>(
        "reservations", "addresses kept for one client each: MAC or machine to address", "none"),
    field<Name<NameKind::machine>, &DhcpRange::server>(
        "server", "the machine that serves",
        "the one with the gateway address, else the first router there"),
    field<Name<NameKind::machine>, &DhcpRange::relay>(
        "relay", "the machine on the subnet that passes requests on to a server elsewhere", "none"),
    field<Lease, &DhcpRange::lease>("lease", "how long an address is given for, such as 30m or 7d",
                                    "12h"),
    whole<RouterOption, &DhcpRange::router, &DhcpRange::gives_router>(
        "router", "the default gateway that clients are told, or none",
        "the gateway of the subnet"),
    field<OneOrMore<HostName>, &DhcpRange::dns>(
        "dns", "the name servers that they are told: addresses or names of machines", "none"),
};
static_assert(covers<DhcpRange>(dhcp_fields, {tag<&DhcpRange::at>}));

const Entry<DhcpRange>& dhcp_entry() {
    static const Entry<DhcpRange> entry{
        .name = "dhcp",
        .what = "dhcp",
        .fields = dhcp_fields,
        .rules = {{Rule::Kind::one_of, {"range", "size"}}, {Rule::Kind::with, {"relay", "server"}}},
        .check = [](Reader& r, NodeId node, DhcpRange& dhcp) {
            if (dhcp.range.has_value() == dhcp.size.has_value())
                r.problem(node, "dhcp needs `range` or `size`, one of them");
        }};
    return entry;
}

// A mapping, or `none` for a segment that is to have no server.
struct Dhcp {
    static Shape shape() { return {.forms = {Shape{.words = {"none"}}, One<dhcp_entry>::shape()}}; }
    static void read(Reader& r, NodeId node, std::string_view key, Subnet& into) {
        if (r.kind(node) == NodeKind::scalar && r.text(node) == "none")
            into.static_only = true;
        else
            One<dhcp_entry>::read(r, node, key, into.dhcp);
    }
    static Value write(const Subnet& of) {
        if (of.static_only)
            return Value::scalar("none");
        return of.dhcp ? One<dhcp_entry>::write(of.dhcp) : Value{};
    }
};

struct GatewayOfSubnet {
    static Shape shape() {
        return {
            .forms = {Shape{.words = {"first", "last", "none"}}, PerFamily<Address, 1>::shape()}};
    }
    static void read(Reader& r, NodeId node, std::string_view key, SubnetGateway& gateway) {
        gateway.written = true;
        gateway.at = r.at(node);
        if (r.kind(node) == NodeKind::scalar) {
            for (auto [word, kind] : words) {
                if (r.text(node) != word)
                    continue;
                gateway.kind = kind;
                return;
            }
            if (!net::parse_address(r.text(node))) {
                return r.problem(
                    node, fmt::format("{} is no gateway; write first, last, none or an address",
                                      shown(r.text(node))));
            }
        }
        gateway.kind = SubnetGateway::Kind::given;
        PerFamily<Address>::read(r, node, key, gateway.given);
        refuse_empty_list(r, node, "gateway; write none for no gateway");
    }
    static Value write(const SubnetGateway& of) {
        for (auto [word, kind] : words)
            if (kind == of.kind)
                return of.written ? Value::scalar(word) : Value{};
        return PerFamily<Address>::write(of.given);
    }

  private:
    static constexpr std::pair<const char*, SubnetGateway::Kind> words[] = {
        {"first", SubnetGateway::Kind::first},
        {"last", SubnetGateway::Kind::last},
        {"none", SubnetGateway::Kind::none}};
};

// `/27`, `/60`, or one for each family: up to 32 an IPv4 length, beyond it an IPv6 one.
struct Size {
    static Shape shape() {
        Shape one{.pattern = "^(/([89]|[1-9][0-9]|1[01][0-9]|12[0-6]))$"};
        Shape list{.list = {one}, .most = 2};
        return {.forms = {one, list}};
    }
    static void read(Reader& r, NodeId node, std::string_view, Subnet& into) {
        constexpr std::uint64_t longest_ipv4 = 32;
        int given[2] = {0, 0};
        r.each_item(node, [&](NodeId item) {
            auto length =
                r.value(item, "a prefix length from /8 to /32 for IPv4, or to /126 for IPv6",
                        [](std::string_view text) -> std::optional<std::uint64_t> {
                            if (!text.starts_with('/'))
                                return std::nullopt;
                            auto bits = parse_count(text.substr(1));
                            return bits && *bits >= 8 && *bits <= 126 ? bits : std::nullopt;
                        });
            if (!length)
                return;
            bool ipv4 = *length <= longest_ipv4;
            if (++given[ipv4 ? 0 : 1] > 1)
                r.problem(item, "one length for each address family at most");
            else if (ipv4)
                into.size = {static_cast<unsigned>(*length), r.at(item)};
            else
                into.ipv6_size = static_cast<std::uint8_t>(*length);
        });
    }
    static Value write(const Subnet& of) {
        std::vector<Value> lengths;
        if (of.size)
            lengths.push_back(Value::scalar(fmt::format("/{}", of.size->value)));
        if (of.ipv6_size != Subnet{}.ipv6_size)
            lengths.push_back(Value::scalar(fmt::format("/{}", of.ipv6_size)));
        return lengths.empty() ? Value{} : Value::one_or_list(std::move(lengths));
    }
};

struct Growth : Scalar<Growth> {
    static Shape shape() { return Percent::shape(); }
    static std::optional<std::uint16_t> parse(Reader& r, NodeId node) {
        auto percent = r.value(node, "a percentage from 0% to 1000%", parse_percent);
        if (percent && *percent <= 1000)
            return static_cast<std::uint16_t>(std::lround(*percent));
        if (percent)
            r.problem(node, "growth is at most 1000%");
        return std::nullopt;
    }
    static std::string text(std::uint16_t of) { return Percent::text(of); }
};

struct UplinkWord : Choice<UplinkWord> {
    static constexpr std::string_view what = "uplink";
    static constexpr std::array words{
        std::pair{"none", Uplink::none}, std::pair{"host", Uplink::host},
        std::pair{"nat", Uplink::nat}, std::pair{"bridge", Uplink::bridge}};
};

struct UplinkKey : WithPlace<UplinkWord, &Subnet::uplink, &Subnet::uplink_at> {
    static Value write(const Subnet& of) {
        return of.uplink == Uplink::none ? Value{} : UplinkWord::write(of.uplink);
    }
};

constexpr Field<Subnet> subnet_fields[] = {
    field<Name<NameKind::site>, &Subnet::site>(
        "site", "the site it belongs to; needed if there are several", "the only site"),
    field<PerFamily<Prefix>, &Subnet::prefixes>(
        "prefix", "the prefix that the builder picked, or one for each family", "placed by Jackal"),
    field<Number<1, most_hosts>, &Subnet::hosts>(
        "hosts", "how many usable addresses are wanted, besides the gateway"),
    field<Growth, &Subnet::growth_percent>("growth", "a percentage on top of hosts", "0%"),
    whole<Size, &Subnet::size, &Subnet::ipv6_size>(
        "size", "the prefix length wanted, such as /27, or /60 for IPv6, or one for each family",
        "/24, /64"),
    field<GatewayOfSubnet, &Subnet::gateway>(
        "gateway", "first, last, an address (or one for each family), or none", "first"),
    field<OneOrMore<Stretch>, &Subnet::reserve>(
        "reserve", "addresses that are never given out: a range, or a list of them", "none"),
    whole<Dhcp, &Subnet::dhcp, &Subnet::static_only>(
        "dhcp", "what its DHCP server gives out; or none: no server is wanted there", "no server"),
    whole<UplinkKey, &Subnet::uplink, &Subnet::uplink_at>(
        "uplink", "what its segment has to do with the world outside", "none"),
    field<Flag, &Subnet::joined>("core", "false: the core of its site, if it has one, keeps off it",
                                 "true"),
    field<Name<NameKind::filter>, &Subnet::filter>(
        "filter", "the name of a filter that stands on the NIC of every guest on the subnet",
        "none"),
    field<Vlan, &Subnet::vlan>("vlan", "the VLAN that it is on the switches, 1 to 4094",
                               "that of most of its NICs"),
    about_field<&Subnet::about>(),
};
static_assert(covers<Subnet>(subnet_fields, {tag<&Subnet::name>, tag<&Subnet::at>}));

} // namespace

const Entry<Subnet>& subnet_entry() {
    static const Entry<Subnet> entry{"subnet",
                                     "a subnet",
                                     subnet_fields,
                                     {{Rule::Kind::not_both, {"prefix", "hosts"}},
                                      {Rule::Kind::not_both, {"prefix", "size"}},
                                      {Rule::Kind::ipv4_only, {"hosts", "size"}}}};
    return entry;
}

} // namespace jackal::plan
