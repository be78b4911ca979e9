#pragma once

#include "jackal/api.h"

#include <string_view>

namespace jackal {

/// The version of the library, `MAJOR.MINOR.PATCH` (semantic versioning 2.0.0).
JACKAL_API std::string_view version();

} // namespace jackal
