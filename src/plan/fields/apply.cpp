#include "jackal/plan/difference.h"
#include "plan/fields/codecs.h"

namespace jackal::plan {

Applied apply(Plan plan, const std::vector<PlaceChange>& changes) {
    for (std::span<const PlaceChange> left = changes; !left.empty();) {
        Change change(left);
        const Place& place = change.of().place;
        if (place.steps.empty())
            change.refuse("a change needs a place");
        else
            change_entry(change, place.steps, plan_entry(), plan);
        if (!change.applies())
            return {std::nullopt,
                    fmt::format("{}: {}", to_string(change.of().place), change.problem)};
        left = change.behind();
    }
    return {std::move(plan), ""};
}

} // namespace jackal::plan
