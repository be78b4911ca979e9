// Marks and spans of a text.
#pragma once

#include "jackal/editor/outline.h"
#include "plan/edit/lines.h"

namespace jackal::editor {

/// Refers to the text, which must outlive it.
class Text {
  public:
    explicit Text(std::string_view text) : text_(text), lines_(text) {}

    std::string_view whole() const { return text_; }
    std::size_t line_count() const { return lines_.count(); }
    /// Without its break.
    std::string_view line(std::uint32_t number) const;
    std::size_t offset(plan::Mark at) const { return lines_.offset(at); }
    plan::Mark mark(std::size_t offset) const;
    std::string_view part(Span span) const;
    /// What stands at the mark: a name or value, or the rest of the line where a collection starts.
    Span word(plan::Mark at) const;

  private:
    std::string_view text_;
    plan::Lines lines_;
};

} // namespace jackal::editor
