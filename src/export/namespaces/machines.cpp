#include "export/namespaces/script.h"
#include "export/settings/settings.h"

#include "jackal/net/special_use.h"
#include "jackal/sorted.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::exports {

using lab::MachineId;
using lab::NicId;

namespace {

// IPv6 next hops that a route by another NIC covers more closely than their own subnet. The
// kernel looks each next hop up when it takes a route, and takes none that it finds elsewhere;
// so these get routes of their own meanwhile.
std::vector<routing::Gate> covered_gates(const Script& s, MachineId id) {
    std::vector<routing::Route> routes = s.settled.routes(id);
    std::vector<routing::Gate> gates;
    for (const routing::Route& route : routes)
        if (routing::is_learned(route.kind) && route.via.family() == net::Family::ipv6
            && route.has_next_hop() && !net::is_link_local(route.via))
            gates.push_back({route.out, route.via});
    sort_unique(gates);
    std::erase_if(gates, [&](const routing::Gate& gate) {
        const routing::Route* closest = nullptr;
        bool here = false;
        for (const routing::Route& route : routes) {
            if (!route.to.contains(gate.via)
                || (closest != nullptr && route.to.length() < closest->to.length()))
                continue;
            here = (closest != nullptr && route.to == closest->to && here)
                   || (route.kind == routing::RouteKind::connected && route.out == gate.out);
            closest = &route;
        }
        return here;
    });
    return gates;
}

// What routing protocols taught the machine, as routes that do not change.
std::string write_learned(const Script& s, MachineId id) {
    std::vector<routing::Route> routes = s.settled.routes(id);
    std::erase_if(routes, [](const auto& route) { return !routing::is_learned(route.kind); });
    if (routes.empty())
        return "";
    std::vector<routing::Gate> covered = covered_gates(s, id);
    std::string text = fmt::format("    machine {} <<'END'\n", s.lab.machines[id].name);
    for (const routing::Gate& gate : covered)
        text += fmt::format("route add {} dev {} metric 1\n", net::to_string(gate.via),
                            s.lab.nics[gate.out].name);
    for (std::size_t i = 0; i < routes.size();) {
        const routing::Route& first = routes[i];
        std::string ways;
        std::size_t count = 0;
        for (; i < routes.size() && routes[i].to == first.to; ++i, ++count)
            ways += routes[i].has_next_hop()
                        ? fmt::format(" nexthop via {} dev {} onlink",
                                      net::to_string(routes[i].via), s.lab.nics[routes[i].out].name)
                        : fmt::format(" nexthop dev {}", s.lab.nics[routes[i].out].name);
        if (count == 1)
            ways.erase(0, std::string_view(" nexthop").size());
        text += fmt::format("route add {} proto {} metric {}{}\n", net::to_string(first.to),
                            routing::to_string(first.kind),
                            routing::administrative_distance(first.kind), ways);
    }
    for (const routing::Gate& gate : covered)
        text += fmt::format("route del {} dev {} metric 1\n", net::to_string(gate.via),
                            s.lab.nics[gate.out].name);
    return text + "END\n";
}

std::string write_address(const Script& s, const lab::InterfaceAddress& row) {
    const lab::Nic& nic = s.lab.nics[row.nic];
    bool ipv6 = row.address.family() == net::Family::ipv6;
    if (ipv6 && nic.mtu_bytes < lab::ipv6_minimum_mtu_bytes)
        return fmt::format("# {} has too small an MTU for {}\n", nic.name,
                           net::to_string(row.address));
    return fmt::format("address add {}/{} dev {}{}\n", net::to_string(row.address), row.length,
                       nic.name, ipv6 ? " nodad" : "");
}

std::string route_words(const lab::StaticRoute& route) {
    return fmt::format("{} via {} metric {}", net::to_string(route.to), net::to_string(route.via),
                       route.metric);
}

} // namespace

std::string write_machine(const Script& s, MachineId id) {
    std::string text =
        fmt::format("    machine {} <<'END'\nlink set lo up\n", s.lab.machines[id].name);
    for (NicId nic : s.lab.nics_of(id)) {
        if (!s.lab.nics[nic].is_loopback())
            text += fmt::format("link set dev {} up\n", s.lab.nics[nic].name);
        for (lab::AddressId row : s.lab.addresses_of(nic))
            if (!is_taken(s, s.lab.addresses[row]))
                text += write_address(s, s.lab.addresses[row]);
        // As a NIC that went down: the kernel takes its IPv6 addresses.
        if (!s.condition.nic_up(nic))
            text += fmt::format("link set dev {} down\n", s.lab.nics[nic].name);
    }
    std::string refused;
    if (!takes_lease(s, id)) // else they come with the lease
        text += write_routes(s, id, refused);
    const std::string rules = nftables_rules(s.lab, id);
    return text + "END\n" + refused + (runs_daemon(s, id) ? "" : write_learned(s, id))
           + (rules.empty()
                  ? ""
                  : fmt::format("    rules {} <<'END'\n{}END\n", s.lab.machines[id].name, rules));
}

bool is_taken(const Script& s, const lab::InterfaceAddress& row) {
    return s.with_dhcp && row.origin == lab::AddressOrigin::lease
           && row.address.family() == net::Family::ipv4 && s.condition.nic_up(row.nic);
}

bool takes_lease(const Script& s, MachineId id) {
    for (NicId nic : s.lab.nics_of(id))
        for (lab::AddressId row : s.lab.addresses_of(nic))
            if (is_taken(s, s.lab.addresses[row]))
                return true;
    return false;
}

std::string write_routes(const Script& s, MachineId id, std::string& refused) {
    std::string text;
    bool leases = takes_lease(s, id);
    for (lab::RouteId route : s.lab.routes_of(id)) {
        if (leases && s.lab.routes[route].origin == lab::RouteOrigin::gateway_lease)
            continue;
        if (s.refused.contains(route))
            refused += fmt::format("    refused {} {}\n", s.lab.machines[id].name,
                                   route_words(s.lab.routes[route]));
        else
            text += fmt::format("route add {}\n", route_words(s.lab.routes[route]));
    }
    return text;
}

} // namespace jackal::exports
