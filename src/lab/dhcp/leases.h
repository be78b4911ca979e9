// What machines get that ask for an address by DHCP.
#pragma once

#include "jackal/lab/lab.h"
#include "jackal/lab/wiring.h"

namespace jackal::lab {

/// What every NIC with `address: dhcp` gets, by NIC; who starts earlier asks earlier, in plan
/// order, from servers that have their own addresses in `lab`. Leases that `lab` has already are
/// given out anew.
std::vector<Lease> leases(const plan::Plan& plan, const Lab& lab);

} // namespace jackal::lab
