// Places of a text as editors count them, and places of a text that has changed since.
#pragma once

#include "jackal/api.h"
#include "jackal/plan/mark.h"

#include <cstdint>
#include <memory>
#include <optional>
#include <string_view>
#include <vector>

namespace jackal::editor {

class Text;

/// A line and a place in it, both counted from 0.
struct Position {
    std::uint32_t line = 0;
    std::uint32_t unit = 0; ///< see Unit

    friend bool operator==(const Position&, const Position&) = default;
};

/// What a line is counted in.
enum class Unit : std::uint8_t {
    utf16, ///< code units of UTF-16
    utf32, ///< code points
};

/// Turns marks into positions and back. Lines end as in the Language Server Protocol (LF, CR LF,
/// CR), while marks count lines as YAML does. Refers to its text, which must outlive it.
class JACKAL_API Positions {
  public:
    Positions(std::string_view text, Unit unit);

    Position of(plan::Mark mark) const;
    plan::Mark mark(Position position) const;
    /// The byte; that of the line's end for what is behind it, the text's end for later lines.
    std::size_t offset(Position position) const;

  private:
    std::string_view text_;
    Unit unit_;
    std::shared_ptr<const Text> marks_;
    std::vector<std::size_t> starts_;
};

/// Where lines of one text are in another: those before the first that differs and those behind the
/// last.
class JACKAL_API Shift {
  public:
    Shift(std::string_view before, std::string_view after);

    /// Nothing for a place in lines that differ.
    std::optional<plan::Mark> forward(plan::Mark before) const;
    std::optional<plan::Mark> back(plan::Mark after) const;

  private:
    std::optional<plan::Mark> moved(plan::Mark at, std::uint32_t from, std::uint32_t to) const;

    std::uint32_t head_ = 0;        // lines that are the same
    std::uint32_t tail_before_ = 0; // the first line, counted from 1, from which all are
    std::uint32_t tail_after_ = 0;
};

} // namespace jackal::editor
