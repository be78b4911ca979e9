#include "plan/edit/surgeon.h"

#include "plan/fields/change.h"

#include "jackal/limits.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::plan {

using Step = Place::Step;

Surgeon::Surgeon(std::string text, const Settings& settings)
    : settings_(settings), layout_(std::make_unique<Layout>(std::move(text), settings_)) {}

void Surgeon::renew(std::vector<Splice> splices) {
    layout_ = std::make_unique<Layout>(spliced(text(), std::move(splices)), settings_);
}

void Surgeon::refuse(const Place& place, std::string_view why) const {
    Spot spot = walk(place);
    throw InTheWay(layout_->at(spot.value), fmt::format("{}: {}", to_string(place), why));
}

// --- finding -----------------------------------------------------------------------------------

Layout::Element Surgeon::step_into(Id from, const Step& step) const {
    switch (step.kind) {
    case Step::Kind::key:
    case Step::Kind::name: return layout_->find(from, step.word);
    case Step::Kind::one_of: return layout_->find(from, step.other);
    case Step::Kind::index: {
        std::vector<Element> items = layout_->elements(from);
        if (layout_->kind(from) == NodeKind::sequence && step.index < items.size())
            return items[step.index];
        return {};
    }
    case Step::Kind::between: break;
    }
    for (const Element& item : layout_->elements(from)) {
        std::vector<Element> ends = layout_->elements(layout_->find(item.value, "between").value);
        if (ends.size() == 2 && layout_->means(ends[0].value, step.word)
            && layout_->means(ends[1].value, step.other))
            return item;
    }
    return {};
}

Surgeon::Spot Surgeon::walk(const Place& place) const {
    Spot spot;
    spot.value = layout_->root();
    for (const Step& step : place.steps) {
        Element next = step_into(spot.value, step);
        if (next.value == Layout::none)
            break;
        spot.collections.push_back(spot.value);
        spot.element = next;
        spot.value = next.value;
        ++spot.depth;
    }
    return spot;
}

// An alias, or an anchor that aliases use, that a change at the spot would be seen through.
Layout::Id Surgeon::first_shared(const Spot& spot, bool is_replaced) const {
    std::vector<Id> touched(spot.collections);
    touched.push_back(spot.value);
    for (std::size_t i = 0; i < touched.size(); ++i) {
        Id id = touched[i];
        if (layout_->document().is_alias(id) && !(is_replaced && i + 1 == touched.size()))
            return id;
        if (layout_->extent(id).is_anchor)
            for (Id other = id + 1; other < layout_->document().size(); ++other)
                if (layout_->document().alias_of(other) == id)
                    return id;
    }
    return Layout::none;
}

// Makes a node one that nothing else stands for.
void Surgeon::part(Id shared) {
    const Document& document = layout_->document();
    const std::string name(layout_->anchor(shared));
    if (document.is_alias(shared)) {
        notes_.push_back({layout_->at(shared),
                          fmt::format("*{} is written out, as only this place changes", name)});
        return renew(
            {layout_->replace_alias(shared, layout_->flow_text(document.alias_of(shared)))});
    }
    Id first = shared + 1;
    while (document.alias_of(first) != shared)
        ++first;
    notes_.push_back(
        {layout_->at(first),
         fmt::format("&{} is written out here, as the place that it stood at changes", name)});
    std::vector<Splice> splices = layout_->remove_anchor(shared);
    splices.push_back(
        layout_->replace_alias(first, fmt::format("&{} {}", name, layout_->flow_text(shared))));
    renew(std::move(splices));
}

Surgeon::Spot Surgeon::find(const Place& place, bool is_replaced) {
    for (;;) {
        Spot spot = walk(place);
        bool is_there = spot.depth == place.steps.size();
        Id shared = first_shared(spot, is_replaced && is_there);
        if (shared == Layout::none)
            return spot;
        part(shared);
    }
}

// --- entries that are like others --------------------------------------------------------------

// The value of the machine's key that the place leads through, where the machine has it from an
// entry that it is like; with `anyway` what it would have from there if it had none of its own.
Layout::Id Surgeon::inherited(const Place& place, bool anyway) const {
    if (place.steps.size() < 3
        || (place.steps[0].word != "guests" && place.steps[0].word != "routers"))
        return Layout::none;
    Element section = layout_->find(layout_->root(), place.steps[0].word);
    if (section.value == Layout::none)
        return Layout::none;
    Id entry = step_into(section.value, place.steps[1]).value;
    for (std::size_t depth = 0; entry != Layout::none && depth <= limits::alike; ++depth) {
        Id own = layout_->find(entry, place.steps[2].word).value;
        if (own != Layout::none && !(anyway && depth == 0))
            return depth == 0 ? Layout::none : own;
        Id like = layout_->find(entry, "like").value;
        entry = Layout::none;
        if (like != Layout::none)
            for (const char* name : {"guests", "routers"})
                if (Id all = layout_->find(layout_->root(), name).value;
                    all != Layout::none && entry == Layout::none)
                    entry = layout_->find(all, layout_->says(like)).value;
    }
    return Layout::none;
}

