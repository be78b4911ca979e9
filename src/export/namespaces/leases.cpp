#include "export/namespaces/script.h"
#include "export/settings/settings.h"
#include "jackal/lab/start_order.h"

#include <algorithm>
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
    if (!s.in_namespace(id) || !takes_lease(s, id))
        return "";
    std::string text;
    for (NicId nic : s.lab.nics_of(id)) {
        if (const lab::Lease* lease = s.lab.lease_of(nic);
            lease != nullptr && lease->refusal == lab::Lease::Refusal::none)
            for (MachineId giver : {lease->giver, s.lab.nics[lease->server].machine})
                if (s.virtual_machines.contains(giver))
                    text += fmt::format("    await {}\n", s.lab.machines[giver].name);
        for (lab::AddressId row : s.lab.addresses_of(nic))
            if (is_taken(s, s.lab.addresses[row]))
                text += fmt::format("    take {} {} {} {}\n", s.lab.machines[id].name,
                                    s.lab.nics[nic].name, lease_metric(s, nic),
                                    net::to_string(s.lab.addresses[row].address));
    }
    std::string refused;
    std::string routes = write_routes(s, id, refused);
    return text + fmt::format("    machine {} <<'END'\n{}END\n", s.lab.machines[id].name, routes)
           + refused;
}

// The server or relay that a machine is; nothing if nobody gets a lease from it.
std::string write_giving(const Script& s, MachineId id) {
    const bool has_client = std::ranges::any_of(s.lab.leases, [&](const lab::Lease& lease) {
        return lease.refusal == lab::Lease::Refusal::none
               && (lease.giver == id || s.lab.nics[lease.server].machine == id);
    });
    if (!has_client || !s.in_namespace(id))
        return "";
    std::string options;
    for (const std::string& option : dhcp_settings(s.lab, id))
        options += " \\\n        --" + option;
    return fmt::format("    give {}{}\n", s.lab.machines[id].name, options);
}

} // namespace

std::string write_leases(const Script& s) {
    std::string awaits;
    for (MachineId id : s.virtual_machines)
        awaits += fmt::format("    await {}\n", s.lab.machines[id].name);
    if (!s.with_dhcp || s.lab.leases.empty())
        return fmt::format("\nleases() {{\n    :\n{}}}\n", awaits);
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
    return text + "    rm -f \"$lease_script\"\n" + awaits + "}\n";
}

} // namespace jackal::exports
