#include "lab/mistakes/inspection.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::lab {

using plan::Cause;

bool meets_somebody(const Lab& lab, bool any, const std::vector<net::Prefix>& prefixes) {
    auto holds_owner = [&](const net::Prefix& prefix) {
        auto next = std::ranges::lower_bound(lab.owners, prefix.first(), {}, &Owner::address);
        while (next != lab.owners.end() && next->address <= prefix.last()) {
            if (prefix.contains(next->address)) // IPv4 addresses are between IPv6 ones
                return true;
            ++next;
        }
        return false;
    };
    return any || std::ranges::any_of(prefixes, holds_owner);
}

void filter_rules(Inspection& in) {
    std::size_t comparisons_left = 100'000'000;
    for (const Filter& filter : in.lab.filters) {
        auto report = [&](Cause cause, std::uint32_t rule, std::string_view why) {
            in.find(cause, Severity::warning, fmt::format("{} rule {}", filter.name, rule + 1),
                    fmt::format("rule {} of filter {} {}", rule + 1, filter.name, why),
                    {{plan::remove_filter_rule(in.lab.plan, filter.name, rule)}, ""},
                    filter.rules[rule].at);
        };
        for (std::uint32_t rule : shadowed_rules(filter, comparisons_left))
            report(Cause::rule_shadowed, rule,
                   "never decides anything: rules before it match all that it does");
        for (std::uint32_t i = 0; i < filter.rules.size(); ++i) {
            const FilterRule& rule = filter.rules[i];
            if (!meets_somebody(in.lab, rule.any_from, rule.from))
                report(Cause::rule_matches_nothing, i,
                       "matches nothing: nobody has an address in `from`");
            else if (!meets_somebody(in.lab, rule.any_to, rule.to))
                report(Cause::rule_matches_nothing, i,
                       "matches nothing: nobody has an address in `to`");
        }
    }
}

} // namespace jackal::lab
