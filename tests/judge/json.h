// Plans as they are made up and made smaller.
#pragma once

#include <nlohmann/json.hpp>

namespace judge {

using Json = nlohmann::ordered_json;

} // namespace judge
