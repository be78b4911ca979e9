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

} // namespace jackal::lab
