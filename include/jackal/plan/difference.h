// Where two plans differ, in the words of the plan file, and what such changes make of a plan.
//
//     auto changes = plan::difference(before, after);
//     plan::to_line(changes.front());              // "guests.desk.nics[0].mtu: 1400, was 1500"
//     plan::apply(before, changes).plan == after;  // true
#pragma once

#include "jackal/plan/place.h"
#include "jackal/plan/plan.h"

#include <optional>
#include <string>
#include <vector>

namespace jackal::plan {

/// What makes `after` of `before`, each change as the plan stands after those before it. Empty
/// exactly if the plans are equal but for their file's name, and for whether guests stand before
/// routers and links before tunnels. O(n log n) in the length of their files.
JACKAL_API std::vector<PlaceChange> difference(const Plan& before, const Plan& after);

/// A plan with changes made, or why one of them does not apply.
struct Applied {
    std::optional<Plan> plan;
    std::string problem; ///< empty if and only if there is a plan
};

/// Makes the changes one after another. What stands there already is not added a second time unless
/// its position is given, and what is not in a list need not be removed from it. What is changed
/// counts as written where it stood, else where its entry does.
JACKAL_API Applied apply(Plan plan, const std::vector<PlaceChange>& changes);

} // namespace jackal::plan
