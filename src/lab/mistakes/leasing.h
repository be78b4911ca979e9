// What is wrong with DHCP.
#pragma once

#include "jackal/lab/finding.h"

namespace jackal::lab {

void add_lease_findings(const Lab& lab, std::vector<Finding>& into);

} // namespace jackal::lab
