#include "shrink.h"

namespace judge {

namespace {

// Pointers to all that can be left out, outermost first.
void collect(const Json& value, const Json::json_pointer& here,
             std::vector<Json::json_pointer>& into) {
    std::vector<Json::json_pointer> parts;
    for (const auto& item : value.items())
        parts.push_back(value.is_array() ? here / std::stoul(item.key()) : here / item.key());
    into.insert(into.end(), parts.rbegin(), parts.rend());
    std::size_t i = 0;
    for (const Json& inner : value) {
        if (inner.is_structured())
            collect(inner, parts[i], into);
        ++i;
    }
}

} // namespace

Json shrink(Json plan, const std::function<bool(const Json&)>& still_fails) {
    for (bool shorter = true; shorter;) {
        shorter = false;
        std::vector<Json::json_pointer> parts;
        collect(plan, Json::json_pointer(), parts);
        for (const auto& part : parts) {
            if (!plan.contains(part))
                continue;
            Json less = plan;
            Json& parent = less.at(part.parent_pointer());
            if (parent.is_array())
                parent.erase(std::stoul(part.back()));
            else
                parent.erase(part.back());
            if (still_fails(less)) {
                plan = std::move(less);
                shorter = true;
            }
        }
    }
    return plan;
}

} // namespace judge
