#include "probe/explain/causes.h"

#include "lab/mistakes/islands.h"
#include "lab/mistakes/next_hops.h"
#include "lab/mistakes/ranges.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::probe {

using lab::MachineId;
using lab::NicId;
using lab::Remedy;
using lab::RouteOrigin;
using net::to_string;
using plan::Cause;
using routing::RouteKind;

namespace {

lab::BadNextHop::Why why_bad(routing::Refusal why) {
    using Why = lab::BadNextHop::Why;
    switch (why) {
    case routing::Refusal::next_hop_is_own: return Why::own;
    case routing::Refusal::next_hop_is_routed: return Why::routed;
    case routing::Refusal::next_hop_is_broadcast: return Why::broadcast;
    case routing::Refusal::next_hop_off_link:
    case routing::Refusal::repeated: break;
    }
    return Why::off_link;
}

// A host that does not forward leaves an IPv6 next hop that does not answer for its next best
// route: RFC 4861 section 6.3.6 says so of default routers, Linux does it with all routes. So later
// pings may fare better than the first.
std::string leaves_it_text(const Case& c) {
    if (c.family == net::Family::ipv4 || c.lab.machines[c.here].forwards.ipv6)
        return "";
    std::optional<routing::Route> next;
    for (const routing::Route& other : c.settled.routes(c.here))
        if (other.to.contains(c.far) && other.via != c.route->via
            && other.kind >= RouteKind::connected
            && (!next || other.to.length() > next->to.length()))
            next = other;
    if (!next)
        return "";
    return fmt::format("; after some pings without an answer {} leaves it for its route to {}{}, "
                       "as IPv6 hosts do (RFC 4861 section 6.3.6)",
                       c.name(c.here), next->to.length() == 0 ? "default" : to_string(next->to),
                       next->kind == RouteKind::connected ? "" : " via " + to_string(next->via));
}

// The route that was used has a next hop that nobody on the segment has, or the machine itself.
Diagnosis bad_next_hop(const Case& c, lab::SegmentId segment) {
    using Why = lab::BadNextHop::Why;
    const lab::StaticRoute& route = c.lab.routes[c.route->written];
    bool own = c.settled.is_local(c.here, c.settled.aim(route.via));
    Diagnosis d = c.say(
        describe(c.lab, lab::BadNextHop{c.here, &route, own ? Why::own : Why::unclaimed, segment},
                 lab::Seen::by_packet),
        c.here);
    d.explanation += leaves_it_text(c);
    d.remedy = lead_rightly(c, c.here, route);
    return d;
}

Maybe unresolved_route(const Case& c) {
    for (const lab::UnresolvedRoute& route : c.lab.unresolved_routes) {
        bool covers = std::ranges::any_of(
            route.to, [&](const net::Prefix& to) { return to.contains(c.far); });
        if (route.machine != c.here || !covers)
            continue;
        if (auto d = idle_first_hop(c))
            return d;
        lab::StaticRoute stand_in{.origin = RouteOrigin::written_by_name,
                                  .plan_index = route.plan_index};
        Diagnosis d = c.say(describe(c.lab, route, lab::Seen::by_packet), c.here);
        d.remedy = lead_rightly(c, c.here, stand_in);
        return d;
    }
    return {};
}

// A route that the plan gives this machine for the far end, but that does not exist.
Maybe refused_route(const Case& c) {
    const lab::StaticRoute* best = nullptr;
    routing::Refusal why{};
    for (const routing::RefusedRoute& refused : c.settled.refused()) {
        const lab::StaticRoute& route = c.lab.routes[refused.written];
        if (refused.machine == c.here && refused.why != routing::Refusal::repeated
            && route.to.contains(c.far)
            && (best == nullptr || route.to.length() > best->to.length())) {
            best = &route;
            why = refused.why;
        }
    }
    if (best == nullptr)
        return unresolved_route(c);
    for (NicId nic : c.lab.nics_of(c.here))
        for (lab::AddressId id : c.lab.addresses_of(nic))
            if (c.lab.addresses[id].prefix().contains(best->via))
                if (auto d = unusable(c, nic))
                    return d;
    if (auto d = misaddressed_here(c))
        return d;
    if (auto d = idle_first_hop(c))
        return d;
    Diagnosis d = c.say(
        describe(c.lab, lab::BadNextHop{c.here, best, why_bad(why)}, lab::Seen::by_packet), c.here);
    d.remedy = lead_rightly(c, c.here, *best);
    return d;
}

// The far end was believed to be on this segment, but is on another.
Diagnosis elsewhere(const Case& c, NicId owner, lab::SegmentId segment) {
    if (auto d = misaddressed(c, c.route->out, c.lab.addresses[c.route->source].address))
        return *d;
    return c.say(
        describe(c.lab, lab::LookedForElsewhere{c.here, c.far, segment, c.route->to, owner}),
        c.here);
}

Maybe unusable_nic_towards_far_end(const Case& c) {
    if (!c.leg.target)
        return {};
    for (NicId nic : c.lab.nics_of(c.here)) {
        if (c.lab.nics[nic].segment != c.lab.nics[c.leg.target].segment)
            continue;
        if (auto d = unusable(c, nic))
            return d;
        if (c.lab.first_address(nic, c.family) == nullptr)
            return bare(c, nic);
    }
    return {};
}

Maybe without_address_here(const Case& c) {
    NicId idle_nic;
    NicId unaddressed;
    for (NicId nic : c.lab.nics_of(c.here)) {
        bool addressed = c.lab.first_address(nic, c.family) != nullptr;
        if (addressed && c.settled.condition().carries(c.lab, nic, c.family))
            return {};
        if (addressed && !idle_nic)
            idle_nic = nic;
        if (!addressed && !unaddressed && c.lab.segments[c.lab.nics[nic].segment].prefix[c.family])
            unaddressed = nic;
    }
    if (idle_nic)
        return unusable(c, idle_nic);
    if (unaddressed)
        return bare(c, unaddressed);
    return {};
}

Diagnosis address_unclaimed(const Case& c) {
    const std::string address = to_string(c.far);
    const bool is_nobodys = c.lab.owners_of(c.far).empty();
    return c.say(Cause::address_unclaimed, c.here,
                 is_nobodys ? "no machine in the lab has " + address
                            : address + " is on ways out of their own, where nobody else gets",
                 {{}, "ask for an address that a machine has, or give it to one"}, c.mark(c.here));
}

Diagnosis missing_route(const Case& c, const Hop& hop) {
    if (c.leg.returning)
        return {Cause::no_return_route, c.here,
                fmt::format("the request arrives, but {} has no route back to {}", c.name(c.here),
                            c.far_text()),
                add_route(c, c.here, hop), c.mark(c.here)};
    return c.say(Cause::no_route, c.here,
                 fmt::format("{} has no route to {}", c.name(c.here), c.far_text()),
                 add_route(c, c.here, hop), c.mark(c.here));
}

lab::SubnetId first_subnet(const Case& c, MachineId id) {
    for (NicId nic : c.lab.nics_of(id))
        if (lab::SubnetId subnet = c.lab.segments[c.lab.nics[nic].segment].subnet)
            return subnet;
    return {};
}

Diagnosis no_router_between(const Case& c) {
    lab::SubnetId mine = first_subnet(c, c.here);
    lab::SubnetId theirs = c.lab.segments[c.lab.nics[c.leg.target].segment].subnet;
    if (!theirs)
        theirs = first_subnet(c, c.lab.nics[c.leg.target].machine);
    Diagnosis d =
        c.say(describe(lab::NoRouterBetween{mine ? c.lab.subnets[mine].name : c.name(c.here),
                                            c.far_text(), c.name(c.here), c.mark(c.here)}),
              c.here);
    d.remedy =
        mine && theirs ? join(c.lab, mine, theirs) : Remedy{{}, "add a router that joins them"};
    return d;
}

} // namespace

