// Subnets that no router joins.
#pragma once

#include "lab/mistakes/inspection.h"

namespace jackal::lab {

struct NoRouterBetween {
    std::string one; ///< what lies on one side, in words
    std::string other;
    std::string subject;
    plan::Mark at;
};
/// What mends it depends on who is to be joined: the caller adds that.
Finding describe(const NoRouterBetween& mistake);

/// A NIC on the subnet for a router that is elsewhere, or a new router.
Remedy join(Inspection& in, const Subnet& subnet);

/// A NIC on one of two subnets for a router of the other, or a new router on both.
Remedy join(const Lab& lab, SubnetId one, SubnetId other);

} // namespace jackal::lab
