// A plan as the tree of values that its file is.
#pragma once

#include "jackal/plan/plan.h"
#include "plan/fields/value.h"

namespace jackal::plan {

/// The sections of a plan, without what is usual.
Value tree_of(const Plan& plan);

} // namespace jackal::plan
