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

// True for two keys of one mapping.
bool is_beside(const Place& one, const Place& other) {
    return one.steps.size() == other.steps.size() && one.steps.back().kind == Place::Step::Kind::key
           && std::equal(one.steps.begin(), one.steps.end() - 1, other.steps.begin());
}

} // namespace

std::string to_line(const EditText& text) {
    std::string line = fmt::format("{}: {}", to_string(text.place), text.verb);
    if (!text.value.empty())
        line += " " + text.value;
    if (!text.before.empty())
        line += fmt::format(" (was {})", text.before);
    std::vector<std::string> gone; // keys beside it
    std::string others;
    for (const EditText& other : text.also)
        if (text.verb == "set" && other.verb == "remove" && is_beside(other.place, text.place))
            gone.push_back(other.place.steps.back().word);
        else
            others += ", " + to_line(other);
    if (!gone.empty())
        line += fmt::format(" instead of {}", fmt::join(gone, " and "));
    return line + others;
}

} // namespace jackal::plan
