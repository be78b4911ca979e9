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

/// The names that a NIC may go by in the machine's protocols: its own, that of its subnet or of the
/// machine that its link leads to.
std::vector<std::string> names_in_protocols(const Plan& plan, const Machine& machine,
                                            const std::string& nic);

} // namespace jackal::plan
