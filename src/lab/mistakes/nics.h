// Machines that are off; NICs that are down, bare, or too narrow.
#pragma once

#include "lab/mistakes/inspection.h"

namespace jackal::lab {

/// A machine that is off, as the plan says or the question.
struct MachineOff {
    MachineId machine;
};
Finding describe(const Lab& lab, const MachineOff& mistake);

struct NicDown {
    NicId nic;
};
Finding describe(const Lab& lab, const NicDown& mistake, Seen seen);

/// A NIC without an address on a segment that has a prefix.
struct BareNic {
    NicId nic;
    std::optional<net::Family> family; ///< which one it lacks; unset: it has none at all
};
Finding describe(const Lab& lab, const BareNic& mistake);

/// A NIC whose MTU is too small for IPv6 (RFC 8200 section 5).
struct NarrowNic {
    NicId nic;
};
Finding describe(const Lab& lab, const NarrowNic& mistake);

/// Sets the MTU of a NIC, or of the link that it is an end of.
plan::Edit set_mtu(const Lab& lab, NicId nic, std::uint16_t bytes);

} // namespace jackal::lab
