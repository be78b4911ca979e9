// Makes a failing case small enough to read.
#pragma once

#include "json.h"

#include <functional>

namespace judge {

/// `plan` without whatever can be left out of it so that `still_fails` stays true: entries of
/// mappings and items of lists, the large ones first, until nothing more can go.
Json shrink(Json plan, const std::function<bool(const Json&)>& still_fails);

} // namespace judge
