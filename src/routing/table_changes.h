// What differs between the tables of all machines under two conditions of one lab.
#pragma once

#include "jackal/routing/settled.h"

#include <cstdint>
#include <optional>
#include <vector>

namespace jackal::routing {

/// What differs of machines and their segments. The wiring must be the same.
struct Touched {
    Touched(const Settled& before, const Settled& after);

    /// Machines that are on, have NICs or links up, or hear machines of which that is so, under one
    /// of the conditions only: all others have the same routes of their own, and find the same
    /// neighbours. By machine.
    std::vector<bool> machines;
    /// NICs that may find other neighbours: they hear one of which that is so. By NIC.
    std::vector<bool> nics;
};

/// A machine that may send otherwise what a prefix holds and no longer one.
struct TableMove {
    std::uint32_t prefix = 0; ///< its number (Aim::prefix)
    lab::MachineId machine;
    bool is_on_link = false; ///< before or after, the machine takes the prefix for a segment
    /// Stands for those after: equal for equal ones. 0 if they are the same for all prefixes that
    /// were alike before (Settled::alike) and at which the same machines are told to move.
    std::uint64_t next_hops = 0;
};

struct TableChanges {
    std::vector<bool> touched;    ///< see Touched::machines
    std::vector<TableMove> moves; ///< by prefix, then machine
};

/// What differs at the machines that are `counted`, for the prefixes with those numbers, ascending;
/// and at others on whose segments they are. Nothing if the wiring is another, so that all must be
/// looked at.
std::optional<TableChanges> table_changes(const Settled& before, const Settled& after,
                                          const std::vector<std::uint32_t>& prefixes,
                                          const std::vector<bool>& counted);

} // namespace jackal::routing
