#include "plan/bounds.h"
#include "reader.h"

namespace jackal::plan {

namespace {

std::optional<std::chrono::seconds> parse_lease(std::string_view text) {
    constexpr std::uint64_t most = 3650ULL * 24 * 3600;
    if (text.empty())
        return std::nullopt;
    std::uint64_t unit = 0;
    switch (text.back()) {
    case 's': unit = 1; break;
    case 'm': unit = 60; break;
    case 'h': unit = 3600; break;
    case 'd': unit = 24ULL * 3600; break;
    default: return std::nullopt;
    }
    auto count = parse_count(text.substr(0, text.size() - 1));
    if (!count || *count == 0 || *count > most / unit)
        return std::nullopt;
    return std::chrono::seconds(*count * unit);
}

// MAC or machine: address.
void read_reservations(Reader& r, NodeId node, DhcpRange& dhcp) {
    dhcp.reservations.clear();
    r.each_pair(node, "reservations", [&](NodeId key, NodeId value) {
        Reservation entry;
        entry.at = r.at(key);
        if (auto mac = net::parse_mac(r.text(key)))
            entry.client = *mac;
        else
            entry.client = std::string(r.text(key));
        auto region = read_region(r, value);
        if (!region)
            return;
        const auto* range = std::get_if<net::Range>(&*region);
        const auto* places = std::get_if<Places>(&*region);
        bool one = range != nullptr ? range->first == range->last : places->first == places->last;
        if (!one)
            return r.problem(value, "one address is kept for one client");
        entry.address = {*region, r.at(value)};
        dhcp.reservations.push_back(std::move(entry));
    });
}

const Key<DhcpRange> dhcp_keys[] = {
    {"dns", [](Reader& r, NodeId n, DhcpRange& d) { read_hosts(r, n, d.dns); }},
    {"exclude",
     [](Reader& r, NodeId n, DhcpRange& d) {
         r.each_item(n, [&](NodeId item) {
             if (auto region = read_region(r, item))
                 d.exclude.emplace_back(*region, r.at(item));
         });
     }},
    {"lease",
     [](Reader& r, NodeId n, DhcpRange& d) {
         d.lease = r.value(n, "a time such as 30m, 12h or 7d", parse_lease).value_or(d.lease);
     }},
    {"range",
     [](Reader& r, NodeId n, DhcpRange& d) {
         if (auto region = read_region(r, n))
             d.range = {*region, r.at(n)};
     }},
    {"relay", [](Reader& r, NodeId n, DhcpRange& d) { read_word(r, n, d.relay); }},
    {"reservations", read_reservations},
    {"router",
     [](Reader& r, NodeId n, DhcpRange& d) {
         if (r.kind(n) == NodeKind::scalar && r.text(n) == "none")
             d.gives_router = false;
         else if (auto address = read_address(r, n))
             d.router = {*address, r.at(n)};
     }},
    {"server", [](Reader& r, NodeId n, DhcpRange& d) { read_word(r, n, d.server); }},
    {"size",
     [](Reader& r, NodeId n, DhcpRange& d) {
         if (auto size = read_number<std::uint64_t>(r, n, 1, most_hosts))
             d.size = {*size, r.at(n)};
     }},
};

} // namespace

// A mapping, or `none` for a segment that is to have no server.
void read_dhcp(Reader& r, NodeId node, Subnet& subnet) {
    if (r.kind(node) == NodeKind::scalar && r.text(node) == "none") {
        subnet.static_only = true;
        return;
    }
    DhcpRange dhcp;
    dhcp.at = r.at(node);
    r.mapping(node, "dhcp", dhcp_keys, dhcp);
    if (dhcp.range.has_value() == dhcp.size.has_value())
        r.problem(node, "dhcp needs `range` or `size`, one of them");
    subnet.dhcp = std::move(dhcp);
}

} // namespace jackal::plan
