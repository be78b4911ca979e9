#include "editor/grammar.h"

#include "plan/fields/shape.h"

#include <algorithm>

namespace jackal::editor {

using plan::Shape;
using plan::Sort;

class GrammarMaker {
  public:
    Grammar make() {
        sort(plan::sort_of_plans());
        std::vector<char> is_done(grammar_.rules_.size());
        for (Grammar::Id id = 0; id < grammar_.rules_.size(); ++id)
            spread(id, is_done);
        return std::move(grammar_);
    }

  private:
    // A new rule, which is a form of itself.
    Grammar::Id blank() {
        const auto id = static_cast<Grammar::Id>(grammar_.rules_.size());
        grammar_.rules_.emplace_back().forms.push_back(id);
        return id;
    }

    // Each sort of entry once, as they hold each other in circles.
    Grammar::Id sort(const Sort& of) {
        if (auto known = sorts_.find(&of); known != sorts_.end())
            return known->second;
        const Grammar::Id id = blank();
        sorts_.emplace(&of, id);
        for (const plan::Row& row : of.rows) {
            const Grammar::Id key = blank();
            const Grammar::Id value = shape(row.shape());
            grammar_.rules_[key].about = plan::sentence(row);
            grammar_.rules_[key].forms.push_back(value);
            grammar_.rules_[id].keys.emplace(row.key, key);
        }
        if (of.others)
            add_map(id, *of.others);
        return id;
    }

    Grammar::Id shape(const Shape& of) {
        if (of.sort != nullptr)
            return sort(of.sort());
        const Grammar::Id id = blank();
        Grammar::Rules forms;
        for (const Shape& form : of.forms)
            forms.push_back(shape(form));
        Grammar::Rules items;
        for (const Shape& item : of.list)
            items.push_back(shape(item));
        if (!of.map.empty())
            add_map(id, of);
        Grammar::Rule& rule = grammar_.rules_[id];
        rule.forms.insert(rule.forms.end(), forms.begin(), forms.end());
        if (of.is_tuple)
            rule.tuple = std::move(items);
        else if (!items.empty())
            rule.items = items.front();
        rule.words.assign(of.words.begin(), of.words.end());
        if (of.is_flag)
            rule.words = {"true", "false"};
        rule.names = of.names;
        if (!of.about.empty())
            rule.about = plan::sentence(of.about);
        return id;
    }

    void add_map(Grammar::Id id, const Shape& of) {
        const Grammar::Id value = shape(of.map.back());
        grammar_.rules_[id].other_keys = value;
        grammar_.rules_[id].key_names = of.map.front().names;
        grammar_.rules_[id].entry = of.entries;
    }

    // The forms of the forms.
    void spread(Grammar::Id id, std::vector<char>& is_done) {
        if (std::exchange(is_done[id], true))
            return;
        Grammar::Rules all;
        for (Grammar::Id form : std::exchange(grammar_.rules_[id].forms, {})) {
            if (form != id)
                spread(form, is_done);
            for (Grammar::Id one : form == id ? Grammar::Rules{id} : grammar_.rules_[form].forms)
                if (std::ranges::find(all, one) == all.end())
                    all.push_back(one);
        }
        grammar_.rules_[id].forms = std::move(all);
    }

    std::map<const Sort*, Grammar::Id> sorts_;
    Grammar grammar_;
};

const Grammar& Grammar::of_plans() {
    static const Grammar grammar = GrammarMaker().make();
    return grammar;
}

void Grammar::add(Rules& rules, Id id) const {
    rules.insert(rules.end(), rules_[id].forms.begin(), rules_[id].forms.end());
}

Grammar::Rules Grammar::behind(const Rules& rules, std::string_view key) const {
    Rules found;
    for (Id id : rules) {
        const Rule& rule = rules_[id];
        if (auto own = rule.keys.find(key); own != rule.keys.end())
            add(found, own->second);
        else if (rule.other_keys)
            add(found, *rule.other_keys);
    }
    return found;
}

Grammar::Rules Grammar::item(const Rules& rules, std::size_t index) const {
    Rules found;
    for (Id id : rules) {
        const Rule& rule = rules_[id];
        if (index < rule.tuple.size())
            add(found, rule.tuple[index]);
        else if (rule.items)
            add(found, *rule.items);
    }
    if (found.empty())
        return found;
    // What is said of the names in a list is said of its items.
    std::ranges::copy_if(rules, std::back_inserter(found),
                         [&](Id id) { return !rules_[id].names.empty(); });
    return found;
}

Grammar::Rules Grammar::along(const std::vector<Step>& path) const {
    Rules rules = top();
    for (const Step& step : path)
        rules = step.key.empty() ? item(rules, step.index) : behind(rules, step.key);
    return rules;
}

std::string Grammar::about(const Rules& rules) const {
    for (Id id : rules)
        if (!rules_[id].about.empty())
            return rules_[id].about;
    return "";
}

} // namespace jackal::editor
