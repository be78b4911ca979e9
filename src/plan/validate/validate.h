// Whether a plan holds together.
#pragma once

#include "jackal/plan/complete.h"

namespace jackal::plan {

/// Everything that keeps the plan from being built into a lab, see problems().
std::vector<Problem> problems_of(const Complete& plan);

/// Values that the reader refuses, in a plan that a program has filled in: numbers out of range,
/// names that are empty.
std::vector<Problem> value_problems(const Plan& plan);

} // namespace jackal::plan
