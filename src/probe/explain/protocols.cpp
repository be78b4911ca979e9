#include "probe/explain/causes.h"

#include "jackal/routing/discord.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::probe {

using lab::MachineId;
using lab::Remedy;
using plan::Cause;

namespace {

// True if the machine tells others by OSPF or RIP of that family's routes.
bool tells(const Case& c, MachineId id, routing::Protocol protocol) {
    return std::ranges::any_of(c.ground.neighbours(id), [&](const routing::Neighbour& n) {
        return n.machine == id && n.protocol == protocol && n.family == c.family
               && n.state == routing::NeighbourState::full;
    });
}

// The protocol without sessions, which policies may keep apart, that both exchange routes by.
std::optional<routing::Protocol> common_protocol(const Case& c, MachineId one, MachineId other) {
    for (routing::Protocol protocol : {routing::Protocol::ospf, routing::Protocol::rip})
        if (tells(c, one, protocol) && tells(c, other, protocol))
            return protocol;
    return std::nullopt;
}

bool hands_over(const lab::Speaker& speaker, routing::Protocol into, plan::RouteSource from) {
    const auto& told = into == routing::Protocol::ospf  ? speaker.ospf->redistribute
                       : into == routing::Protocol::rip ? speaker.rip->redistribute
                                                        : speaker.bgp->redistribute;
    return std::ranges::find(told, from, &lab::Redistribution::from) != told.end();
}

// True if the speaker of BGP brings in what it is connected to on the NIC.
bool brings_in(const Case& c, const lab::Speaker& speaker, lab::NicId on) {
    const std::vector<net::Prefix>& networks = speaker.bgp->networks;
    return hands_over(speaker, routing::Protocol::bgp, plan::RouteSource::connected)
           || std::ranges::any_of(c.lab.addresses_of(on), [&](lab::AddressId id) {
                  const net::Prefix prefix = c.lab.addresses[id].prefix();
                  return prefix.contains(c.far)
                         && std::ranges::find(networks, prefix) != networks.end();
              });
}

// The last router before the far end, or a router that is the far end and is come to by another
// NIC, does not tell of the segment that this is on.
Maybe unannounced(const Case& c, MachineId from, const std::vector<Hop>& path) {
    lab::NicId on = path.back().out;
    if (c.lab.nics[path.back().in].segment != c.lab.nics[c.leg.target].segment)
        on = c.leg.target;
    MachineId last = c.lab.nics[on].machine;
    const lab::Speaker* speaker = c.lab.speaker(last);
    if (speaker == nullptr || last == from)
        return {};
    Remedy remedy{{}, fmt::format("have {} announce {}", c.name(last), c.segment_of(c.leg.target))};
    plan::Mark at = c.mark(last);
    std::string protocol = "BGP";
    if (speaker->ospf) {
        if (speaker->ospf->on(on) != nullptr)
            return {};
        protocol = "OSPF";
        at = speaker->ospf->at;
        if (!speaker->ospf->nics.empty())
            remedy.edits = {plan::set_ospf_nic(c.lab.plan, c.name(last), c.lab.nics[on].name,
                                               plan::OspfKey::area,
                                               speaker->ospf->nics.front().area)};
    } else if (speaker->rip) {
        if (speaker->rip->on(on) != nullptr)
            return {};
        protocol = "RIP";
        at = speaker->rip->at;
        if (!hands_over(*speaker, routing::Protocol::rip, plan::RouteSource::connected))
            remedy.edits = {plan::redistribute(c.lab.plan, c.name(last), plan::RouteSource::rip,
                                               plan::RouteSource::connected)};
    } else if (speaker->bgp && brings_in(c, *speaker, on)) {
        return {};
    }
    return c.say(Cause::network_not_announced, last,
                 fmt::format("{} speaks {}, but does not announce {}, so {} has no route to {}",
                             c.name(last), protocol, c.segment_of(c.leg.target), c.name(from),
                             c.far_text()),
                 std::move(remedy), at);
}

std::optional<plan::RouteSource> source_of(routing::RouteKind kind) {
    switch (kind) {
    case routing::RouteKind::static_route: return plan::RouteSource::static_routes;
    case routing::RouteKind::ospf: return plan::RouteSource::ospf;
    case routing::RouteKind::rip: return plan::RouteSource::rip;
    case routing::RouteKind::bgp_inner:
    case routing::RouteKind::bgp_outer: return plan::RouteSource::bgp;
    case routing::RouteKind::local:
    case routing::RouteKind::broadcast:
    case routing::RouteKind::connected: break;
    }
    return std::nullopt;
}

// The last machine on the way that speaks the sender's protocol knows how it goes on from
// elsewhere, and does not hand that over.
Maybe not_handed_over(const Case& c, MachineId from, const std::vector<Hop>& path) {
    MachineId border;
    std::optional<routing::Protocol> protocol;
    for (const Hop& hop : path) {
        MachineId next = c.lab.nics[hop.in].machine;
        auto common = common_protocol(c, from, next);
        if (!common || (protocol && *protocol != *common))
            break;
        border = next;
        protocol = common;
    }
    auto route = border ? c.settled.route(border, c.far) : std::nullopt;
    auto known = route ? source_of(route->kind) : std::nullopt;
    if (!known || hands_over(*c.lab.speaker(border), *protocol, *known))
        return {};
    auto into =
        *protocol == routing::Protocol::ospf ? plan::RouteSource::ospf : plan::RouteSource::rip;
    if (*known == into)
        return {};
    bool is_default = route->to.length() == 0;
    plan::Edit edit =
        is_default ? plan::Edit(plan::announce_default(c.lab.plan, c.name(border), into))
                   : plan::Edit(plan::redistribute(c.lab.plan, c.name(border), into, *known));
    return c.say(Cause::network_not_announced, border,
                 fmt::format("{} knows a way to {} ({}{}), but tells nobody of it by {}, so {} has "
                             "no route there",
                             c.name(border), c.far_text(), plan::to_string(*known),
                             is_default ? ", its default route" : "", plan::to_string(into),
                             c.name(from)),
                 {{edit}, ""}, c.mark(border));
}

} // namespace

