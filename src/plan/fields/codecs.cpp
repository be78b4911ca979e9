#include "plan/fields/codecs.h"

#include "jackal/plan/edit.h"
#include "plan/units.h"

#include <cmath>

namespace jackal::plan {

Shape label_shape() {
    return {.name = "name",
            .about = "a host-name label: a-z, 0-9 and inner hyphens, at most 63",
            .pattern = "^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$"};
}

Shape PortName::shape() {
    return {.name = "switch-port",
            .about = "SWITCH/PORT",
            .pattern = "^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?/[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$",
            .names = {NameKind::port}};
}

std::optional<std::string> Text::parse(Reader& r, NodeId node) {
    auto text = r.scalar(node, "text");
    return text ? std::optional<std::string>(*text) : std::nullopt;
}

Shape Delay::shape() {
    return {.name = "delay",
            .about = "a time, such as 250us, 4ms or 1.5s",
            .pattern = "^([0-9]+(\\.[0-9]*)?(us|ms|s))$"};
}

std::optional<std::chrono::microseconds> Delay::parse(Reader& r, NodeId node) {
    return r.value(node, "a time such as 250us, 4ms or 1.5s, at most an hour",
                   [](std::string_view text) -> std::optional<std::chrono::microseconds> {
                       auto time = parse_time(text);
                       return time && *time <= longest_delay ? time : std::nullopt;
                   });
}

std::string Delay::text(std::chrono::microseconds of) {
    constexpr std::int64_t ms = 1000;
    const auto us = of.count();
    if (us % (ms * ms) == 0 && us != 0)
        return fmt::format("{}s", us / (ms * ms));
    return us % ms == 0 ? fmt::format("{}ms", us / ms) : fmt::format("{}us", us);
}

Shape Cost::shape() {
    return {.name = "cost",
            .about = "a cost an hour, in a currency of your own",
            .number = Bounds{0, 1'000'000},
            .is_amount = true};
}

std::optional<double> Cost::parse(Reader& r, NodeId node) {
    return r.value(node, "a cost an hour, such as 0.05, at most a million",
                   [](std::string_view text) {
                       constexpr double most = 1e6;
                       auto cost = parse_with_unit(text, {{"", 1}});
                       return cost && *cost <= most ? cost : std::nullopt;
                   });
}

Shape Mebibytes::shape() {
    return {.name = "amount",
            .about = "a size, such as 512M, 4G or 1T",
            .pattern = "^[0-9]+(\\.[0-9]*)?[MGT]$"};
}

std::optional<std::uint32_t> Mebibytes::parse(Reader& r, NodeId node) {
    return r.value(
        node, "a size such as 512M, 4G or 1T",
        [](std::string_view text) -> std::optional<std::uint32_t> {
            constexpr double most = 4e9;
            auto mib = parse_with_unit(text, {{"M", 1}, {"G", 1024}, {"T", 1024.0 * 1024}});
            if (!mib || *mib > most || *mib != std::floor(*mib))
                return std::nullopt;
            return static_cast<std::uint32_t>(*mib);
        });
}

Shape Percent::shape() {
    return {.pattern = "^([0-9]+(\\.[0-9]*)?%)$"};
}

namespace {

constexpr std::string_view ipv4 = "((25[0-5]|2[0-4][0-9]|1?[0-9]?[0-9])\\.){3}"
                                  "(25[0-5]|2[0-4][0-9]|1?[0-9]?[0-9])";

} // namespace

Shape Address::shape() {
    static const std::string pattern = fmt::format("^({}|[0-9A-Fa-f:]*:[0-9A-Fa-f:.]*)$", ipv4);
    return {.name = "address", .about = "an IPv4 or IPv6 address", .pattern = pattern};
}

std::optional<net::Address> Address::parse(Reader& r, NodeId node) {
    return r.value(node, "an IPv4 or IPv6 address", net::parse_address);
}

std::optional<net::Address> Ipv4Address::parse(Reader& r, NodeId node) {
    return r.value(node, "an IPv4 address", [](std::string_view text) {
        auto address = net::parse_address(text);
        return address && address->family() == net::Family::ipv4 ? address : std::nullopt;
    });
}

Shape Prefix::shape() {
    static const std::string pattern =
        fmt::format("^({}/([0-9]|[12][0-9]|3[0-2])|[0-9A-Fa-f:]*:[0-9A-Fa-f:.]*/"
                    "([0-9]|[1-9][0-9]|1[01][0-9]|12[0-8]))$",
                    ipv4);
    return {.name = "prefix",
            .about = "a prefix, such as 10.40.8.0/24 or fd40:7::/64",
            .pattern = pattern};
}

std::optional<net::Prefix> Prefix::parse(Reader& r, NodeId node) {
    auto given = r.value(node, "a prefix such as 10.40.8.0/24 or fd40:7::/64",
                         net::parse_address_with_length);
    if (!given)
        return std::nullopt;
    net::Prefix prefix = given->prefix();
    if (prefix.first() == given->address)
        return prefix;
    r.problem(node, fmt::format("{} has bits beyond its length; did you mean {}?",
                                shown(r.text(node)), net::to_string(prefix)));
    return std::nullopt;
}

Shape HostName::shape() {
    Shape name = label_shape();
    name.names = {NameKind::machine};
    return {.name = "host",
            .about = "an address, or the name of a machine",
            .forms = {name, Address::shape()}};
}

std::optional<Host> HostName::parse(Reader& r, NodeId node) {
    auto text = r.scalar(node, "an address or the name of a machine");
    if (!text)
        return std::nullopt;
    if (auto address = net::parse_address(*text))
        return Host(*address);
    return Host(std::string(*text));
}

std::string HostName::text(const Host& of) {
    return to_string(of);
}

Shape EndsOfRule::shape() {
    Shape name = label_shape();
    name.names = {NameKind::machine, NameKind::subnet};
    return {.name = "ends",
            .about = "a prefix, an address, or the name of a machine or subnet",
            .forms = {name, Address::shape(), Prefix::shape()}};
}

std::optional<Ends> EndsOfRule::parse(Reader& r, NodeId node) {
    auto text = r.scalar(node, "a prefix, an address, or the name of a machine or subnet");
    if (!text)
        return std::nullopt;
    if (auto address = net::parse_address(*text))
        return Ends(net::Prefix(*address, net::address_bits(address->family())));
    if (text->find('/') == text->npos)
        return Ends(std::string(*text));
    auto prefix = Prefix::parse(r, node);
    return prefix ? std::optional<Ends>(*prefix) : std::nullopt;
}

Shape Stretch::shape() {
    return {.name = "region",
            .about =
                "addresses of a subnet: 10.40.8.10-10.40.8.19, one address, a prefix, or places "
                "counted from its first address: +10-+19",
            .pattern = "^(\\+[0-9]+(-\\+[0-9]+)?|[0-9A-Fa-f:.]+(-[0-9A-Fa-f:.]+|/[0-9]+)?)$"};
}

// A stretch of a subnet: `10.40.8.10-10.40.8.19`, one address, a prefix, `+10` or `+10-+19`.
static std::optional<Region> parse_region(std::string_view text) {
    if (auto range = net::parse_range(text))
        return *range;
    auto place = [](std::string_view part) -> std::optional<std::uint64_t> {
        return part.starts_with('+') ? parse_count(part.substr(1)) : std::nullopt;
    };
    std::size_t dash = text.find('-');
    auto first = place(text.substr(0, dash));
    auto last = dash == text.npos ? first : place(text.substr(dash + 1));
    if (!first || !last || *last < *first)
        return std::nullopt;
    return Places{*first, *last};
}

std::optional<Region> Stretch::parse(Reader& r, NodeId node) {
    return r.value(node, "a range such as 10.40.8.10-10.40.8.19 or +10-+19", parse_region);
}

std::string Stretch::text(const Region& of) {
    if (const auto* range = std::get_if<net::Range>(&of))
        return net::to_string(*range);
    const Places& places = std::get<Places>(of);
    return places.first == places.last ? fmt::format("+{}", places.first)
                                       : fmt::format("+{}-+{}", places.first, places.last);
}

Shape Service::shape() {
    return {.name = "service",
            .about = "a service, such as tcp/22 or udp/53",
            .pattern = "^(tcp|udp)/[0-9]{1,5}$"};
}

std::optional<net::Service> Service::parse(Reader& r, NodeId node) {
    return r.value(node, "a service such as tcp/22 or udp/53", net::parse_service);
}

} // namespace jackal::plan
