#include "jackal/packet/tunnel.h"
#include "probe/explain/causes.h"

#include <fmt/format.h>

namespace jackal::probe {

using lab::Lab;
using lab::MachineId;
using lab::NicId;
using lab::Remedy;
using net::to_string;
using plan::Cause;

namespace {

// A route to the other end of a tunnel that does not lead into it.
Remedy lead_around(NicId end, Ground& ground) {
    const Lab& lab = ground.settled().lab();
    const lab::Link& link = lab.links[lab.tunnel(end)];
    bool is_first = link.first == end;
    net::Address other = (*link.outer)[is_first ? 1 : 0];
    MachineId here = lab.nics[end].machine;
    MachineId there = lab.nics[is_first ? link.second : link.first].machine;
    Remedy remedy{{}, "give its ends routes to each other that do not lead into it"};
    auto path = ground.shortest_path(here, there, other.family(), Through::working);
    if (!path.empty())
        remedy.edits = {
            plan::add_route(lab.plan, lab.machines[here].name,
                            net::Prefix(other, net::address_bits(other.family())),
                            lab.first_address(path.front().in, other.family())->address)};
    return remedy;
}

} // namespace

std::optional<Diagnosis> why_broken(NicId end, int around, Ground& ground) {
    constexpr unsigned small_bytes = 84;
    const Lab& lab = ground.settled().lab();
    packet::Crossing crossing = packet::cross(ground.settled(), end, small_bytes);
    if (crossing.works)
        return std::nullopt;
    const lab::Link& link = lab.links[crossing.tunnel];
    std::string name = lab.segment_name(link.segment);
    Diagnosis d{.cause = Cause::tunnel_down, .where = lab.nics[end].machine, .at = link.at};
    if (!link.outer) {
        d.explanation =
            fmt::format("the ends of the {} have no addresses of one family to send its "
                        "packets between",
                        name);
        d.remedy.advice = "name other NICs with `over`";
    } else if (!crossing.outer || around != 0) {
        d.explanation =
            fmt::format("the packets of the {} would travel in that tunnel themselves", name);
        d.remedy = lead_around(end, ground);
    } else {
        const packet::Journey& outer = *crossing.outer;
        NicId target;
        for (const lab::Owner& owner : lab.owners_of(outer.flow.destination))
            if (!target || owner.machine == lab.nics[link.first].machine
                || owner.machine == lab.nics[link.second].machine)
                target = owner.nic;
        d = explain({&outer, target, false, nullptr, around + 1}, ground);
        d.cause = Cause::tunnel_down;
        d.explanation = fmt::format("the {} is down, as its packets do not get from {} to {}: {}",
                                    name, to_string(outer.packet.source),
                                    to_string(outer.packet.destination), d.explanation);
        if (!d.at)
            d.at = link.at;
    }
    return d;
}

std::optional<Diagnosis> explain_tunnel(const routing::Settled& settled, NicId end) {
    const Lab& lab = settled.lab();
    const lab::Link& link = lab.links[lab.tunnel(end)];
    bool on = settled.condition().link_up(lab.tunnel(end)) && settled.is_usable(link.first)
              && settled.is_usable(link.second);
    Ground ground(settled);
    return on ? why_broken(end, 0, ground) : std::nullopt;
}

} // namespace jackal::probe
