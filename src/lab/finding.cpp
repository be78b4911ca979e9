#include "jackal/lab/finding.h"

#include <algorithm>
#include <tuple>

namespace jackal::lab {

std::string_view to_string(Severity severity) {
    return severity == Severity::error ? "error" : "warning";
}

std::vector<std::string> to_lines(const Remedy& remedy) {
    std::vector<std::string> lines;
    for (const plan::Edit& edit : remedy.edits)
        lines.push_back(plan::to_line(edit));
    if (lines.empty() && !remedy.advice.empty())
        lines.push_back(remedy.advice);
    return lines;
}

void sort_findings(std::vector<Finding>& findings) {
    auto key = [](const Finding& f) {
        return std::tie(f.at.line, f.at.column, f.cause, f.subject, f.message);
    };
    std::ranges::sort(findings, [&](const auto& a, const auto& b) { return key(a) < key(b); });
    auto repeated = std::ranges::unique(
        findings, [&](const auto& a, const auto& b) { return key(a) == key(b); });
    findings.erase(repeated.begin(), repeated.end());
}

Remedy within(Remedy remedy) {
    for (const plan::Edit& edit : remedy.edits)
        if (edit.changes.empty())
            return {{},
                    "what is outside cannot be changed: let the lab translate, or give a subnet an "
                    "uplink"};
    return remedy;
}

} // namespace jackal::lab