void Surgeon::write_out(const Place& place, bool is_replaced) {
    Id from = inherited(place);
    if (from == Layout::none || (is_replaced && place.steps.size() == 3))
        return;
    Place unit;
    unit.steps.assign(place.steps.begin(), place.steps.begin() + 3);
    const std::string value = layout_->flow_text(from);
    Spot spot = find(unit, false);
    notes_.push_back({layout_->at(spot.value),
                      fmt::format("{} is written out, as it differs from what it is like now",
                                  to_string(unit))});
    add_missing(spot, unit, value, false);
}

void Surgeon::split(const Place& entry, const std::vector<std::string>& machines) {
    Spot spot = find(entry, false);
    Element count =
        spot.depth == entry.steps.size() ? layout_->find(spot.value, "count") : Element{};
    if (count.key == Layout::none)
        refuse(entry, "it has no count of its own");
    const std::string name = entry.steps.back().word;
    notes_.push_back({layout_->at(spot.element.key),
                      fmt::format("{} is written out as {} to {}, as not all of them change", name,
                                  machines.front(), machines.back())});
    renew(layout_->replace(count, "true"));
    spot = find(entry, false);
    count = layout_->find(spot.value, "count");
    renew(layout_->replace({Layout::none, count.key}, "template"));
    for (auto machine = machines.rbegin(); machine != machines.rend(); ++machine) {
        spot = find(entry, false);
        renew(layout_->insert_behind(spot.collections.back(), spot.element,
                                     {fmt::format("{}: {{like: {}}}", *machine, name)}));
    }
}

// --- changes -----------------------------------------------------------------------------------

// True if the value is a parameter used nowhere else, whose default is another now.
bool Surgeon::replace_parameter(Id id, std::string_view value) {
    std::string_view source = layout_->source(id);
    if (!source.starts_with('$') || layout_->document().is_alias(id))
        return false;
    std::string name(source.substr(1));
    if (name.starts_with('{') && name.ends_with('}'))
        name = name.substr(1, name.size() - 2);
    if (!is_name(name) || std::ranges::count(settings_, name, &Settings::value_type::first) != 0)
        return false;
    Element section = layout_->find(layout_->root(), "params");
    Element parameter =
        section.value == Layout::none ? Element{} : layout_->find(section.value, name);
    if (parameter.value == Layout::none)
        return false;
    int uses = 0;
    for (std::string_view use : {fmt::format("${}", name), fmt::format("${{{}}}", name)})
        for (std::size_t at = text().find(use); at != std::string::npos;
             at = text().find(use, at + 1))
            ++uses;
    if (uses != 1)
        return false;
    renew(layout_->replace(parameter, value));
    return true;
}

void Surgeon::replace(Element element, std::string_view value) {
    if (!replace_parameter(element.value, value))
        renew(layout_->replace(element, value));
}

// The lines that a new key of a mapping takes. In block style lists stand as those beside it.
std::vector<std::string> Surgeon::lines_of(Id mapping, std::string_view key, std::string_view value,
                                           bool as_item) const {
    const bool is_root = mapping == layout_->root();
    bool lists_in_block = is_root;
    for (const Element& other : layout_->elements(mapping))
        lists_in_block |= layout_->kind(other.value) == NodeKind::sequence
                          && !layout_->document().is_alias(other.value)
                          && !layout_->is_flow(other.value);
    if (layout_->is_flow(mapping))
        lists_in_block = false;
    std::string name = written_value(key);
    if (as_item && lists_in_block)
        return {fmt::format("{}:", name), fmt::format("  - {}", value)};
    if (as_item)
        return {fmt::format("{}: [{}]", name, value)};
    return {fmt::format("{}: {}", name, value)};
}

