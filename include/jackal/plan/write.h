// The text of a whole plan, from a Plan.
//
//     plan::Plan plan;
//     plan.lab = "two-halls";
//     …
//     std::string text = plan::text_of(plan);   // read(text, "plan").plan->written() == plan
//
// For a change of a file that a person wrote see rewrite.h, which leaves all the rest of it as it
// is.
#pragma once

#include "jackal/plan/plan.h"

#include <string>

namespace jackal::plan {

/// The plan as YAML (docs/plan-file.md), ending in a line break; what is usual is left out. What
/// only the text of a file has is not there: parameters, `like`, `template`, comments. Machines
/// that come from one entry by `count` stand in one again if they are still alike.
JACKAL_API std::string text_of(const Plan& plan);

} // namespace jackal::plan
