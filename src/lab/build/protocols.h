// Looks up what the plan tells machines of routing protocols.
#pragma once

#include "jackal/lab/lab.h"

namespace jackal::lab {

/// Fills the speakers and policies of `lab`, which has all else but routes.
void add_speakers(const plan::Plan& plan, Lab& lab);

} // namespace jackal::lab
