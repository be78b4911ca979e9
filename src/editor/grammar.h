// What may stand where in a plan file, as its JSON schema (schema/jackal.schema.json) says.
//
// Two keywords are our own: `x-names` lists what a text, or the key of a mapping, may be the name
// of, and `x-entry` tells of a key that names the entry behind it.
#pragma once

#include "jackal/editor/outline.h"

#include <map>

namespace jackal::editor {

/// The text of the schema.
extern const std::string_view schema;

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
    friend class GrammarReader;

    void add(Rules& rules, Id id) const;

    std::vector<Rule> rules_;
};

} // namespace jackal::editor
