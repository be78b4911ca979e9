// Whether a plan holds together.
#pragma once

#include "jackal/plan/complete.h"

namespace jackal::plan {

/// Everything that keeps the plan from being built into a lab, see problems().
std::vector<Problem> problems_of(const Complete& plan);

} // namespace jackal::plan
