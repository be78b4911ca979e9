// Colour for terminals, and text tables.
#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace jackal::cli {

/// Wraps words in colour, or leaves them as they are.
class Style {
  public:
    explicit Style(bool colour, bool wraps = false) : colour_(colour), wraps_(wraps) {}

    /// Colour if standard output is a terminal and NO_COLOR is not set; lines of text are broken if
    /// it is a terminal.
    static Style for_standard_output();

    /// A paragraph behind `indent` blanks: on a terminal in lines of at most 100 columns, the later
    /// ones two blanks further in; else in one line.
    std::string paragraph(std::string_view text, std::size_t indent) const;

    std::string strong(std::string_view text) const { return wrap("1", text); }
    std::string faint(std::string_view text) const { return wrap("2", text); }
    std::string good(std::string_view text) const { return wrap("32", text); }
    std::string warning(std::string_view text) const { return wrap("33", text); }
    std::string bad(std::string_view text) const { return wrap("1;31", text); }

  private:
    std::string wrap(std::string_view code, std::string_view text) const;

    bool colour_;
    bool wraps_;
};

/// Rows of cells, each column as wide as its widest cell.
class Table {
  public:
    explicit Table(std::vector<std::string> headings) : headings_(std::move(headings)) {}

    void add(std::vector<std::string> row) { rows_.push_back({std::move(row), false}); }
    /// A line of its own between the rows, which no column is widened for.
    void add_line(std::string line) { rows_.push_back({{std::move(line)}, true}); }
    /// Makes a column of numbers line up on the right.
    void right(std::size_t column) { right_.push_back(column); }

    /// The table, each line indented by `indent` spaces and ended by a line break. Headings that
    /// are all empty are left out.
    std::string text(const Style& style, std::size_t indent = 0) const;

  private:
    struct Row {
        std::vector<std::string> cells;
        bool is_line = false;
    };

    std::vector<std::string> headings_;
    std::vector<Row> rows_;
    std::vector<std::size_t> right_;
};

} // namespace jackal::cli
