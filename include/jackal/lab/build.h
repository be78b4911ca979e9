// From a plan to a lab: prefixes for subnets and links, addresses for NICs, static routes.
#pragma once

#include "jackal/api.h"
#include "jackal/lab/lab.h"
#include "jackal/plan/complete.h"

namespace jackal::lab {

/// The lab that `plan` describes. The same plan always gives the same lab.
///
/// A plan with mistakes gives a lab with mistakes (see findings.h); what could not be placed
/// stays without prefix or address and is listed in Lab::unplaced.
JACKAL_API Lab build(const plan::Complete& plan);

/// The same from what was written, which is completed first. Throws std::invalid_argument with the
/// first of plan::problems(plan) if there are any.
JACKAL_API Lab build(plan::Plan plan);

} // namespace jackal::lab
