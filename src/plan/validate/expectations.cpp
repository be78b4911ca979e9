#include "plan/validate/validation.h"

#include "jackal/plan/cause.h"
#include "jackal/plan/sites.h"
#include "jackal/plan/validate.h"

#include <algorithm>
#include <fmt/format.h>
#include <fmt/ranges.h>

namespace jackal::plan {

namespace {

void check_nic_endpoint(Validation& v, Mark at, std::string_view name, std::string_view nic) {
    auto row = v.machines.row(name);
    if (!row)
        return v.problem(at, v.machines.unknown(name));
    if (!has_nic(v, v.plan.machines[*row], nic))
        v.problem(at, fmt::format("{} has no NIC \"{}\"", name, nic));
}

void check_endpoint(Validation& v, const Placed<std::string>& end, bool address_allowed) {
    auto [name, nic] = split_endpoint(end.value);
    if (name.empty() || (address_allowed && net::parse_address(end.value)))
        return;
    if (!nic.empty()) {
        check_nic_endpoint(v, end.at, name, nic);
    } else if (!v.machines.has(name) && !v.subnets.has(name) && !v.sites.has(name)) {
        v.problem(end.at, v.machines.unknown(name, "machine, subnet or site"));
    }
}

} // namespace

void check_expectation(Validation& v, const Expectation& expectation) {
    check_endpoint(v, expectation.from, false);
    check_endpoint(v, expectation.to, true);
    if (expectation.apart) {
        if (expectation.gets.at || expectation.within)
            v.problem(expectation.gets.at ? expectation.gets.at : expectation.at,
                      "`apart` says all: no `gets` and no `within` beside it");
        if (net::parse_address(expectation.to.value))
            v.problem(expectation.to.at, "`apart` is about machines, subnets and sites");
        return;
    }
    const std::string& gets = expectation.gets.value;
    std::vector<std::string_view> known = {"reply", "no-reply"};
    if (expectation.service)
        known = {"open", "closed"};
    std::string words = fmt::format("{}", fmt::join(known, ", "));
    if (std::ranges::find(known, gets) != known.end() || cause_from_slug(gets))
        return;
    for (const CauseText& text : all_causes())
        known.push_back(text.slug);
    std::string_view near = nearest_word(gets, known);
    v.problem(expectation.gets.at,
              fmt::format("\"{}\" is no outcome; {}", gets,
                          near.empty() ? fmt::format("write {} or the slug of a cause", words)
                                       : fmt::format("did you mean {}?", near)));
}

} // namespace jackal::plan
