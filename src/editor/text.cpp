#include "editor/text.h"

#include <algorithm>
#include <dtl/dtl.hpp>
#include <stdexcept>

namespace jackal::editor {

namespace {

std::uint32_t code_points(std::string_view text) {
    return static_cast<std::uint32_t>(std::ranges::count_if(
        text, [](char c) { return (static_cast<unsigned char>(c) & 0xc0) != 0x80; }));
}

// With their breaks.
std::vector<std::string> lines_of(std::string_view text) {
    std::vector<std::string> lines;
    while (!text.empty()) {
        const std::size_t size = std::min(text.find('\n'), text.size() - 1) + 1;
        lines.emplace_back(text.substr(0, size));
        text.remove_prefix(size);
    }
    return lines;
}

} // namespace

bool Span::holds(plan::Mark at) const {
    auto before = [](plan::Mark a, plan::Mark b) {
        return a.line != b.line ? a.line < b.line : a.column < b.column;
    };
    return !before(at, begin) && !before(end, at);
}

std::string_view Text::line(std::uint32_t number) const {
    std::string_view line = lines_.line(number);
    while (!line.empty() && (line.back() == '\n' || line.back() == '\r'))
        line.remove_suffix(1);
    return line;
}

plan::Mark Text::mark(std::size_t offset) const {
    const std::size_t line = lines_.line_of(std::min(offset, text_.size()));
    const std::size_t start = lines_.start(line);
    return {static_cast<std::uint32_t>(line),
            1 + code_points(text_.substr(start, std::max(offset, start) - start))};
}

std::string_view Text::part(Span span) const {
    const std::size_t begin = offset(span.begin);
    return text_.substr(begin, std::max(offset(span.end), begin) - begin);
}

Span Text::word(plan::Mark at) const {
    const std::size_t begin = offset(at);
    std::string_view rest = text_.substr(begin);
    rest = rest.substr(0, rest.find_first_of("\r\n"));
    const std::size_t comment = rest.find(" #");
    rest = rest.substr(0, comment);
    if (!rest.starts_with('{') && !rest.starts_with('[') && !rest.starts_with('-')) {
        std::size_t size = rest.find_first_of(" ,]}");
        rest = rest.substr(0, size);
        if (rest.ends_with(':'))
            rest.remove_suffix(1);
    }
    while (rest.ends_with(' '))
        rest.remove_suffix(1);
    return {at, mark(begin + rest.size())};
}

std::string changed(std::string_view text, const std::vector<TextChange>& changes) {
    const Text marks(text);
    std::vector<std::pair<std::size_t, const TextChange*>> order;
    for (const TextChange& change : changes)
        order.emplace_back(marks.offset(change.at.begin), &change);
    std::ranges::stable_sort(order, {}, [](const auto& entry) { return entry.first; });
    std::string result;
    std::size_t done = 0;
    for (const auto& [begin, change] : order) {
        result += text.substr(done, begin - done);
        result += change->text;
        done = std::max(marks.offset(change->at.end), begin);
    }
    return result += text.substr(std::min(done, text.size()));
}

std::vector<TextChange> difference(std::string_view before, std::string_view after) {
    dtl::Diff<std::string> found(lines_of(before), lines_of(after));
    found.compose();
    std::vector<TextChange> changes;
    std::uint32_t line = 1;
    bool is_open = false;
    for (const auto& [text, info] : found.getSes().getSequence()) {
        if (info.type == dtl::SES_COMMON) {
            is_open = false;
            ++line;
            continue;
        }
        if (!is_open)
            changes.push_back({{{line, 1}, {line, 1}}, ""});
        is_open = true;
        if (info.type == dtl::SES_ADD)
            changes.back().text += text;
        else
            changes.back().at.end = {++line, 1};
    }
    // A last line without an end ends where its text does.
    const Text marks(before);
    for (TextChange& change : changes)
        if (change.at.end.line > marks.line_count())
            change.at.end = marks.mark(before.size());
    return changes;
}

} // namespace jackal::editor
