// Plans made from bytes by the plan's own schema: every key and shape that it knows, names that
// mostly go together, and now and then a shape that does not belong.
#pragma once

#include <cstdint>
#include <span>
#include <string>
#include <string_view>

namespace fuzz {

/// A plan in flow style; the same bytes give the same plan.
std::string plan_from(std::span<const std::uint8_t> bytes);

} // namespace fuzz
