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

#include "jackal/plan/place.h"
#include "jackal/plan/plan.h"

#include <string>
#include <vector>

namespace jackal::plan {

/// What a comment says of an entry of the plan; it stands on the line of the entry, of one that
/// takes several lines on the first.
struct Note {
    Place place;
    std::string text; ///< one line, without `#`
};

/// The plan as YAML (docs/plan-file.md), ending in a line break; what is usual is left out. What
/// only the text of a file has is not there: parameters, `like`, `template`, comments. Machines
/// that come from one entry by `count` stand in one again if they are still alike. A note of a
/// place that is not there is of what is, on the way.
JACKAL_API std::string text_of(const Plan& plan, const std::vector<Note>& notes = {});

} // namespace jackal::plan
