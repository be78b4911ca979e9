#include "plan/fields/shape.h"

#include <fmt/format.h>

namespace jackal::plan {

std::string_view to_string(NameKind kind) {
    static constexpr std::string_view words[] = {
        "site",   "region", "pool",   "subnet", "machine",   "nic", "link",
        "switch", "port",   "filter", "policy", "parameter", "cut"};
    return words[static_cast<std::size_t>(kind)];
}

std::string sentence(std::string_view text) {
    std::string result(text);
    if (!result.empty() && result.front() >= 'a' && result.front() <= 'z')
        result.front() = static_cast<char>(result.front() - 'a' + 'A');
    return result + ".";
}

std::string sentence(const Row& row) {
    const std::string holds = sentence(row.about);
    return row.usual.empty() ? holds : fmt::format("{} Default: {}.", holds, row.usual);
}

} // namespace jackal::plan
