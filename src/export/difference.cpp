#include "jackal/export/difference.h"

#include <dtl/dtl.hpp>
#include <fmt/format.h>
#include <sstream>

namespace jackal::exports {

namespace {

// A last line without its end says so, as it differs from one with it.
std::vector<std::string> lines_of(std::string_view text) {
    std::vector<std::string> lines;
    while (!text.empty()) {
        std::size_t size = text.find('\n');
        bool is_ended = size != text.npos;
        lines.emplace_back(text.substr(0, size));
        if (!is_ended)
            lines.back() += "\n\\ No newline at end of file";
        text.remove_prefix(is_ended ? size + 1 : text.size());
    }
    return lines;
}

} // namespace

std::string difference(std::string_view before, std::string_view after, std::string_view name) {
    dtl::Diff<std::string> found(lines_of(before), lines_of(after));
    found.compose();
    found.composeUnifiedHunks();
    std::ostringstream hunks;
    found.printUnifiedFormat(hunks);
    return hunks.str().empty() ? std::string()
                               : fmt::format("--- {0}\n+++ {0}\n{1}", name, hunks.str());
}

} // namespace jackal::exports
