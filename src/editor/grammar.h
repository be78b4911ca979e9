// What may stand where in a plan file, as the tables of its fields say (plan/fields).
#pragma once

#include "jackal/editor/outline.h"

#include <map>

namespace jackal::editor {

class Grammar {
  public:
    using Id = std::uint32_t;

    /// What may stand at a place, or one alternative of it.
    struct Rule {
        std::string about;
        std::map<std::string, Id, std::less<>> keys;
        std::optional<Id> other_keys; ///< whatever else a mapping has
        std::optional<Id> items;
        std::vector<Id> tuple; ///< of a list of so many
        std::vector<std::string> words;
        std::vector<Kind> names;
        std::vector<Kind> key_names; ///< of those that are not in keys
        std::optional<Kind> entry;   ///< what those name
        std::vector<Id> forms;       ///< itself, and the rules of which any holds, too
    };
    /// The rules that may hold at a place.
    using Rules = std::vector<Id>;

    static const Grammar& of_plans();

    const Rule& operator[](Id id) const { return rules_[id]; }
    Rules top() const { return rules_[0].forms; }
    Rules behind(const Rules& rules, std::string_view key) const;
    Rules item(const Rules& rules, std::size_t index) const;
    Rules along(const std::vector<Step>& path) const;
    /// What a key, or what stands at a place, is for.
    std::string about(const Rules& rules) const;

  private:
    friend class GrammarMaker;

    void add(Rules& rules, Id id) const;

    std::vector<Rule> rules_;
};

} // namespace jackal::editor
