#include "neighbour.h"

#include <algorithm>

namespace jackal::routing {

namespace {

lab::FilterId denies(const lab::Lab& lab, lab::FilterId id, plan::Way way, const net::Flow& flow) {
    if (!id)
        return {};
    const lab::Filter& filter = lab.filters[id];
    std::uint32_t rule = filter.index.first(way, flow);
    bool allows = rule == lab::RuleIndex::none ? filter.allows : filter.rules[rule].allows;
    return allows ? lab::FilterId{} : id;
}

} // namespace

namespace {

lab::FilterId guarded(const lab::Lab& lab, lab::NicId nic, plan::Way way, const net::Flow& flow) {
    if (!lab.nics[nic].guard)
        return {};
    const lab::Guard& guard = lab.guards[lab.nics[nic].guard];
    auto id = denies(lab, guard.subnet, way, flow);
    return id ? id : denies(lab, guard.nic, way, flow);
}

lab::FilterId dropped_on(const lab::Lab& lab, lab::MachineId machine, plan::Way way,
                         const net::Flow& flow) {
    const lab::Duties* duties = lab.duties_of(machine);
    return duties == nullptr ? lab::FilterId{} : denies(lab, duties->filter, way, flow);
}

} // namespace

lab::FilterId dropped_at(const lab::Lab& lab, lab::NicId nic, plan::Way way,
                         const net::Flow& flow) {
    if (!lab.touches_packets())
        return {};
    auto id = dropped_on(lab, lab.nics[nic].machine, way, flow);
    return id ? id : guarded(lab, nic, way, flow);
}

lab::FilterId dropped_between(const lab::Lab& lab, lab::NicId in, lab::NicId out,
                              const net::Flow& flow) {
    if (!lab.touches_packets())
        return {};
    if (auto id = guarded(lab, in, plan::Way::in, flow))
        return id;
    if (auto id = dropped_on(lab, lab.nics[out].machine, plan::Way::through, flow))
        return id;
    return guarded(lab, out, plan::Way::out, flow);
}

lab::FilterId dropped_by(const lab::Lab& lab, lab::NicId from, lab::NicId to,
                         const net::Flow& flow) {
    if (auto id = dropped_at(lab, from, plan::Way::out, flow))
        return id;
    return dropped_at(lab, to, plan::Way::in, flow);
}

bool is_own(const lab::Lab& lab, const Condition& condition, lab::MachineId machine,
            net::Address address) {
    return std::ranges::any_of(lab.owners_of(address), [&](const lab::Owner& owner) {
        return owner.machine == machine && is_live(lab, condition, owner.nic, address.family());
    });
}

bool is_live(const lab::Lab& lab, const Condition& condition, lab::NicId nic, net::Family family) {
    if (!condition.machine_on(lab.nics[nic].machine) || !condition.carries(lab, nic, family))
        return false;
    if (lab.nics[nic].is_loopback())
        return true;
    lab::LinkId link = lab.segments[lab.nics[nic].segment].link;
    return !link || condition.link_up(link);
}

std::string_view to_string(RouteKind kind) {
    switch (kind) {
    case RouteKind::local: return "local";
    case RouteKind::broadcast: return "broadcast";
    case RouteKind::connected: return "connected";
    case RouteKind::static_route: return "static";
    case RouteKind::ospf: return "ospf";
    case RouteKind::rip: return "rip";
    case RouteKind::bgp_outer:
    case RouteKind::bgp_inner: break;
    }
    return "bgp";
}

unsigned preference(RouteKind kind) {
    switch (kind) {
    case RouteKind::static_route: return 1;
    case RouteKind::bgp_outer: return 20;
    case RouteKind::ospf: return 110;
    case RouteKind::rip: return 120;
    case RouteKind::bgp_inner: return 200;
    default: return 0;
    }
}

std::string_view to_string(Protocol protocol) {
    switch (protocol) {
    case Protocol::ospf: return "ospf";
    case Protocol::rip: return "rip";
    case Protocol::bgp: break;
    }
    return "bgp";
}

std::string_view to_string(NeighbourState state) {
    switch (state) {
    case NeighbourState::down: return "down";
    case NeighbourState::init: return "init";
    case NeighbourState::two_way: return "2-way";
    case NeighbourState::exchange: return "exchange";
    case NeighbourState::full: break;
    }
    return "full";
}

std::string_view slug(Discord discord) {
    switch (discord) {
    case Discord::none: break;
    case Discord::not_spoken: return "not-spoken";
    case Discord::passive: return "passive";
    case Discord::filtered: return "filtered";
    case Discord::area: return "area";
    case Discord::hello: return "hello-interval";
    case Discord::dead: return "dead-interval";
    case Discord::prefix: return "prefix";
    case Discord::own_address: return "own-address";
    case Discord::stub: return "stub-area";
    case Discord::router_id: return "router-id";
    case Discord::no_router_id: return "no-router-id";
    case Discord::network_type: return "network-type";
    case Discord::mtu: return "mtu";
    case Discord::no_designated: return "no-designated-router";
    case Discord::as_number: return "as-number";
    case Discord::not_configured: return "not-configured";
    case Discord::other_address: return "other-address";
    case Discord::not_adjacent: return "not-adjacent";
    case Discord::no_way: return "no-way";
    case Discord::shut: return "shut";
    case Discord::cut: return "cut";
    }
    return "";
}

std::string_view to_string(PathType type) {
    switch (type) {
    case PathType::none: break;
    case PathType::intra_area: return "intra-area";
    case PathType::inter_area: return "inter-area";
    case PathType::external_1: return "external 1";
    case PathType::external_2: return "external 2";
    }
    return "";
}

std::string_view to_string(LinkState::Kind kind) {
    switch (kind) {
    case LinkState::Kind::router: return "router";
    case LinkState::Kind::network: return "network";
    case LinkState::Kind::summary: return "summary";
    case LinkState::Kind::external: break;
    }
    return "external";
}

std::string_view to_string(Decision decision) {
    switch (decision) {
    case Decision::best: return "best";
    case Decision::unreachable: return "no way to the next hop";
    case Decision::preference: return "lower preference";
    case Decision::own: return "the machine's own comes first";
    case Decision::as_path_length: return "longer AS path";
    case Decision::origin: return "redistributed";
    case Decision::med: return "higher MED";
    case Decision::outer: return "from the same AS";
    case Decision::next_hop_cost: return "next hop further away";
    case Decision::router_id: return "higher router id";
    case Decision::peer_address: break;
    }
    return "higher neighbour address";
}

} // namespace jackal::routing
