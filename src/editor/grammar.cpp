#include "editor/grammar.h"

#include <algorithm>
#include <nlohmann/json.hpp>

namespace jackal::editor {

using nlohmann::json;

class GrammarReader {
  public:
    explicit GrammarReader(const json& of) : schema_(of) {}

    Grammar read() {
        rule(schema_);
        std::vector<char> is_done(grammar_.rules_.size());
        for (Grammar::Id id = 0; id < grammar_.rules_.size(); ++id)
            spread(id, is_done);
        return std::move(grammar_);
    }

  private:
    static std::optional<Kind> kind(std::string_view word) {
        for (std::size_t i = 0; i <= static_cast<std::size_t>(Kind::cut); ++i)
            if (to_string(static_cast<Kind>(i)) == word)
                return static_cast<Kind>(i);
        return std::nullopt;
    }

    static std::vector<Kind> kinds(const json& node) {
        std::vector<Kind> kinds;
        for (const std::string word : node.value("x-names", json::array()))
            if (auto known = kind(word))
                kinds.push_back(*known);
        return kinds;
    }

    // Each definition once, as they refer to each other in circles.
    Grammar::Id rule(const json& node) {
        auto [known, is_new] =
            ids_.try_emplace(&node, static_cast<Grammar::Id>(grammar_.rules_.size()));
        const Grammar::Id id = known->second;
        if (!is_new)
            return id;
        grammar_.rules_.emplace_back();
        Grammar::Rule rule = read(node);
        rule.forms.insert(rule.forms.begin(), id);
        grammar_.rules_[id] = std::move(rule);
        return id;
    }

    Grammar::Rule read(const json& node) {
        Grammar::Rule rule;
        rule.about = node.value("description", "");
        if (auto keys = node.find("properties"); keys != node.end())
            for (const auto& [key, value] : keys->items())
                rule.keys.emplace(key, this->rule(value));
        if (auto other = node.find("additionalProperties");
            other != node.end() && other->is_object())
            rule.other_keys = this->rule(*other);
        if (auto items = node.find("items"); items != node.end() && items->is_object())
            rule.items = this->rule(*items);
        if (auto items = node.find("prefixItems"); items != node.end())
            for (const json& item : *items)
                rule.tuple.push_back(this->rule(item));
        for (const json& word : node.value("enum", json::array()))
            rule.words.push_back(word.is_string() ? word.get<std::string>() : word.dump());
        if (auto word = node.find("const"); word != node.end() && word->is_string())
            rule.words.push_back(*word);
        if (node.value("type", json()) == "boolean")
            rule.words = {"true", "false"};
        rule.names = kinds(node);
        if (auto keys = node.find("propertyNames"); keys != node.end()) {
            rule.key_names = kinds(*keys);
            rule.entry = kind(keys->value("x-entry", ""));
        }
        if (auto named = node.find("$ref"); named != node.end())
            rule.forms.push_back(
                this->rule(schema_.at(json::json_pointer(named->get<std::string>().substr(1)))));
        if (auto forms = node.find("anyOf"); forms != node.end())
            for (const json& form : *forms)
                rule.forms.push_back(this->rule(form));
        return rule;
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

    const json& schema_;
    std::map<const json*, Grammar::Id> ids_;
    Grammar grammar_;
};

const Grammar& Grammar::of_plans() {
    static const Grammar grammar = GrammarReader(json::parse(schema)).read();
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
