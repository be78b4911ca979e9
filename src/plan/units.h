// Numbers with a unit.
#pragma once

#include <initializer_list>
#include <optional>
#include <string_view>
#include <utility>

namespace jackal::plan {

/// A decimal number followed by one of the units; the number times the unit's factor.
std::optional<double>
parse_with_unit(std::string_view text,
                std::initializer_list<std::pair<std::string_view, double>> units);

} // namespace jackal::plan
