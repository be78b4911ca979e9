#include "probe/explain/causes.h"

#include "jackal/lab/wiring.h"
#include "lab/mistakes/forwarding.h"
#include "lab/mistakes/nics.h"

#include <fmt/format.h>

namespace jackal::probe {

using lab::MachineId;
using lab::NicId;
using lab::Remedy;
using plan::Cause;

namespace {

// For what the plan lets work, and the question has cut.
Remedy uncut(const std::string& what) {
    return {{}, fmt::format("do not cut {}", what)};
}

// A change for what the plan says, advice for what the question cut.
Remedy restore(bool up_in_plan, const std::string& what, plan::Edit edit) {
    return up_in_plan ? uncut(what) : Remedy{{std::move(edit)}, ""};
}

Diagnosis nic_down(const Case& c, NicId nic) {
    Diagnosis d =
        c.say(describe(c.lab, lab::NicDown{nic}, lab::Seen::by_packet), c.lab.nics[nic].machine);
    if (c.lab.nics[nic].up)
        d.remedy = uncut(c.lab.nic_name(nic));
    return d;
}

plan::Edit set_up(const lab::Lab& lab, lab::LinkId id) {
    if (lab::PeeringId peering = lab.links[id].peering)
        return plan::set_peering_up(lab.plan, lab.peerings[peering].plan_index);
    return plan::set_link_up(lab.plan, id.row);
}

Diagnosis link_down(const Case& c, lab::LinkId id) {
    const lab::Link& link = c.lab.links[id];
    return c.say(Cause::link_down, c.lab.nics[link.first].machine,
                 fmt::format("the link {} is down", c.lab.segment_name(link.segment)),
                 restore(link.up, c.lab.segment_name(link.segment), set_up(c.lab, id)), link.at);
}

// The tunnel that a NIC is an end of does not work, for a reason of its outer packets'.
Maybe broken_tunnel(const Case& c, NicId nic) {
    auto d = why_broken(nic, c.leg.tunnels, c.ground);
    if (d && c.leg.returning)
        d->explanation = "on the way back, " + d->explanation;
    return d;
}

// Both are on the subnet, but switches keep them apart.
Diagnosis apart(const Case& c, const Hop& hop) {
    return c.say(describe(c.lab, why_apart(c.lab, c.settled.condition().wiring(), hop.out, hop.in)),
                 c.lab.nics[hop.out].machine);
}

// One of the two has an address that does not go with their segment, or no lease.
Maybe off_link(const Case& c, const Hop& hop) {
    for (NicId nic : {hop.out, hop.in}) {
        if (auto d = c.family == net::Family::ipv4 ? refused_lease(c, nic) : std::nullopt)
            return d;
        if (auto d = misaddressed(c, nic, c.lab.first_address(nic, c.family)->address))
            return d;
    }
    return {};
}

} // namespace

Diagnosis machine_off(const Case& c, MachineId id) {
    Diagnosis d = c.say(describe(c.lab, lab::MachineOff{id}), id);
    if (c.lab.machines[id].up)
        d.remedy = uncut(c.name(id));
    return d;
}

// The reason why a NIC that has an address of the family does not carry it, if there is one.
Maybe unusable(const Case& c, NicId nic) {
    if (!c.settled.condition().nic_up(nic))
        return nic_down(c, nic);
    if (!c.settled.condition().carries(c.lab, nic, c.family))
        return c.say(describe(c.lab, lab::NarrowNic{nic}), c.lab.nics[nic].machine);
    return {};
}

// What is off, down or bare about one hop, if anything is.
Maybe idle(const Case& c, const Hop& hop) {
    const auto& condition = c.settled.condition();
    lab::LinkId link = c.lab.segments[c.lab.nics[hop.out].segment].link;
    MachineId there = c.lab.nics[hop.in].machine;
    if (auto d = unusable(c, hop.out))
        return d;
    if (c.lab.first_address(hop.out, c.family) == nullptr)
        return bare(c, hop.out);
    if (link && !condition.link_up(link))
        return link_down(c, link);
    if (c.lab.tunnel(hop.out))
        if (auto d = broken_tunnel(c, hop.out))
            return d;
    if (!condition.machine_on(there))
        return machine_off(c, there);
    if (auto d = unusable(c, hop.in))
        return d;
    if (c.lab.first_address(hop.in, c.family) == nullptr)
        return bare(c, hop.in);
    if (!c.settled.hears(hop.out, hop.in))
        return apart(c, hop);
    return is_on_link(c.lab, hop, c.family) ? Maybe{} : off_link(c, hop);
}

// What keeps one hop from working, if anything does.
Maybe obstacle(const Case& c, const Hop& hop) {
    if (auto d = idle(c, hop))
        return d;
    MachineId there = c.lab.nics[hop.in].machine;
    bool is_end = c.leg.target && there == c.lab.nics[c.leg.target].machine;
    if (!is_end && !c.lab.machines[there].forwards[c.family])
        return does_not_forward(c, there);
    return {};
}

Diagnosis bare(const Case& c, NicId nic) {
    return c.say(describe(c.lab, lab::BareNic{nic, c.family}), c.lab.nics[nic].machine);
}

Diagnosis does_not_forward(const Case& c, MachineId id) {
    return c.say(describe(c.lab, lab::NotForwarding{id}), id);
}

} // namespace jackal::probe