// What the place leads to beyond the spot, made from its end.
void Surgeon::add_missing(const Spot& spot, const Place& place, std::string_view value,
                          bool as_item) {
    std::string inner(written_value(value));
    for (std::size_t i = place.steps.size() - 1; i > spot.depth; --i) {
        const Step& step = place.steps[i];
        if (step.kind == Step::Kind::index || step.kind == Step::Kind::between)
            refuse(place, "there is no such item");
        if (as_item)
            inner = "[" + inner + "]";
        as_item = false;
        inner = fmt::format("{{{}: {}}}", written_value(step.word), inner);
    }
    const Step& step = place.steps[spot.depth];
    if (step.kind == Step::Kind::index || step.kind == Step::Kind::between)
        refuse(place, "there is no such item");
    const std::string& word = step.kind == Step::Kind::one_of ? step.other : step.word;
    const Id holder = spot.value;
    if (layout_->is_empty(holder))
        return renew(
            layout_->replace(spot.element, fmt::format("{{{}: {}}}", written_value(word),
                                                       as_item ? "[" + inner + "]" : inner)));
    if (layout_->kind(holder) != NodeKind::mapping)
        refuse(place, "what leads there is no mapping");
    std::vector<Element> all = layout_->elements(holder);
    std::vector<std::string> lines = lines_of(holder, word, inner, as_item);
    // A new section has its first entry on a line of its own.
    if (spot.depth == 0 && place.steps.size() == 2 && !layout_->is_flow(holder))
        lines = {fmt::format("{}:", word),
                 fmt::format("  {}", std::string_view(inner).substr(1, inner.size() - 2))};
    renew(layout_->insert_behind(holder, all.empty() ? Element{} : all.back(), lines));
}

void Surgeon::set(const Place& place, std::string_view value, std::string_view before) {
    const bool is_whole = before.empty() || place.steps.back().kind == Step::Kind::index;
    write_out(place, is_whole);
    Spot spot = find(place, is_whole);
    if (spot.depth < place.steps.size())
        return add_missing(spot, place, value, false);
    if (is_whole || layout_->kind(spot.value) != NodeKind::sequence)
        return replace(spot.element, value);
    const std::vector<Element> items = layout_->elements(spot.value);
    for (std::size_t i = 0; i < items.size(); ++i)
        if (layout_->means(items[i].value, before))
            return replace(find(place.index(i), true).element, value);
    refuse(place, fmt::format("{} does not stand there", before));
}

void Surgeon::add(const Place& place, std::string_view value) {
    write_out(place, false);
    const Step& last = place.steps.back();
    Spot spot = find(place, false);
    if (last.kind == Step::Kind::index) {
        if (spot.depth < place.steps.size())
            refuse(place, "there is no such item");
        return renew(
            layout_->insert_before(spot.collections.back(), spot.element, written_value(value)));
    }
    const bool is_mapping = value.starts_with('{');
    if (spot.depth < place.steps.size())
        return add_missing(spot, place, value, is_mapping && last.kind == Step::Kind::key);
    if (layout_->is_empty(spot.value))
        return renew(layout_->replace(spot.element, is_mapping ? fmt::format("[{}]", value)
                                                               : std::string(value)));
    if (layout_->kind(spot.value) == NodeKind::scalar)
        return renew(
            layout_->replace(spot.element, fmt::format("[{}, {}]", layout_->flow_text(spot.value),
                                                       written_value(value))));
    if (layout_->kind(spot.value) != NodeKind::sequence)
        refuse(place, "it is no list");
    std::vector<Element> items = layout_->elements(spot.value);
    renew(layout_->insert_behind(spot.value, items.empty() ? Element{} : items.back(),
                                 {written_value(value)}));
}

void Surgeon::remove(const Place& place, const Spot& spot) {
    const Id holder = spot.collections.back();
    if (layout_->elements(holder).size() > 1)
        return renew(layout_->remove(holder, spot.element));
    Place above = place;
    above.steps.pop_back();
    Spot outer = walk(above);
    // Nothing is left: a list goes with its key, unless it says something by being there.
    const bool is_list = layout_->kind(holder) == NodeKind::sequence;
    const bool goes = is_list && !above.steps.empty() && outer.element.key != Layout::none
                      && !means_something_empty(above.steps)
                      && (above.steps.size() != 3 || inherited(above, true) == Layout::none);
    if (goes)
        return remove(above, outer);
    if (outer.collections.empty())
        refuse(place, "nothing would be left");
    renew(layout_->replace(outer.element, is_list ? "[]" : "{}"));
}

void Surgeon::remove(const Place& place, std::string_view value) {
    write_out(place, false);
    Spot spot = find(place, false);
    if (spot.depth < place.steps.size())
        return; // it is not there
    if (value.empty() || layout_->means(spot.value, value))
        return remove(place, spot);
    std::vector<Element> items = layout_->elements(spot.value);
    for (std::size_t i = 0; i < items.size(); ++i)
        if (layout_->means(items[i].value, value)) {
            Place item = place.index(i);
            return remove(item, find(item, false));
        }
}

void Surgeon::make(const PlaceChange& change) {
    switch (change.verb) {
    case PlaceChange::Verb::set: return set(change.place, change.value, change.before);
    case PlaceChange::Verb::add: return add(change.place, change.value);
    case PlaceChange::Verb::remove: return remove(change.place, change.value);
    case PlaceChange::Verb::order: break;
    }
    refuse(change.place, "entries are not put in another order");
}

} // namespace jackal::plan
