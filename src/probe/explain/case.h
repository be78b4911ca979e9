// A packet that did not get where it should, as its causes are looked for.
#pragma once

#include "probe/explain/explain.h"
#include "probe/explain/paths.h"

namespace jackal::probe {

struct Case {
    Case(const Leg& leg, Ground& ground);

    const routing::Settled& settled;
    const lab::Lab& lab;
    const Leg& leg;
    Ground& ground;
    const packet::Journey& journey;
    net::Address far; ///< where it was to go
    net::Family family;
    lab::MachineId here;                 ///< where it ended
    std::optional<routing::Route> route; ///< of that machine, to the far end

    /// The words of one cause; of an answer they say so.
    Diagnosis say(plan::Cause cause, lab::MachineId where, std::string explanation,
                  lab::Remedy remedy, plan::Mark at) const;
    Diagnosis say(lab::Finding finding, lab::MachineId where) const;

    const std::string& name(lab::MachineId id) const { return lab.machines[id].name; }
    plan::Mark mark(lab::MachineId id) const { return lab.machines[id].at; }
    std::string segment_of(lab::NicId nic) const { return lab.segment_name(lab.nics[nic].segment); }
    /// The far end as a reader knows it: the address, and the subnet or link it is on.
    std::string far_text() const;

    /// The fewest hops from a machine to the one that was meant; none if that is nobody.
    std::vector<Hop> path_from(lab::MachineId from, Through through) const;
};

} // namespace jackal::probe
