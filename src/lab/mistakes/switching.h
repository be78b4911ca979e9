// What is wrong with switches and the wires between them.
#pragma once

#include "jackal/lab/finding.h"

namespace jackal::lab {

void add_switch_findings(const Lab& lab, std::vector<Finding>& into);

} // namespace jackal::lab
