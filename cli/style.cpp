#include "style.h"

#include <algorithm>
#include <cstdlib>
#include <fmt/format.h>
#include <unistd.h>

namespace jackal::cli {

namespace {

// Columns on a terminal: bytes but for UTF-8 continuation bytes and colour codes.
std::size_t width(std::string_view text) {
    std::size_t columns = 0;
    bool escape = false;
    for (unsigned char c : text) {
        if (c == 0x1b)
            escape = true;
        else if (escape)
            escape = c != 'm';
        else if ((c & 0xc0) != 0x80)
            ++columns;
    }
    return columns;
}

} // namespace

Style Style::for_standard_output() {
    const char* no_colour = std::getenv("NO_COLOR");
    const char* terminal = std::getenv("TERM");
    bool dumb = terminal == nullptr || std::string_view(terminal) == "dumb";
    bool terminal_there = isatty(STDOUT_FILENO) == 1;
    return Style(terminal_there && !dumb && (no_colour == nullptr || *no_colour == '\0'),
                 terminal_there);
}

std::string Style::paragraph(std::string_view text, std::size_t indent) const {
    constexpr std::size_t widest = 100;
    std::string out(indent, ' ');
    std::size_t column = indent;
    bool first = true;
    while (!text.empty()) {
        std::size_t end = std::min(text.find(' '), text.size());
        std::string_view word = text.substr(0, end);
        text.remove_prefix(std::min(end + 1, text.size()));
        if (!first && wraps_ && column + 1 + width(word) > widest) {
            out += '\n' + std::string(indent + 2, ' ');
            column = indent + 2;
        } else if (!first) {
            out += ' ';
            ++column;
        }
        out += word;
        column += width(word);
        first = false;
    }
    return out;
}

std::string Style::wrap(std::string_view code, std::string_view text) const {
    return colour_ ? fmt::format("\x1b[{}m{}\x1b[0m", code, text) : std::string(text);
}

std::string Table::text(const Style& style, std::size_t indent) const {
    std::vector<std::size_t> widths;
    for (const std::string& heading : headings_)
        widths.push_back(width(heading));
    for (const Row& row : rows_)
        for (std::size_t i = 0; i < row.cells.size() && !row.is_line; ++i)
            widths[i] = std::max(widths[i], width(row.cells[i]));

    std::string out;
    auto add_cells = [&](const std::vector<std::string>& cells, bool heading) {
        std::string line(indent, ' ');
        std::size_t owed = 0; // blanks before the next cell; none are left at the line's end
        for (std::size_t i = 0; i < cells.size(); ++i) {
            std::size_t gap = widths[i] - width(cells[i]);
            bool to_the_right = std::ranges::find(right_, i) != right_.end();
            if (!cells[i].empty()) {
                line.append(owed + (to_the_right ? gap : 0), ' ');
                line += heading ? style.faint(cells[i]) : cells[i];
                owed = (to_the_right ? 0 : gap) + 2;
            } else {
                owed += widths[i] + 2;
            }
        }
        out += line + '\n';
    };
    if (std::ranges::any_of(headings_, [](const auto& h) { return !h.empty(); }))
        add_cells(headings_, true);
    for (const Row& row : rows_) {
        if (row.is_line)
            out += row.cells.front() + '\n';
        else
            add_cells(row.cells, false);
    }
    return out;
}

} // namespace jackal::cli
