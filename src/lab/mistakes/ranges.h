// Prefixes that cover each other, or what they should not.
#pragma once

#include "lab/mistakes/inspection.h"

namespace jackal::lab {

/// A machine looked for an address on one segment, as a prefix there covers it, but it is on
/// another.
struct LookedForElsewhere {
    MachineId machine;
    net::Address address;
    SegmentId searched;
    net::Prefix covered_by;
    NicId owner;
};
Finding describe(const Lab& lab, const LookedForElsewhere& mistake);

/// The advice to move a subnet or site by the command that moves the ranges written in it, too.
std::string move_by_command(const Lab& lab, const std::string& name, const net::Prefix& to);

} // namespace jackal::lab
