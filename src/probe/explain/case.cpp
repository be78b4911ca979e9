#include "probe/explain/case.h"

#include <fmt/format.h>

namespace jackal::probe {

Case::Case(const Leg& lost, Ground& known)
    : settled(known.settled()), lab(settled.lab()), leg(lost), ground(known),
      journey(*lost.journey), far(journey.flow.destination), family(far.family()),
      here(journey.last_machine()), route(settled.route(here, far)) {}

Diagnosis Case::say(plan::Cause cause, lab::MachineId where, std::string explanation,
                    lab::Remedy remedy, plan::Mark at) const {
    if (leg.returning)
        explanation = "on the way back, " + explanation;
    return {cause, where, std::move(explanation), std::move(remedy), at};
}

Diagnosis Case::say(lab::Finding f, lab::MachineId where) const {
    return say(f.cause, where, std::move(f.message), std::move(f.remedy), f.at);
}

std::string Case::far_text() const {
    if (!leg.target)
        return net::to_string(far);
    return fmt::format("{} ({})", net::to_string(far), segment_of(leg.target));
}

std::vector<Hop> Case::path_from(lab::MachineId from, Through through) const {
    if (!leg.target)
        return {};
    if (through == Through::all && leg.tunnels > 0)
        through = Through::wires; // what a tunnel travels in does not travel in it
    return ground.shortest_path(from, lab.nics[leg.target].machine, family, through);
}

} // namespace jackal::probe
