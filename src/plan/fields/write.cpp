#include "jackal/plan/write.h"

#include "plan/fields/codecs.h"
#include "plan/fields/tree.h"

namespace jackal::plan {

namespace {

// Has the section `first` stand before the other, if the plan has both.
void put_before(Value& sections, std::string_view first, std::string_view other) {
    auto late = std::ranges::find(sections.keys, first);
    auto early = std::ranges::find(sections.keys, other);
    if (late == sections.keys.end() || late < early)
        return;
    auto item = [&](auto key) { return sections.items.begin() + (key - sections.keys.begin()); };
    std::rotate(item(early), item(late), item(late) + 1);
    std::rotate(early, late, late + 1);
}

} // namespace

Value tree_of(const Plan& plan) {
    Value sections = written(plan, plan_entry());
    // Two sections fill one list, each of these two.
    if (!plan.machines.empty() && plan.machines.front().kind == MachineKind::router)
        put_before(sections, "routers", "guests");
    if (!plan.links.empty() && plan.links.front().tunnel)
        put_before(sections, "tunnels", "links");
    return sections;
}

std::string text_of(const Plan& plan) {
    return file_text(tree_of(plan));
}

} // namespace jackal::plan
