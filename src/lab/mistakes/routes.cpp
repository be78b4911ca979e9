#include "lab/mistakes/inspection.h"

#include <fmt/format.h>
#include <set>

namespace jackal::lab {

using net::to_string;
using plan::Cause;

namespace {

// Prefixes that are connected while everything is up, with their metrics, as on Linux.
std::set<std::pair<net::Prefix, std::uint32_t>> connected_routes(const Inspection& in,
                                                                 MachineId id) {
    std::set<std::pair<net::Prefix, std::uint32_t>> routes;
    for (NicId nic : in.lab.nics_of(id))
        for (AddressId address : in.lab.addresses_of(nic)) {
            net::Prefix prefix = in.lab.addresses[address].prefix();
            if (in.lab.nics[nic].up && prefix.host_bits() > 0)
                routes.emplace(prefix, connected_metric(prefix.family()));
        }
    return routes;
}

} // namespace

void repeated_routes(Inspection& in) {
    for (MachineId id : in.lab.machines.ids()) {
        std::set<std::pair<net::Prefix, std::uint32_t>> seen = connected_routes(in, id);
        const auto connected = seen;
        for (RouteId route : in.lab.routes_of(id)) {
            const StaticRoute& row = in.lab.routes[route];
            std::pair key(row.to, row.metric);
            if (seen.insert(key).second || row.origin == RouteOrigin::gateway_lease)
                continue;
            const std::string& name = in.lab.machines[id].name;
            Remedy remedy{{plan::remove_route(in.lab.plan, name, row.plan_index)}, ""};
            if (row.is_gateway())
                remedy = {{}, "set gateway: none, or give the route to default a metric"};
            in.find(Cause::route_repeated, Severity::warning, name,
                    connected.contains(key)
                        ? fmt::format("{} has a route to {}, which is connected; only that exists",
                                      name, to_string(row.to))
                        : fmt::format("{} has a second route to {} with metric {}; only the "
                                      "first exists",
                                      name, to_string(row.to), row.metric),
                    std::move(remedy), row.at);
        }
    }
}

} // namespace jackal::lab
