// Where two plans differ, in the words of the plan file.
//
//     for (const plan::PlaceChange& change : plan::difference(before, after))
//         std::cout << plan::to_line(change) << '\n'; // "guests.desk.nics[0].mtu: 1400, was 1500"
#pragma once

#include "jackal/plan/place.h"
#include "jackal/plan/plan.h"

#include <string>
#include <vector>

namespace jackal::plan {

/// What makes `after` of `before`, each change as the plan stands after those before it. Empty
/// exactly if the plans are equal but for their file's name. O(n log n) in the length of their
/// files.
JACKAL_API std::vector<PlaceChange> difference(const Plan& before, const Plan& after);

} // namespace jackal::plan
