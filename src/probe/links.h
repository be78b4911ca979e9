// The links that a packet crosses.
#pragma once

#include "jackal/packet/walk.h"

namespace jackal::probe {

/// Calls use(link) for each link on the way, those that a tunnel's outer packets cross last.
template <class Use>
void each_link(const lab::Lab& lab, const packet::Journey& journey, Use use) {
    for (const packet::Step& step : journey.steps)
        if (step.out && step.action != packet::Action::drop)
            if (lab::LinkId link = lab.segments[lab.nics[step.out].segment].link)
                use(lab.links[link]);
    for (const packet::Crossing& crossing : journey.crossings)
        if (crossing.works)
            each_link(lab, *crossing.outer, use);
}

} // namespace jackal::probe
