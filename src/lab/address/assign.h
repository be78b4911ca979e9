// Which address every NIC of a lab has.
#pragma once

#include "jackal/lab/lab.h"
#include "jackal/plan/complete.h"

namespace jackal::lab {

/// Gives addresses to all NICs of a lab whose segments, machines and links are there, as the plan
/// writes, keeps pinned or leaves to the planner; and before that sets the reserved and the DHCP
/// ranges of its subnets aside. What finds no room is added to `lab.unplaced`.
void assign_addresses(const plan::Complete& plan, Lab& lab);

} // namespace jackal::lab
