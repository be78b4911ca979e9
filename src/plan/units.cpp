#include "plan/units.h"

#include <charconv>
#include <cmath>

namespace jackal::plan {

std::optional<double>
parse_with_unit(std::string_view text,
                std::initializer_list<std::pair<std::string_view, double>> units) {
    double number = 0;
    auto [end, error] =
        std::from_chars(text.data(), text.data() + text.size(), number, std::chars_format::fixed);
    if (error != std::errc{} || !std::isfinite(number) || number < 0)
        return std::nullopt;
    std::string_view unit(end, static_cast<std::size_t>(text.data() + text.size() - end));
    for (auto [name, factor] : units)
        if (unit == name)
            return number * factor;
    return std::nullopt;
}

} // namespace jackal::plan
