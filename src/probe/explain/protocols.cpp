#include "probe/explain/causes.h"

#include "jackal/routing/discord.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::probe {

using lab::MachineId;
using lab::Remedy;
using plan::Cause;

namespace {

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
            remedy.edits = {plan::SetOspfNic{c.name(last), c.lab.nics[on].name,
                                             plan::SetOspfNic::What::area,
                                             speaker->ospf->nics.front().area}};
    } else if (speaker->rip) {
        if (speaker->rip->on(on) != nullptr)
            return {};
        protocol = "RIP";
        at = speaker->rip->at;
    }
    return c.say(Cause::network_not_announced, last,
                 fmt::format("{} speaks {}, but does not announce {}, so {} has no route to {}",
                             c.name(last), protocol, c.segment_of(c.leg.target), c.name(from),
                             c.far_text()),
                 std::move(remedy), at);
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
    for (const routing::Neighbour& n : learned.neighbours()) {
        bool meant = n.protocol == routing::Protocol::bgp
                         ? is_on_path(n.machine) && is_on_path(n.other)
                         : std::ranges::any_of(path, [&](const Hop& hop) {
                               return n.nic == hop.out && n.other_nic == hop.in;
                           });
        if (!meant || n.family != c.family || n.discord == routing::Discord::none)
            continue;
        // A session needs a way, and what is in that is the cause.
        if (n.protocol == routing::Protocol::bgp && n.other)
            for (const Hop& hop :
                 shortest_path(c.settled, n.machine, n.other, c.family, Through::all))
                if (auto d = obstacle(c, hop))
                    return d;
        return c.say(routing::describe(c.lab, n), n.machine);
    }
    for (const routing::Dispute& dispute : learned.disputes())
        if (!dispute.by_turns && (dispute.machines.empty() || dispute.to.contains(c.far)))
            return c.say(routing::describe(c.lab, dispute),
                         dispute.machines.empty() ? from : dispute.machines.front());
    return unannounced(c, from, path);
}

} // namespace jackal::probe
