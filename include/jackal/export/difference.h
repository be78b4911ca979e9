// What one text has that another has not, for people and for programs that apply it.
#pragma once

#include "jackal/api.h"

#include <string>
#include <string_view>

namespace jackal::exports {

/// The difference of two texts in unified format (IEEE Std 1003.1-2024, diff -u) with three lines
/// around each change; `name` heads it twice. Empty if there is none.
JACKAL_API std::string difference(std::string_view before, std::string_view after,
                                  std::string_view name);

} // namespace jackal::exports