Diagnosis no_neighbour(const Case& c) {
    net::Address next_hop = c.journey.next_hop;
    NicId out = c.journey.steps.back().out;
    lab::SegmentId segment = c.lab.nics[out].segment;
    auto owners = c.lab.owners_of(next_hop);
    for (const lab::Owner& owner : owners)
        for (NicId nic : c.lab.nics_of(c.lab.nics[owner.nic].machine))
            if (c.lab.nics[nic].segment == segment)
                if (auto d = obstacle(c, {out, nic}))
                    return *d;
    if (c.route && c.route->kind == RouteKind::static_route) {
        if (auto d = idle_first_hop(c))
            return *d;
        return bad_next_hop(c, segment);
    }
    if (owners.empty() || !c.route)
        return address_unclaimed(c);
    return elsewhere(c, owners.front().nic, segment);
}

Diagnosis not_forwarding(const Case& c) {
    MachineId before = c.journey.steps[c.journey.steps.size() - 2].machine;
    auto route = c.settled.route(before, c.far);
    Diagnosis d = does_not_forward(c, c.here);
    bool is_router = c.lab.machines[c.here].kind == plan::MachineKind::router;
    if (!is_router && route && route->written && !c.path_from(before, Through::working).empty())
        d.remedy = lead_rightly(c, before, c.lab.routes[route->written]);
    return d;
}

Diagnosis no_route(const Case& c) {
    if (auto d = without_address_here(c))
        return *d;
    if (auto d = refused_route(c))
        return *d;
    if (auto d = unusable_nic_towards_far_end(c))
        return *d;
    if (!c.leg.target)
        return address_unclaimed(c);
    auto path = c.path_from(c.here, Through::working);
    if (!path.empty()) {
        if (auto d = not_learned(c, c.here, path))
            return *d;
        return missing_route(c, path.front());
    }
    for (const Hop& hop : c.path_from(c.here, Through::all))
        if (auto d = obstacle(c, hop))
            return *d;
    return no_router_between(c);
}

} // namespace jackal::probe
