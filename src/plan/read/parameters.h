// The parameters of a plan.
#pragma once

#include "reader.h"

namespace jackal::plan {

/// Puts the values of `params`, or of `settings` where those name the same, in the place of `$name`
/// and `${name}` in all other values of the document.
void fill_in_parameters(Document& document, Reader& r, const Settings& settings);

} // namespace jackal::plan
