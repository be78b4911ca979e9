#include "plan/fields/change.h"

#include "plan/edit/layout.h"

#include <algorithm>

namespace jackal::plan {

namespace {

Value value_of(const Document& document, NodeId node) {
    switch (document.kind(node)) {
    case NodeKind::scalar: return Value::scalar(std::string(document.text(node)));
    case NodeKind::sequence: {
        Value list = Value::list({});
        for (NodeId i = document.first_child(node); i != Document::none;
             i = document.next_sibling(i))
            list.items.push_back(value_of(document, i));
        return list;
    }
    case NodeKind::mapping: break;
    }
    Value map = Value::map();
    for (NodeId key = document.first_child(node); key != Document::none;) {
        const NodeId value = document.next_sibling(key);
        map.add(std::string(document.text(key)), value_of(document, value));
        key = document.next_sibling(value);
    }
    return map;
}

// One value that stands alone is a list of it.
std::vector<Value> items_of(Value value) {
    if (value.kind == Value::Kind::list)
        return std::move(value.items);
    std::vector<Value> items;
    if (value)
        items.push_back(std::move(value));
    return items;
}

class Alteration {
  public:
    Alteration(Change& change, Value value) : change_(change), value_(std::move(value)) {}

    void make(Value& at, Steps rest) {
        if (rest.empty())
            return make(at);
        if (rest.front().kind == Place::Step::Kind::index)
            return make_in_list(at, rest);
        if (at.kind == Value::Kind::none)
            at = Value::map();
        if (at.kind != Value::Kind::map)
            return change_.refuse(rest.front());
        const std::string& key = rest.front().word;
        if (at.find(key) == nullptr) {
            at.keys.push_back(key);
            at.items.emplace_back();
        }
        Value& inner = *at.find(key);
        make(inner, rest.subspan(1));
        if (inner)
            return;
        const auto place = std::ranges::find(at.keys, key) - at.keys.begin();
        at.items.erase(at.items.begin() + place);
        at.keys.erase(at.keys.begin() + place);
    }

  private:
    void make(Value& at) {
        switch (change_.of().verb) {
        case Change::Verb::set: return set(at);
        case Change::Verb::add: {
            std::vector<Value> items = items_of(std::move(at));
            if (std::ranges::find(items, value_) == items.end())
                items.push_back(value_);
            at = Value::one_or_list(std::move(items));
            return;
        }
        case Change::Verb::remove:
            if (!value_) {
                at = {};
            } else if (at) {
                std::vector<Value> items = items_of(std::move(at));
                std::erase(items, value_);
                at = remaining(std::move(items), change_.of().place.steps);
            }
            return;
        case Change::Verb::order: break;
        }
        order(at);
    }

    static Value remaining(std::vector<Value> items, Steps list) {
        return items.empty() && !means_something_empty(list) ? Value{}
                                                             : Value::list(std::move(items));
    }

    // Of a list with one item that is told by what it was, that one.
    void set(Value& at) {
        if (at.kind == Value::Kind::list && !change_.of().before.empty()) {
            auto was = std::ranges::find_if(
                at.items, [&](const Value& item) { return to_text(item) == change_.of().before; });
            if (was != at.items.end())
                return void(*was = value_);
        }
        at = value_;
    }

    void order(Value& map) {
        Value ordered = Value::map();
        for (const Value& name : value_.items)
            if (Value* item = map.find(name.text))
                ordered.add(name.text, std::move(*item));
        for (std::size_t i = 0; i < map.keys.size(); ++i)
            if (ordered.find(map.keys[i]) == nullptr)
                ordered.add(map.keys[i], std::move(map.items[i]));
        map = std::move(ordered);
    }

    void make_in_list(Value& at, Steps rest) {
        std::vector<Value> items = items_of(std::move(at));
        const std::size_t i = rest.front().index;
        const auto place = items.begin() + static_cast<std::ptrdiff_t>(std::min(i, items.size()));
        const bool is_last = rest.size() == 1;
        if (is_last && change_.of().verb == Change::Verb::add)
            items.insert(place, value_);
        else if (place == items.end())
            change_.refuse(rest.front());
        else if (is_last && change_.of().verb == Change::Verb::remove)
            items.erase(place);
        else
            make(*place, rest.subspan(1));
        const Steps all = change_.of().place.steps;
        at = remaining(std::move(items), all.first(all.size() - rest.size()));
    }

    Change& change_;
    Value value_;
};

} // namespace

void Change::refuse(const Place::Step& step) {
    refuse(step.kind == Place::Step::Kind::index
               ? fmt::format("there is no number {} in the list", step.index)
               : fmt::format("there is no {}", shown(step.word)));
}

void Change::alter(Value& value, Steps rest) {
    Value brought;
    if (!of().value.empty())
        read_value([&](Reader& r, NodeId node) { brought = value_of(r.document(), node); });
    if (applies())
        Alteration(*this, std::move(brought)).make(value, rest);
}

void Change::alter_all(Value& entry, Steps rest) {
    const std::size_t depth = of().place.steps.size() - rest.size();
    const std::vector<Place::Step> above(
        of().place.steps.begin(), of().place.steps.begin() + static_cast<std::ptrdiff_t>(depth));
    alter(entry, rest);
    auto is_inside = [&](const Place& place) {
        return place.steps.size() > depth
               && std::equal(above.begin(), above.end(), place.steps.begin());
    };
    while (applies() && !behind().empty() && is_inside(behind().front().place)) {
        changes_ = behind();
        alter(entry, Steps(of().place.steps).subspan(depth));
    }
}

void Change::read(const Value& value, const std::function<void(Reader&, NodeId)>& use) {
    if (applies())
        read_text(to_text(value), use);
}

void Change::read_value(const std::function<void(Reader&, NodeId)>& use) {
    if (applies())
        read_text(written_value(of().value), use);
}

void Change::read_text(std::string_view text, const std::function<void(Reader&, NodeId)>& use) {
    std::vector<Problem> problems;
    if (auto document = Document::read(text, problems)) {
        Reader reader(*document, problems, at ? at : Mark{1, 1});
        use(reader, document->root());
    }
    if (!problems.empty())
        refuse(std::move(problems.front().message));
}

} // namespace jackal::plan
