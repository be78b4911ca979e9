#include "export/namespaces/script.h"
#include "jackal/lab/start_order.h"

#include "jackal/export/words.h"

#include <fmt/format.h>

namespace jackal::exports {

using lab::MachineId;
using lab::NicId;

namespace {

std::uint32_t lease_metric(const Script& s, NicId nic) {
    const lab::Lease* lease = s.lab.lease_of(nic);
    for (lab::RouteId id : s.lab.routes_of(s.lab.nics[nic].machine))
        if (const lab::StaticRoute& route = s.lab.routes[id];
            route.origin == lab::RouteOrigin::gateway_lease && lease->router == route.via)
            return route.metric;
    return 0;
}

std::string write_taking(const Script& s, MachineId id) {
    if (!s.condition.machine_on(id) || !takes_lease(s, id))
        return "";
    std::string text;
    for (NicId nic : s.lab.nics_of(id))
        for (lab::AddressId row : s.lab.addresses_of(nic))
            if (is_taken(s, s.lab.addresses[row]))
                text += fmt::format("    take {} {} {} {}\n", s.lab.machines[id].name,
                                    s.lab.nics[nic].name, lease_metric(s, nic),
                                    net::to_string(s.lab.addresses[row].address));
    std::string refused;
    std::string routes = write_routes(s, id, refused);
    return text + fmt::format("    machine {} <<'END'\n{}END\n", s.lab.machines[id].name, routes)
           + refused;
}

std::string write_offer(const Script& s, const lab::DhcpOffer& offer, const lab::Lease& client) {
    const lab::Subnet& subnet = s.lab.subnets[offer.subnet];
    const net::Prefix& prefix = *s.lab.segments[subnet.segment].prefix.ipv4;
    std::string text;
    for (const net::Range& range : offer.gives)
        text += fmt::format(" \\\n        --dhcp-range=set:{},{},{},{},{}", subnet.name,
                            net::to_string(range.first), net::to_string(range.last),
                            mask_text(prefix), client.time.count());
    text += fmt::format(" \\\n        --dhcp-option=tag:{},3{}", subnet.name,
                        client.router ? "," + net::to_string(*client.router) : "");
    for (net::Address server : client.dns)
        text += fmt::format(" --dhcp-option=tag:{},6,{}", subnet.name, net::to_string(server));
    return text;
}

std::string write_relay(const Script& s, const lab::DhcpOffer& offer) {
    const auto* here = s.lab.first_address(offer.heard_by, net::Family::ipv4);
    for (NicId nic : s.lab.nics_of(offer.giver))
        if (const auto* there = s.lab.first_address(nic, net::Family::ipv4))
            return fmt::format(" --dhcp-relay={},{}", net::to_string(here->address),
                               net::to_string(there->address));
    return "";
}

// The server or relay that a machine is; nothing if nobody gets a lease from it.
std::string write_giving(const Script& s, MachineId id) {
    std::string ranges;
    std::string relays;
    for (const lab::DhcpOffer& offer : s.lab.offers) {
        bool relays_it = s.lab.nics[offer.heard_by].machine == id && offer.giver != id;
        if (!s.condition.machine_on(id) || (offer.giver != id && !relays_it))
            continue;
        const lab::Lease* client = nullptr;
        std::string kept;
        for (const lab::Lease& lease : s.lab.leases)
            if (lease.server == offer.heard_by && lease.giver == offer.giver
                && lease.refusal == lab::Lease::Refusal::none) {
                client = &lease;
                if (lease.reserved)
                    kept += fmt::format(" \\\n        --dhcp-host={},{}",
                                        net::to_string(s.lab.nics[lease.nic].mac),
                                        net::to_string(lease.address));
            }
        if (client == nullptr)
            continue;
        if (relays_it)
            relays += write_relay(s, offer);
        else
            ranges += write_offer(s, offer, *client) + kept;
    }
    if (ranges.empty() && relays.empty())
        return "";
    return fmt::format("    give {}{}{}\n", s.lab.machines[id].name, ranges, relays);
}

} // namespace

std::string write_leases(const Script& s) {
    if (!s.with_dhcp || s.lab.leases.empty())
        return "\nleases() { :; }\n";
    std::string text = "\n"
                       "# What a DHCP client does with its lease.\n"
                       "lease_steps() {\n"
                       "    cat <<'END'\n"
                       "#!/bin/sh\n"
                       "[ \"$1\" = bound ] || exit 0\n"
                       "ip address add \"$ip/$mask\" dev \"$interface\"\n"
                       "for via in $router; do\n"
                       "    ip route add default via \"$via\" metric \"$metric\" 2>/dev/null\n"
                       "done\n"
                       "echo \"got $ip\"\n"
                       "END\n"
                       "}\n"
                       "leases() {\n"
                       "    command -v dnsmasq >/dev/null || fail \"start needs dnsmasq\"\n"
                       "    command -v udhcpc >/dev/null || fail \"start needs udhcpc\"\n"
                       "    lease_script=$(mktemp)\n"
                       "    lease_steps >\"$lease_script\"\n"
                       "    chmod 700 \"$lease_script\"\n";
    for (MachineId id : s.lab.machines.ids()) // they are there before the lab
        if (s.lab.machines[id].outside && !takes_lease(s, id))
            text += write_giving(s, id);
    for (const lab::Start& start : lab::start_order(s.lab))
        text += write_taking(s, start.machine) + write_giving(s, start.machine);
    return text + "    rm -f \"$lease_script\"\n}\n";
}

} // namespace jackal::exports
