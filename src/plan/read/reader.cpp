#include "reader.h"

#include "plan/bounds.h"
#include "plan/units.h"

#include <charconv>
#include <cmath>

namespace jackal::plan {

std::string shown(std::string_view text) {
    constexpr std::size_t longest = 60;
    std::string result = "\"";
    for (unsigned char c : text.substr(0, longest)) {
        if (c < 0x20 || c == 0x7f)
            result += fmt::format("\\x{:02x}", c);
        else
            result += static_cast<char>(c);
    }
    return result + (text.size() > longest ? "…\"" : "\"");
}

std::optional<std::uint64_t> parse_count(std::string_view text) {
    std::uint64_t n = 0;
    auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), n);
    if (error != std::errc{} || end != text.data() + text.size())
        return std::nullopt;
    return n;
}

static std::optional<std::chrono::microseconds> parse_delay(std::string_view text) {
    auto time = parse_time(text);
    return time && *time <= longest_delay ? time : std::nullopt;
}

std::optional<double> parse_percent(std::string_view text) {
    return parse_with_unit(text, {{"%", 1}});
}

void read_text(Reader& r, NodeId node, std::string& into) {
    if (auto text = r.scalar(node, "text"))
        into = *text;
}

void read_text(Reader& r, NodeId node, Rare<std::string>& into) {
    if (auto text = r.scalar(node, "text"))
        into = std::string(*text);
}

void read_word(Reader& r, NodeId node, Placed<std::string>& into) {
    if (auto text = r.scalar(node, "a name"))
        into = {std::string(*text), r.at(node)};
}

std::optional<double> read_cost(Reader& r, NodeId node) {
    return r.value(node, "a cost an hour, such as 0.05, at most a million",
                   [](std::string_view text) {
                       constexpr double most = 1e6;
                       auto cost = parse_with_unit(text, {{"", 1}});
                       return cost && *cost <= most ? cost : std::nullopt;
                   });
}

bool read_flag(Reader& r, NodeId node, bool& into) {
    auto i = r.word(node, "answer", {"true", "false"});
    if (i)
        into = *i == 0;
    return i.has_value();
}

void read_state(Reader& r, NodeId node, bool& up) {
    if (auto i = r.word(node, "state", {"up", "down"}))
        up = *i == 0;
}

std::optional<std::uint16_t> read_mtu(Reader& r, NodeId node) {
    return read_number<std::uint16_t>(r, node, least_mtu_bytes, 65535);
}

std::optional<std::uint16_t> read_vlan(Reader& r, NodeId node) {
    return read_number<std::uint16_t>(r, node, 1, most_vlan);
}

std::optional<std::chrono::microseconds> read_delay(Reader& r, NodeId node) {
    return r.value(node, "a time such as 250us, 4ms or 1.5s, at most an hour", parse_delay);
}

std::optional<net::Address> read_address(Reader& r, NodeId node) {
    return r.value(node, "an IPv4 or IPv6 address", net::parse_address);
}

std::optional<net::Address> read_ipv4_address(Reader& r, NodeId node) {
    return r.value(node, "an IPv4 address", [](std::string_view text) {
        auto address = net::parse_address(text);
        return address && address->family() == net::Family::ipv4 ? address : std::nullopt;
    });
}

// One prefix for each family at most.
void read_prefixes(Reader& r, NodeId node, std::vector<Placed<net::Prefix>>& into) {
    r.each_item(node, [&](NodeId item) {
        auto given = r.value(item, "a prefix such as 10.40.8.0/24 or fd40:7::/64",
                             net::parse_address_with_length);
        if (!given)
            return;
        net::Prefix prefix = given->prefix();
        if (prefix.first() != given->address)
            return r.problem(item, fmt::format("{} has bits beyond its length; did you mean {}?",
                                               shown(r.text(item)), net::to_string(prefix)));
        into.emplace_back(prefix, r.at(item));
    });
}

void read_prefix_per_family(Reader& r, NodeId node, std::vector<Placed<net::Prefix>>& into) {
    read_prefixes(r, node, into);
    if (into.size() > 2 || (into.size() == 2 && into[0].value.family() == into[1].value.family()))
        r.problem(node, "one prefix for each address family at most");
}

void refuse_empty_list(Reader& r, NodeId node, std::string_view what) {
    bool is_empty = r.kind(node) == NodeKind::sequence;
    r.each_item(node, [&](NodeId) { is_empty = false; });
    if (is_empty)
        r.problem(node, fmt::format("an empty list is no {}", what));
}

void read_address_per_family(Reader& r, NodeId node, std::vector<Placed<net::Address>>& into) {
    r.each_item(node, [&](NodeId item) {
        if (auto address = read_address(r, item))
            into.emplace_back(*address, r.at(item));
    });
    if (into.size() > 2 || (into.size() == 2 && into[0].value.family() == into[1].value.family()))
        r.problem(node, "one address for each address family at most");
}

void read_name(Reader& r, NodeId node, std::string& into) {
    if (auto name = r.scalar(node, "a name"))
        into = *name;
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

void read_address_or_name(Reader& r, NodeId node,
                          Placed<std::variant<net::Address, std::string>>& into) {
    auto text = r.scalar(node, "an address or the name of a machine");
    if (!text)
        return;
    into.at = r.at(node);
    if (auto address = net::parse_address(*text))
        into.value = *address;
    else
        into.value = std::string(*text);
}

void read_hosts(Reader& r, NodeId node, std::vector<Placed<Host>>& into) {
    into.clear();
    r.each_item(node, [&](NodeId item) { read_address_or_name(r, item, into.emplace_back()); });
}

std::optional<Region> read_region(Reader& r, NodeId node) {
    return r.value(node, "a range such as 10.40.8.10-10.40.8.19 or +10-+19", parse_region);
}

// `4G` as mebibytes.
static std::optional<std::uint32_t> parse_mebibytes(std::string_view text) {
    constexpr double most = 4e9;
    auto mib = parse_with_unit(text, {{"M", 1}, {"G", 1024}, {"T", 1024.0 * 1024}});
    if (!mib || *mib > most || *mib != std::floor(*mib))
        return std::nullopt;
    return static_cast<std::uint32_t>(*mib);
}

void read_mebibytes(Reader& r, NodeId node, std::uint32_t& into) {
    into = r.value(node, "a size such as 512M, 4G or 1T", parse_mebibytes).value_or(into);
}

void read_cpus(Reader& r, NodeId node, std::uint32_t& into) {
    into = read_number<std::uint32_t>(r, node, 0, 1'000'000).value_or(into);
}

} // namespace jackal::plan
