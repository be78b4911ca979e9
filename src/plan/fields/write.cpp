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

// The value at the place, or the last one on the way there that is.
Value& value_at(Value& sections, const Place& place) {
    Value* at = &sections;
    for (const Place::Step& step : place.steps) {
        if (step.kind == Place::Step::Kind::index) {
            if (at->kind != Value::Kind::list || step.index >= at->items.size())
                break;
            at = &at->items[step.index];
        } else {
            Value* next = at->find(step.word);
            if (next == nullptr)
                break;
            at = next;
        }
    }
    return *at;
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

std::string text_of(const Plan& plan, const std::vector<Note>& notes) {
    Value sections = tree_of(plan);
    for (const Note& note : notes) {
        std::string& comment = value_at(sections, note.place).comment;
        comment += (comment.empty() ? "" : "; ") + note.text;
    }
    return file_text(sections);
}

} // namespace jackal::plan
