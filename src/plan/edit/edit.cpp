#include "jackal/plan/edit.h"

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

std::string to_line(const Edit& edit) {
    if (edit.changes.empty())
        return "";
    const PlaceChange& first = edit.changes.front();
    std::string line = line_of(first);
    std::vector<std::string> gone; // keys beside it
    std::string others;
    for (const PlaceChange& other : std::span(edit.changes).subspan(1))
        if (first.verb == Verb::set && other.verb == Verb::remove
            && is_beside(other.place, first.place))
            gone.push_back(other.place.steps.back().word);
        else
            others += ", " + line_of(other);
    if (!gone.empty())
        line += fmt::format(" instead of {}", fmt::join(gone, " and "));
    return line + others;
}

std::string machine_in(const Edit& edit) {
    if (edit.changes.empty())
        return "";
    const auto& steps = edit.changes.front().place.steps;
    if (steps.size() < 2 || (steps[0].word != "guests" && steps[0].word != "routers"))
        return "";
    return steps[1].kind == Place::Step::Kind::one_of ? steps[1].other : steps[1].word;
}

std::optional<std::size_t> nic_in(const Edit& edit) {
    if (machine_in(edit).empty())
        return std::nullopt;
    const auto& steps = edit.changes.front().place.steps;
    if (steps.size() < 4 || steps[2].word != "nics")
        return std::nullopt;
    return steps[3].index;
}

Applied apply(Plan plan, const std::vector<Edit>& edits) {
    Applied made{std::move(plan), ""};
    for (const Edit& edit : edits) {
        if (edit.changes.empty())
            return {std::nullopt, edit.problem};
        made = apply(*std::move(made.plan), edit.changes);
        if (!made.plan)
            break;
    }
    return made;
}

} // namespace jackal::plan
