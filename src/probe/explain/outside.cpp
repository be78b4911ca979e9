#include "probe/explain/causes.h"

#include "jackal/lab/peering.h"
#include "jackal/net/special_use.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::probe {

using lab::MachineId;
using lab::NicId;
using net::to_string;
using packet::Ending;
using plan::Cause;

namespace {

// The packet did not leave the site, or only for a hub that has no more ways.
bool ended_at_border(const Case& c, lab::SiteId from) {
    return c.lab.machines[c.here].is_core || c.lab.site_of(c.here) == from;
}

Maybe towards_outside(const Case& c, lab::SiteId site) {
    if (c.journey.ending != Ending::no_route)
        return {};
    auto gap = lab::gap_outwards(c.lab, site);
    return gap ? std::optional(c.say(std::move(*gap), c.here)) : std::nullopt;
}

// A machine sends to the outside what it should have sent to another machine of the lab.
Diagnosis strayed(const Case& c, const packet::Step& left, const Hop& right) {
    return c.say(c.leg.returning ? Cause::no_return_route : Cause::no_route, left.machine,
                 fmt::format("{} has no route to {} but its default route, which leads out of the "
                             "lab",
                             c.name(left.machine), c.far_text()),
                 add_route(c, left.machine, right), c.mark(left.machine));
}

Diagnosis untranslated(const Case& c, const packet::Step& left) {
    lab::Remedy remedy{
        {plan::add_translation(c.lab.plan, c.name(left.machine), c.lab.nics[left.out].name)}, ""};
    auto owners = c.lab.owners_of(c.far);
    if (std::ranges::find(owners, left.out, &lab::Owner::nic) != owners.end())
        remedy = {{},
                  fmt::format("{} is not translated on its way out: give it `uplink: nat`, or "
                              "send by way of a subnet that has",
                              c.segment_of(left.out))};
    const bool is_private = net::is_private(c.far);
    return {is_private ? Cause::private_untranslated : Cause::no_return_route, left.machine,
            fmt::format("the request leaves the lab at {} with the {}source address {}, "
                        "and {} has no way back to it",
                        c.name(left.machine), is_private ? "private " : "", to_string(c.far),
                        c.name(c.here)),
            std::move(remedy), c.mark(left.machine)};
}

// How a machine of the lab is asked from outside: by an address of the one that translates,
// from whoever can reach that. Nothing gets in past the gateway of the physical network.
std::string forwarding_advice(const Case& c) {
    const std::string& inside = c.lab.machine_name(c.leg.target);
    if (c.lab.machines[c.journey.steps.front().machine].kind == plan::MachineKind::guest)
        return fmt::format("nothing far away gets in past lan-gateway; let {} ask, or ask from "
                           "the workstation",
                           inside);
    std::string advice;
    for (MachineId id : c.lab.machines.ids()) {
        const lab::Duties* duties = c.lab.duties_of(id);
        if (duties == nullptr || c.lab.machines[id].outside)
            continue;
        for (const lab::Translation& rule : duties->translations) {
            const auto* row = c.lab.first_address(rule.nic, c.family);
            if (row == nullptr)
                continue;
            if (rule.kind == plan::Translation::Kind::destination && rule.to == c.far)
                return fmt::format("ask for {}/{} at {} of {}, which it forwards to {}",
                                   net::to_string(rule.protocol), rule.port,
                                   to_string(row->address), c.name(id), inside);
            if (advice.empty())
                advice = fmt::format(
                    "ask for {} of {}, after forwarding a port of {} there: "
                    "{}.{}.nat: add {{in: {}, proto: tcp, port: PORT, to: {}}}",
                    to_string(row->address), c.name(id), inside,
                    c.lab.machines[id].kind == plan::MachineKind::guest ? "guests" : "routers",
                    c.name(id), c.lab.nics[rule.nic].name, inside);
        }
    }
    if (!advice.empty())
        return advice;
    return fmt::format("forward a port to {} where the lab translates", inside);
}

} // namespace

