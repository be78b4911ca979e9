// The names in the text of a plan: where each is given, where it is used, and what stands around.
//
//     auto outline = editor::Outline::read(text);
//     if (const editor::Mention* mention = outline->at({12, 15}))
//         for (const editor::Mention& use : outline->uses(*mention)) …
//
// The text need not be a plan that reads, only YAML: names that mean nothing are left out.
#pragma once

#include "jackal/api.h"
#include "jackal/plan/mark.h"
#include "jackal/plan/name_kind.h"

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace jackal::editor {

/// From a mark up to the one behind.
struct Span {
    plan::Mark begin;
    plan::Mark end;

    bool holds(plan::Mark at) const;
    friend bool operator==(const Span&, const Span&) = default;
};

using Kind = plan::NameKind;

/// A name where it stands in the text.
struct Mention {
    Kind kind = Kind::machine;
    std::string name; ///< of the entry; `SWITCH/PORT` for a port
    Span at;          ///< of the name alone: PORT for a port
    bool is_entry = false;
};

/// A piece of text in the place of another.
struct TextChange {
    Span at;
    std::string text;
};

/// Part of a plan, for a table of contents.
struct Symbol {
    std::string name;
    std::string detail;
    std::optional<Kind> kind; ///< unset for a section
    Span whole;
    Span at; ///< of its name, inside of whole
    std::vector<Symbol> parts;
};

/// A step on the way from the top of a plan to a value: a key, or a position in a list.
struct Step {
    std::string key; ///< empty for a position
    std::size_t index = 0;
};

/// A key or a value, and how one gets to it.
struct Spot {
    std::vector<Step> path; ///< to the value, also where it is its key that is meant
    Span at;                ///< unset for a collection
    bool is_key = false;
    std::string about; ///< what the key is for
};

class JACKAL_API Outline {
  public:
    /// Nothing if the text is no YAML. O(n log n).
    static std::optional<Outline> read(std::string_view text);

    Outline(Outline&&) noexcept;
    Outline& operator=(Outline&&) noexcept;
    ~Outline();

    /// All, in the order of the text.
    const std::vector<Mention>& mentions() const;
    /// The one that holds the mark, or null. Between two names it is the one before.
    const Mention* at(plan::Mark mark) const;
    /// Where the name is given; null if a plan never says.
    const Mention* entry(const Mention& mention) const;
    /// Its entry and all that mean it.
    std::vector<Mention> uses(const Mention& mention) const;
    /// Every name of the kind that is given, as it is used elsewhere.
    std::vector<std::string> names(Kind kind) const;
    /// Machines that an entry with `count` stands for are mentioned by its name; 0 without one.
    std::size_t count(std::string_view machine) const;

    std::optional<Spot> spot(plan::Mark mark) const;
    std::vector<Symbol> symbols() const;

  private:
    struct Parts;
    explicit Outline(std::unique_ptr<Parts> parts);

    std::unique_ptr<Parts> parts_;
};

/// What gives the thing at `mark` another name, wherever it is mentioned. Throws
/// std::invalid_argument if nothing with a name stands there, or the text would no longer read as a
/// plan though it does now; the message says why.
JACKAL_API std::vector<TextChange> rename(std::string_view text, const Outline& outline,
                                          plan::Mark mark, const std::string& name);

/// The text with the changes, which do not overlap.
JACKAL_API std::string changed(std::string_view text, const std::vector<TextChange>& changes);

/// The lines that turn one text into another.
JACKAL_API std::vector<TextChange> difference(std::string_view before, std::string_view after);

} // namespace jackal::editor
