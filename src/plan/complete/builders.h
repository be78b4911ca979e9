// What a plan stands for, added to it.
#pragma once

#include "jackal/plan/complete.h"

namespace jackal::plan {

/// The cores of automatic sites, and the links and routes of peerings. With more than a million
/// routes it stops adding, and validation says so.
void add_cores(CompleteParts& into);

/// The machines and subnets that uplinks and hosts outside stand for. A subnet whose uplink is
/// `nat` or `bridge` gets a DHCP range, if it has none.
void add_outside(CompleteParts& into);

} // namespace jackal::plan
