#include "jackal/plan/difference.h"

#include "plan/fields/tree.h"

#include <algorithm>
#include <fmt/format.h>
#include <unordered_map>

namespace jackal::plan {

namespace {

using Verb = PlaceChange::Verb;

class Differences {
  public:
    std::vector<PlaceChange> take() { return std::move(changes_); }

    void compare(const Place& place, const Value& before, const Value& after) {
        using Kind = Value::Kind;
        if (before == after)
            return;
        if (before.kind == Kind::map && after.kind == Kind::map)
            return compare_maps(place, before, after);
        if (before.kind == Kind::list && after.kind == Kind::list
            && (has_entries(before) || has_entries(after)))
            return compare_lists(place, before, after);
        note(Verb::set, place, to_text(before), to_text(after));
    }

  private:
    // A section, or a list of entries: one that is not there has none of them.
    static bool holds_entries(const Value& value) {
        return (value.kind == Value::Kind::map && value.names)
               || (value.kind == Value::Kind::list && has_entries(value));
    }
    static Value emptied(const Value& value) {
        return value.kind == Value::Kind::map ? Value::named() : Value::list({});
    }

    static bool has_entries(const Value& list) {
        return std::ranges::any_of(list.items, &Value::is_collection);
    }

    void note(Verb verb, const Place& place, std::string before, std::string after) {
        changes_.push_back({place, verb, std::move(after), std::move(before)});
    }

    void compare_maps(const Place& place, const Value& before, const Value& after) {
        std::unordered_map<std::string_view, const Value*> left; // of those after
        for (std::size_t i = 0; i < after.keys.size(); ++i)
            left.emplace(after.keys[i], &after.items[i]);
        std::vector<std::string_view> kept;
        for (std::size_t i = 0; i < before.keys.size(); ++i) {
            const std::string& key = before.keys[i];
            const Place own = before.names ? place.name(key) : place.key(key);
            auto found = left.find(key);
            if (found == left.end()) {
                if (holds_entries(before.items[i]))
                    compare(own, before.items[i], emptied(before.items[i]));
                else
                    note(Verb::remove, own, to_text(before.items[i]), "");
                continue;
            }
            compare(own, before.items[i], *found->second);
            kept.emplace_back(key);
            left.erase(found);
        }
        for (std::size_t i = 0; i < after.keys.size(); ++i)
            if (left.contains(after.keys[i])) {
                const std::string& key = after.keys[i];
                const Place own = after.names ? place.name(key) : place.key(key);
                if (holds_entries(after.items[i]))
                    compare(own, emptied(after.items[i]), after.items[i]);
                else
                    note(Verb::set, own, "", to_text(after.items[i]));
                kept.emplace_back(key);
            }
        if (after.names && !std::ranges::equal(kept, after.keys))
            note(Verb::order, place, list_text(kept), list_text(after.keys));
    }

    template <class Words>
    static std::string list_text(const Words& words) {
        std::vector<Value> items;
        for (const auto& word : words)
            items.push_back(Value::scalar(std::string(word)));
        return to_text(Value::list(std::move(items)));
    }

    // What both begin and end with is the same; between them items change, come or go.
    void compare_lists(const Place& place, const Value& before, const Value& after) {
        const auto [one, other] = std::ranges::mismatch(before.items, after.items);
        const auto begin = static_cast<std::size_t>(one - before.items.begin());
        std::size_t old_end = before.items.size();
        std::size_t new_end = after.items.size();
        while (old_end > begin && new_end > begin
               && before.items[old_end - 1] == after.items[new_end - 1]) {
            --old_end;
            --new_end;
        }
        const std::size_t both = std::min(old_end, new_end);
        for (std::size_t i = begin; i < both; ++i)
            compare(place.index(i), before.items[i], after.items[i]);
        for (std::size_t i = old_end; i > both; --i)
            note(Verb::remove, place.index(i - 1), to_text(before.items[i - 1]), "");
        for (std::size_t i = both; i < new_end; ++i)
            note(Verb::add, place.index(i), "", to_text(after.items[i]));
    }

    std::vector<PlaceChange> changes_;
};

} // namespace

std::vector<PlaceChange> difference(const Plan& before, const Plan& after) {
    Differences found;
    found.compare({}, tree_of(before), tree_of(after));
    return found.take();
}

} // namespace jackal::plan