const packet::Step* leaving(const lab::Lab& lab, const packet::Journey& journey) {
    const packet::Step* found = nullptr;
    for (std::size_t i = 0; i + 1 < journey.steps.size(); ++i)
        if (!lab.machines[journey.steps[i].machine].outside
            && lab.machines[journey.steps[i + 1].machine].outside)
            found = &journey.steps[i];
    return found;
}

Maybe refused_lease(const Case& c, NicId nic) {
    const lab::Lease* lease = c.lab.lease_of(nic);
    if (lease == nullptr || lease->refusal == lab::Lease::Refusal::none)
        return {};
    return c.say(describe(c.lab, *lease), c.lab.nics[nic].machine);
}

// One of the ends has only an address that it gave itself, for want of a lease.
Maybe unleased(const Case& c) {
    if (c.lab.leases.empty() || c.family == net::Family::ipv6)
        return {};
    std::vector<NicId> nics;
    if (c.leg.target)
        nics.push_back(c.leg.target);
    if (c.journey.ending == Ending::no_route)
        for (NicId nic : c.lab.nics_of(c.here))
            nics.push_back(nic);
    for (NicId nic : nics)
        if (auto d = refused_lease(c, nic))
            return d;
    return {};
}

// The packet ended where a peering, a relay or a shared way outside would have led on.
Maybe between_sites(const Case& c) {
    if (c.journey.ending != Ending::no_route && c.journey.ending != Ending::no_neighbour
        && c.journey.ending != Ending::ttl_expired && c.journey.ending != Ending::not_relayed)
        return {};
    lab::SiteId from = c.lab.site_of(c.journey.steps.front().machine);
    lab::SiteId to = c.leg.target ? c.lab.site_of(c.lab.nics[c.leg.target].machine) : lab::SiteId{};
    if (!from || c.lab.sites[from].outside || from == to)
        return {};
    if (!to || c.lab.machines[c.lab.nics[c.leg.target].machine].outside)
        return ended_at_border(c, from) ? towards_outside(c, from) : std::nullopt;
    bool meant = c.lab.sites[from].core || c.lab.sites[to].core
                 || lab::peering_between(c.lab, from, to) != nullptr;
    bool strayed = c.lab.machines[c.here].outside || ended_at_border(c, from)
                   || c.journey.ending == Ending::not_relayed;
    if (!strayed || !c.path_from(c.journey.steps.front().machine, Through::all).empty()
        || (!meant && c.lab.peerings.size() == 0))
        return {};
    auto gap = lab::gap_between(c.lab, from, to);
    if (!gap || (!meant && gap->cause == Cause::sites_not_joined))
        return {};
    return c.say(std::move(*gap), c.here);
}

Diagnosis not_relayed(const Case& c) {
    const std::string& hub = c.lab.sites[c.lab.site_of(c.here)].name;
    return c.say(
        Cause::no_relay, c.here,
        fmt::format("{} passes nothing on from one peer of {} to another", c.name(c.here), hub),
        {{},
         fmt::format("name a machine of {} as its `relay`, and have both peers take "
                     "relayed traffic",
                     hub)},
        c.mark(c.here));
}

