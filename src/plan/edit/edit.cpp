#include "plan/edit/resolved.h"

#include <algorithm>
#include <fmt/format.h>
#include <fmt/ranges.h>

namespace jackal::plan {

std::string to_string(const Route::Target& target) {
    if (const auto* prefix = std::get_if<net::Prefix>(&target))
        return net::to_string(*prefix);
    const auto* subnet = std::get_if<std::string>(&target);
    return subnet == nullptr ? "default" : *subnet;
}

std::string to_string(const Route::NextHop& next_hop) {
    const auto* address = std::get_if<net::Address>(&next_hop);
    return address == nullptr ? std::get<std::string>(next_hop) : net::to_string(*address);
}

namespace {

using Verb = PlaceChange::Verb;

std::string line_of(const PlaceChange& change) {
    std::string line = fmt::format("{}: {}", to_string(change.place), to_string(change.verb));
    if (!change.value.empty())
        line += " " + change.value;
    if (!change.before.empty())
        line += fmt::format(" (was {})", change.before);
    return line;
}

// True for two keys of one mapping.
bool is_beside(const Place& one, const Place& other) {
    return one.steps.size() == other.steps.size() && one.steps.back().kind == Place::Step::Kind::key
           && std::equal(one.steps.begin(), one.steps.end() - 1, other.steps.begin());
}

} // namespace

std::string to_line(const std::vector<PlaceChange>& edit) {
    if (edit.empty())
        return "";
    const PlaceChange& first = edit.front();
    std::string line = line_of(first);
    std::vector<std::string> gone; // keys beside it
    std::string others;
    for (std::size_t i = 1; i < edit.size(); ++i)
        if (first.verb == Verb::set && edit[i].verb == Verb::remove
            && is_beside(edit[i].place, first.place))
            gone.push_back(edit[i].place.steps.back().word);
        else
            others += ", " + line_of(edit[i]);
    if (!gone.empty())
        line += fmt::format(" instead of {}", fmt::join(gone, " and "));
    return line + others;
}

Applied apply(Plan plan, const std::vector<Edit>& edits) {
    Applied made{std::move(plan), ""};
    for (const Edit& edit : edits) {
        const Resolved found = resolved(edit, *made.plan);
        if (found.changes.empty())
            return {std::nullopt, found.problem};
        made = apply(*std::move(made.plan), found.changes);
        if (!made.plan)
            break;
    }
    return made;
}

} // namespace jackal::plan
