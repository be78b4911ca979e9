// In which order the machines of a lab are to be started.
#pragma once

#include "jackal/api.h"
#include "jackal/lab/lab.h"

namespace jackal::lab {

/// A machine in the order in which a person must start them.
struct Start {
    MachineId machine;
    std::size_t round = 1;        ///< machines of one round may start together
    std::vector<MachineId> after; ///< whom it takes an address from, or that the plan names
};

/// All machines that are to run: those that others take their addresses from first.
/// Of those that wait for each other one goes first.
JACKAL_API std::vector<Start> start_order(const Lab& lab);

/// Machines that wait for each other, each for the next and the last for the first; empty if there
/// are none, and start_order() can be followed.
JACKAL_API std::vector<MachineId> start_circle(const Lab& lab);

} // namespace jackal::lab