// A machine that speaks a routing protocol was not told of the far end: two on a way there do
// not exchange routes, or the last one announces nothing.
Maybe not_learned(const Case& c, MachineId from, const std::vector<Hop>& path) {
    const routing::Learned& learned = c.settled.learned(from);
    if (!learned.teaches(from))
        return {};
    std::vector<MachineId> machines{from};
    for (const Hop& hop : path)
        machines.push_back(c.lab.nics[hop.in].machine);
    auto is_on_path = [&](MachineId id) {
        return std::ranges::find(machines, id) != machines.end();
    };
    for (const routing::Neighbour& n : c.ground.neighbours(from)) {
        bool meant = n.protocol == routing::Protocol::bgp || n.transit
                         ? is_on_path(n.machine) && is_on_path(n.other)
                         : std::ranges::any_of(path, [&](const Hop& hop) {
                               return n.nic == hop.out && n.other_nic == hop.in;
                           });
        if (!meant || n.family != c.family || n.discord == routing::Discord::none)
            continue;
        // A session needs a way, and what is in that is the cause.
        if (n.protocol == routing::Protocol::bgp && n.other)
            for (const Hop& hop :
                 c.ground.shortest_path(n.machine, n.other, c.family, Through::all))
                if (auto d = obstacle(c, hop))
                    return d;
        return c.say(routing::describe(c.lab, n), n.machine);
    }
    for (const routing::Dispute& dispute : learned.disputes())
        if (dispute.kind == routing::Dispute::Kind::too_large
            || (dispute.kind == routing::Dispute::Kind::endless && dispute.to.contains(c.far)))
            return c.say(routing::describe(c.lab, dispute),
                         dispute.machines.empty() ? from : dispute.machines.front());
    if (auto d = unannounced(c, from, path))
        return d;
    return not_handed_over(c, from, path);
}

} // namespace jackal::probe
