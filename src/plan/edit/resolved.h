// An edit as the changes of places that it is in a plan.
#pragma once

#include "jackal/plan/edit.h"

namespace jackal::plan {

struct Resolved {
    std::vector<PlaceChange> changes; ///< see changes_of
    std::string problem;              ///< why there are none: what it is about is not in the plan
};
Resolved resolved(const Edit& edit, const Plan& plan);

} // namespace jackal::plan
