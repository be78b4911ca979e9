// Where two plans differ.
#pragma once

#include "jackal/plan/plan.h"

#include <string>
#include <vector>

namespace jackal::plan {

/// The entries in which two plans differ, or that only one of them has, as paths of the plan file:
/// `guests.desk`, `filters.quiet`, `links[2]`, `about`; a section alone if its entries stand in
/// another order. Empty exactly if the plans are equal but for their file's name.
JACKAL_API std::vector<std::string> differing_entries(const Plan& before, const Plan& after);

} // namespace jackal::plan
