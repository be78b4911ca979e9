#include "jackal/plan/plan.h"

#include "plan/read/reader.h"
#include "plan/units.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <unordered_map>
#include <utility>

namespace jackal::plan {

namespace {

template <class Entries>
auto* entry_named(Entries& entries, std::string_view name) {
    auto found = std::find_if(entries.begin(), entries.end(),
                              [&](const auto& entry) { return entry.name == name; });
    return found == entries.end() ? nullptr : &*found;
}

} // namespace

const Machine* Plan::machine(std::string_view name) const {
    return entry_named(machines, name);
}
const Subnet* Plan::subnet(std::string_view name) const {
    return entry_named(subnets, name);
}
Machine* Plan::machine(std::string_view name) {
    return entry_named(machines, name);
}
Subnet* Plan::subnet(std::string_view name) {
    return entry_named(subnets, name);
}
Filter* Plan::filter(std::string_view name) {
    return entry_named(filters, name);
}

const SwitchPort* Plan::port(std::string_view name) const {
    std::size_t slash = name.find('/');
    const Switch* found = entry_named(switches, name.substr(0, slash));
    return found == nullptr || slash == name.npos
               ? nullptr
               : entry_named(found->ports, name.substr(slash + 1));
}
SwitchPort* Plan::port(std::string_view name) {
    return const_cast<SwitchPort*>(std::as_const(*this).port(name));
}

bool SwitchPort::carries(std::uint16_t vlan) const {
    return vlan == untagged || std::ranges::binary_search(tagged, vlan);
}

std::string_view to_string(Uplink uplink) {
    switch (uplink) {
    case Uplink::host: return "host";
    case Uplink::nat: return "nat";
    case Uplink::bridge: return "bridge";
    case Uplink::own: return "own";
    case Uplink::none: break;
    }
    return "none";
}

std::string_view to_string(Way way) {
    switch (way) {
    case Way::in: return "in";
    case Way::out: return "out";
    case Way::through: break;
    }
    return "through";
}

std::string to_string(const Ends& ends) {
    const auto* prefix = std::get_if<net::Prefix>(&ends);
    if (prefix == nullptr)
        return std::get<std::string>(ends);
    bool one = prefix->host_bits() == 0;
    return one ? net::to_string(prefix->first()) : net::to_string(*prefix);
}

std::string size_text(std::uint64_t mib) {
    constexpr std::uint64_t step = 1024;
    if (mib >= step * step && mib % step == 0)
        return fmt::format("{:g}T", static_cast<double>(mib / step) / step);
    return mib >= step ? fmt::format("{:g}G", static_cast<double>(mib) / step)
                       : fmt::format("{}M", mib);
}

bool is_name(std::string_view text) {
    auto inner = [](char c) {
        return (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9') || c == '-';
    };
    return !text.empty() && text.size() <= 63 && text.front() != '-' && text.back() != '-'
           && std::all_of(text.begin(), text.end(), inner);
}

std::string_view to_string(Exit exit) {
    switch (exit) {
    case Exit::lend: return "lend";
    case Exit::borrow: return "borrow";
    case Exit::none: break;
    }
    return "none";
}

std::string_view to_string(RouteSource source) {
    switch (source) {
    case RouteSource::connected: return "connected";
    case RouteSource::static_routes: return "static";
    case RouteSource::ospf: return "ospf";
    case RouteSource::rip: return "rip";
    case RouteSource::bgp: break;
    }
    return "bgp";
}

std::optional<Community> parse_community(std::string_view text) {
    std::size_t colon = text.find(':');
    if (colon == text.npos)
        return std::nullopt;
    auto high = parse_count(text.substr(0, colon));
    auto low = parse_count(text.substr(colon + 1));
    if (!high || !low || *high > 65535 || *low > 65535)
        return std::nullopt;
    return static_cast<Community>(*high << 16 | *low);
}

std::string community_text(Community community) {
    return fmt::format("{}:{}", community >> 16, community & 0xffff);
}

std::optional<std::chrono::microseconds> parse_time(std::string_view text) {
    constexpr double most_us = 1e12;
    auto us = parse_with_unit(text, {{"us", 1}, {"ms", 1e3}, {"s", 1e6}});
    if (!us || *us > most_us)
        return std::nullopt;
    return std::chrono::microseconds(std::llround(*us));
}

} // namespace jackal::plan
