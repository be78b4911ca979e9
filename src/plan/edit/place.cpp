#include "jackal/plan/place.h"

#include <fmt/format.h>

namespace jackal::plan {

namespace {

Place with(Place place, Place::Step step) {
    place.steps.push_back(std::move(step));
    return place;
}

} // namespace

Place Place::key(std::string_view word) const {
    return with(*this, {Step::Kind::key, std::string(word), "", 0});
}

Place Place::name(std::string_view word) const {
    return with(*this, {Step::Kind::name, std::string(word), "", 0});
}

Place Place::one_of(std::string_view entry, std::string_view machine) const {
    return with(*this, {Step::Kind::one_of, std::string(entry), std::string(machine), 0});
}

Place Place::index(std::size_t position) const {
    return with(*this, {Step::Kind::index, "", "", position});
}

Place Place::between(std::string_view one, std::string_view other) const {
    return with(*this, {Step::Kind::between, std::string(one), std::string(other), 0});
}

std::string to_string(const Place& place) {
    std::string text;
    for (const Place::Step& step : place.steps)
        switch (step.kind) {
        case Place::Step::Kind::key:
        case Place::Step::Kind::name: text += (text.empty() ? "" : ".") + step.word; break;
        case Place::Step::Kind::one_of:
            text += fmt::format(".{} (written out of {})", step.other, step.word);
            break;
        case Place::Step::Kind::index: text += fmt::format("[{}]", step.index); break;
        case Place::Step::Kind::between:
            text += fmt::format(" ({} -- {})", step.word, step.other);
            break;
        }
    return text;
}

std::string_view to_string(PlaceChange::Verb verb) {
    constexpr std::string_view verbs[] = {"set", "add", "remove", "order"};
    return verbs[static_cast<std::size_t>(verb)];
}

std::string to_line(const PlaceChange& change) {
    const std::string place = to_string(change.place);
    const bool is_key =
        !change.place.steps.empty() && change.place.steps.back().kind == Place::Step::Kind::key;
    switch (change.verb) {
    case PlaceChange::Verb::set:
        if (!change.before.empty())
            return fmt::format("{}: {}, was {}", place, change.value, change.before);
        return is_key ? fmt::format("{}: {}, was the usual", place, change.value)
                      : fmt::format("{}: added {}", place, change.value);
    case PlaceChange::Verb::add: return fmt::format("{}: added {}", place, change.value);
    case PlaceChange::Verb::remove:
        return is_key ? fmt::format("{}: the usual, was {}", place, change.before)
                      : fmt::format("{}: removed {}", place, change.before);
    case PlaceChange::Verb::order: break;
    }
    return fmt::format("{}: in another order: {}", place, change.value);
}

} // namespace jackal::plan