// Addresses that ended outside, where nobody routes them: private ones, and any of the lab's own
// that a request came from.
Maybe outside(const Case& c) {
    bool lost = c.journey.ending == Ending::no_route || c.journey.ending == Ending::no_neighbour
                || c.journey.ending == Ending::ttl_expired;
    const bool is_reply = c.leg.request != nullptr && c.leg.returning;
    if (!lost || !c.lab.machines[c.here].outside || (!net::is_private(c.far) && !is_reply))
        return {};
    if (const packet::Step* left = leaving(c.lab, c.journey))
        if (auto path = c.path_from(left->machine, Through::working); !path.empty()) {
            auto d = not_learned(c, left->machine, path);
            return d ? *d : strayed(c, *left, path.front());
        }
    if (c.leg.request != nullptr)
        if (const packet::Step* left = leaving(c.lab, *c.leg.request))
            return untranslated(c, *left);
    if (c.leg.returning || !c.lab.machines[c.journey.steps.front().machine].outside
        || !c.leg.target)
        return {};
    return c.say(Cause::behind_translation, c.here,
                 fmt::format("{} is asked from outside by its private address {}, which {} does "
                             "not route",
                             c.lab.machine_name(c.leg.target), to_string(c.far), c.name(c.here)),
                 {{}, forwarding_advice(c)}, c.lab.nics[c.leg.target].at);
}

// The packet went by the default route of a lease, and by another NIC it would have got there.
Maybe led_astray_by_lease(const Case& c) {
    MachineId sender = c.journey.steps.front().machine;
    if (c.lab.leases.empty() || !c.leg.target || c.journey.ending == Ending::filtered
        || c.journey.ending == Ending::delivered || sender == c.here)
        return {};
    auto route = c.settled.route(sender, c.far);
    if (!route || !route->written
        || c.lab.routes[route->written].origin != lab::RouteOrigin::gateway_lease)
        return {};
    auto path = c.path_from(sender, Through::working);
    if (path.empty() || path.front().out == route->out)
        return {};
    return c.say(Cause::lease_route_wins, sender,
                 fmt::format("{} sends to {} by the default route that came with the lease of {}, "
                             "and not by {}, which leads there",
                             c.name(sender), c.far_text(), c.lab.nic_name(route->out),
                             c.lab.nic_name(path.front().out)),
                 add_route(c, sender, path.front()), c.lab.nics[route->out].at);
}

const packet::Step* by_one_default(const routing::Settled& settled,
                                   const packet::Journey& journey) {
    const lab::Lab& lab = settled.lab();
    for (std::size_t i = 0; i + 1 < journey.steps.size(); ++i) {
        MachineId machine = journey.steps[i].machine;
        if (lab.machines[machine].route_count < 2)
            continue;
        auto used = settled.route(machine, journey.flow.destination);
        if (!used || !used->written || used->to.length() != 0
            || lab.routes[used->written].origin == lab::RouteOrigin::gateway_lease)
            continue;
        for (lab::RouteId id : lab.routes_of(machine))
            if (lab.routes[id].to == used->to && lab.routes[id].via != used->via)
                return &journey.steps[i];
    }
    return nullptr;
}

// Of a machine's default routes another one is used than the one that leads there.
Maybe led_astray_by_default(const Case& c) {
    if (!c.leg.target || c.journey.ending == Ending::filtered
        || c.journey.ending == Ending::delivered)
        return {};
    const packet::Step* step = by_one_default(c.settled, c.journey);
    auto path = step == nullptr ? std::vector<Hop>{} : c.path_from(step->machine, Through::working);
    if (path.empty() || path.front().out == step->out)
        return {};
    auto used = c.settled.route(step->machine, c.far);
    for (lab::RouteId id : c.lab.routes_of(step->machine)) {
        const lab::StaticRoute& other = c.lab.routes[id];
        auto owners = c.lab.owners_of(other.via);
        if (other.to != used->to || other.via == used->via
            || std::ranges::find(owners, path.front().in, &lab::Owner::nic) == owners.end())
            continue;
        bool leased = other.origin == lab::RouteOrigin::gateway_lease;
        return c.say(Cause::wrong_default_wins, step->machine,
                     fmt::format("{} sends to {} by its default route via {}, and not by the one "
                                 "via {}{}, which leads there",
                                 c.name(step->machine), c.far_text(), to_string(used->via),
                                 to_string(other.via), leased ? " that came with a lease" : ""),
                     add_route(c, step->machine, path.front()), c.lab.routes[used->written].at);
    }
    return {};
}

} // namespace jackal::probe
