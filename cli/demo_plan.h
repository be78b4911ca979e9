// demo/skerry.yaml, built into the program.
#pragma once

#include <string_view>

namespace jackal::cli {

extern const std::string_view demo_plan;

} // namespace jackal::cli
