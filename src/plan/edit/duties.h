// What a machine is told besides its NICs and routes, made when it is first needed.
#pragma once

#include "jackal/plan/plan.h"

namespace jackal::plan {

inline Duties& duties_of(Machine& machine) {
    if (!machine.duties)
        machine.duties = Duties{};
    return *machine.duties;
}

inline Protocols& protocols_of(Machine& machine) {
    Duties& duties = duties_of(machine);
    if (!duties.protocols)
        duties.protocols = Protocols{};
    return *duties.protocols;
}

} // namespace jackal::plan
