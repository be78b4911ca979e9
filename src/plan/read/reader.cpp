#include "reader.h"

#include "plan/units.h"

#include <charconv>

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

std::optional<double> parse_percent(std::string_view text) {
    return parse_with_unit(text, {{"%", 1}});
}

void read_word(Reader& r, NodeId node, Placed<std::string>& into) {
    if (auto text = r.scalar(node, "a name"))
        into = {std::string(*text), r.at(node)};
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

void refuse_empty_list(Reader& r, NodeId node, std::string_view what) {
    bool is_empty = r.kind(node) == NodeKind::sequence;
    r.each_item(node, [&](NodeId) { is_empty = false; });
    if (is_empty)
        r.problem(node, fmt::format("an empty list is no {}", what));
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

std::optional<Region> read_region(Reader& r, NodeId node) {
    return r.value(node, "a range such as 10.40.8.10-10.40.8.19 or +10-+19", parse_region);
}

} // namespace jackal::plan
