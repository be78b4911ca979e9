#include "jackal/plan/edit.h"
#include "lab/build/building.h"

namespace jackal::lab {

namespace {

RouteOrigin origin_of(const Building& b, MachineId id, const plan::Route& route,
                      std::uint32_t index) {
    return b.whole.is_implied_route(id.row, index)                ? RouteOrigin::peering
           : std::holds_alternative<std::string>(route.via.value) ? RouteOrigin::written_by_name
                                                                  : RouteOrigin::written;
}

// The address of a next hop: as written, or the named machine's first one of the family on
// the first segment that both share.
std::optional<net::Address> next_hop_of(const Building& b, MachineId id, const plan::Route& route,
                                        net::Family family) {
    if (const auto* address = std::get_if<net::Address>(&route.via.value)) {
        if (address->family() == family)
            return *address;
        return std::nullopt;
    }
    MachineId target = b.machine_named(std::get<std::string>(route.via.value));
    for (NicId own : b.lab.nics_of(id)) {
        if (route.nic && b.lab.nics[own].name != route.nic->value)
            continue;
        for (NicId theirs : b.lab.nics_of(target))
            if (own != theirs && b.lab.nics[own].segment == b.lab.nics[theirs].segment)
                if (const auto* address = b.lab.first_address(theirs, family))
                    return address->address;
    }
    return std::nullopt;
}

// Linux takes an IPv6 metric of 0 for none given, and gives its own.
std::uint32_t metric_in(net::Family family, std::uint32_t written) {
    constexpr std::uint32_t ipv6_default = 1024;
    return family == net::Family::ipv6 && written == 0 ? ipv6_default : written;
}

void add_written_route(Building& b, MachineId id, const plan::Route& route, std::uint32_t index) {
    bool resolved = false;
    std::vector<net::Prefix> prefixes = prefixes_of(b, route.to.value);
    for (const net::Prefix& to : prefixes) {
        auto via = next_hop_of(b, id, route, to.family());
        if (!via)
            continue;
        resolved = true;
        b.lab.routes.add({.to = to,
                          .via = *via,
                          .metric = metric_in(to.family(), route.metric),
                          .origin = origin_of(b, id, route, index),
                          .plan_index = index,
                          .at = route.at});
    }
    bool implied = b.whole.is_implied_route(id.row, index);
    if (!resolved && !implied)
        b.lab.unresolved_routes.push_back(
            {id, index, prefixes, plan::to_string(route.via.value), route.via.at});
}

void add_gateway_route(Building& b, net::Address via, RouteOrigin origin, plan::Mark at,
                       std::uint32_t metric = 0) {
    b.lab.routes.add({.to = net::Prefix::everything(via.family()),
                      .via = via,
                      .metric = metric_in(via.family(), metric),
                      .origin = origin,
                      .plan_index = 0,
                      .at = at});
}

// A default route for each lease that names a router, in the order of the NICs.
bool add_lease_routes(Building& b, MachineId id) {
    if (b.lab.leases.empty())
        return false;
    bool added = false;
    for (NicId nic : b.lab.nics_of(id)) {
        const Lease* lease = b.lab.lease_of(nic);
        if (lease == nullptr || !lease->router)
            continue;
        const auto& options = b.plan.machines[id.row].nics[b.lab.nics[nic].plan_index].options;
        add_gateway_route(b, *lease->router, RouteOrigin::gateway_lease, b.lab.nics[nic].at,
                          options ? options->metric : 0);
        added = true;
    }
    return added;
}

// The gateway of the machine's first subnet that has one: the plan says which, or another
// machine has taken it.
std::optional<net::Address> automatic_gateway(const Building& b, MachineId id, net::Family family) {
    for (NicId nic : b.lab.nics_of(id)) {
        const Segment& segment = b.lab.segments[b.lab.nics[nic].segment];
        const InterfaceAddress* own_address = b.lab.first_address(nic, family);
        if (!segment.subnet || own_address == nullptr
            || (own_address->origin >= AddressOrigin::lease && family == net::Family::ipv4))
            continue;
        const auto& gateway = b.lab.subnets[segment.subnet].gateway[family];
        if (!gateway)
            continue;
        bool own = false;
        bool claimed = b.lab.subnets[segment.subnet].gateway_written;
        for (const Owner& owner : b.lab.owners_of(*gateway)) {
            own |= b.lab.nics[owner.nic].machine == id;
            claimed |= b.lab.nics[owner.nic].segment == b.lab.nics[nic].segment;
        }
        if (claimed && !own)
            return *gateway;
    }
    return std::nullopt;
}

void add_gateway_routes(Building& b, MachineId id, const plan::Machine& machine) {
    using Kind = plan::MachineGateway::Kind;
    plan::MachineGateway unset;
    if (machine.kind == plan::MachineKind::router)
        unset.kind = Kind::none;
    const plan::MachineGateway& gateway = machine.gateway ? *machine.gateway : unset;
    plan::Mark at = gateway.at ? gateway.at : machine.at;
    for (const auto& given : gateway.given)
        add_gateway_route(b, given.value, RouteOrigin::gateway_written, given.at ? given.at : at);
    bool leased = false;
    if (!machine.gateway || gateway.kind != Kind::none)
        leased = add_lease_routes(b, id);
    if (gateway.kind != Kind::automatic)
        return;
    for (net::Family family : net::both_families)
        if (auto address = automatic_gateway(b, id, family);
            address && !(leased && family == net::Family::ipv4))
            add_gateway_route(b, *address, RouteOrigin::gateway_automatic, at);
}

} // namespace

void add_routes(Building& b) {
    for (MachineId id : b.lab.machines.ids()) {
        b.lab.machines[id].first_route = RouteId{static_cast<std::uint32_t>(b.lab.routes.size())};
        const plan::Machine& machine = b.plan.machines[id.row];
        for (std::uint32_t i = 0; i < machine.routes.size(); ++i)
            add_written_route(b, id, machine.routes[i], i);
        add_gateway_routes(b, id, machine);
        b.lab.machines[id].route_count =
            static_cast<std::uint32_t>(b.lab.routes.size()) - b.lab.machines[id].first_route.row;
    }
}

} // namespace jackal::lab
