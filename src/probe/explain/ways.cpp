#include "probe/explain/causes.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::probe {

using lab::MachineId;
using lab::NicId;
using lab::Remedy;
using lab::RouteOrigin;

namespace {

// The next hop as a plan names it: the machine, if its name leads to the same NIC.
plan::Route::NextHop next_hop_name(const Case& c, MachineId from, const Hop& hop) {
    MachineId there = c.lab.nics[hop.in].machine;
    for (NicId own : c.lab.nics_of(from))
        for (NicId theirs : c.lab.nics_of(there))
            if (c.lab.nics[own].segment == c.lab.nics[theirs].segment
                && c.lab.first_address(theirs, c.family) != nullptr) {
                if (theirs == hop.in)
                    return c.name(there);
                return c.lab.first_address(hop.in, c.family)->address;
            }
    return c.lab.first_address(hop.in, c.family)->address;
}

// The gateway entry to change: that of the subnet if the machine goes by it, else its own.
plan::Edit gateway_edit(const Case& c, MachineId from, const Hop& hop, RouteOrigin origin) {
    net::Address router = c.lab.first_address(hop.in, c.family)->address;
    lab::SubnetId subnet = c.lab.segments[c.lab.nics[hop.out].segment].subnet;
    const lab::InterfaceAddress* own = c.lab.first_address(hop.out, c.family);
    bool is_leased = own != nullptr && own->origin == lab::AddressOrigin::lease;
    bool is_subnets = subnet && c.lab.subnets[subnet].gateway[c.family] == router && !is_leased;
    if (origin == RouteOrigin::gateway_automatic && subnet)
        return plan::set_subnet_gateway(c.lab.plan, c.lab.subnets[subnet].name, router);
    if (is_subnets)
        return plan::set_machine_gateway(c.lab.plan, c.name(from), std::nullopt);
    return plan::set_machine_gateway(c.lab.plan, c.name(from), router);
}

} // namespace

// What is off, down or bare on the first hop from here, where no other way leads to the far
// end: then that, and not the next hop that was written, is what went wrong.
Maybe idle_first_hop(const Case& c) {
    if (!c.path_from(c.here, Through::working).empty())
        return {};
    auto path = c.path_from(c.here, Through::all);
    return path.empty() ? Maybe{} : idle(c, path.front());
}

// Points a route of `from` at the first hop of a way to the far end: one that works, or one
// that would if what is off or down on it were not.
Remedy lead_rightly(const Case& c, MachineId from, const lab::StaticRoute& route) {
    auto path = c.path_from(from, Through::working);
    if (path.empty())
        path = c.path_from(from, Through::all);
    if (path.empty() || c.lab.first_address(path.front().in, c.family) == nullptr)
        return {{}, "add a router to a subnet of the machine, and send by way of it"};
    const Hop& hop = path.front();
    if (!route.is_gateway())
        return {{plan::set_route_via(c.lab.plan, c.name(from), route.plan_index,
                                     next_hop_name(c, from, hop))},
                ""};
    return {{gateway_edit(c, from, hop, route.origin)}, ""};
}

// A route that `from` lacks: a gateway for a guest without one, else a route to the far
// end's segment.
Remedy add_route(const Case& c, MachineId from, const Hop& hop) {
    bool has_default = std::ranges::any_of(c.lab.routes_of(from), [&](lab::RouteId id) {
        return c.lab.routes[id].to == net::Prefix::everything(c.family);
    });
    if (c.lab.machines[from].kind == plan::MachineKind::guest && !has_default)
        return {{gateway_edit(c, from, hop, RouteOrigin::gateway_written)}, ""};
    const lab::Segment& segment = c.lab.segments[c.lab.nics[c.leg.target].segment];
    plan::Route::Target to = net::Prefix(c.far, net::address_bits(c.family));
    if (const auto& prefix = segment.prefix[c.family]; prefix && prefix->contains(c.far)) {
        if (segment.subnet)
            to = c.lab.subnets[segment.subnet].name;
        else
            to = *prefix;
    }
    return {{plan::add_route(c.lab.plan, c.name(from), to, next_hop_name(c, from, hop))}, ""};
}

} // namespace jackal::probe
