#include "jackal/editor/position.h"

#include "editor/text.h"

#include <algorithm>

namespace jackal::editor {

namespace {

std::size_t size_of_character(char first) {
    const auto byte = static_cast<unsigned char>(first);
    return byte < 0xc0 ? 1 : byte < 0xe0 ? 2 : byte < 0xf0 ? 3 : 4;
}

std::uint32_t units_of(std::size_t size, Unit unit) {
    return unit == Unit::utf16 && size == 4 ? 2 : 1;
}

} // namespace

Positions::Positions(std::string_view text, Unit unit)
    : text_(text), unit_(unit), marks_(std::make_shared<const Text>(text)), starts_{0} {
    for (std::size_t i = text.find_first_of("\r\n"); i != text.npos;
         i = text.find_first_of("\r\n", i)) {
        i += text[i] == '\r' && i + 1 < text.size() && text[i + 1] == '\n' ? 2 : 1;
        starts_.push_back(i);
    }
}

Position Positions::of(plan::Mark mark) const {
    const std::size_t offset = marks_->offset(mark);
    const auto line = std::ranges::upper_bound(starts_, offset) - starts_.begin() - 1;
    Position position{static_cast<std::uint32_t>(line), 0};
    for (std::size_t i = starts_[static_cast<std::size_t>(line)]; i < offset;) {
        const std::size_t size = size_of_character(text_[i]);
        position.unit += units_of(size, unit_);
        i += size;
    }
    return position;
}

std::size_t Positions::offset(Position position) const {
    if (position.line >= starts_.size())
        return text_.size();
    std::size_t i = starts_[position.line];
    for (std::uint32_t unit = 0; unit < position.unit && i < text_.size();) {
        if (text_[i] == '\n' || text_[i] == '\r')
            break;
        const std::size_t size = size_of_character(text_[i]);
        unit += units_of(size, unit_);
        i += size;
    }
    return std::min(i, text_.size());
}

plan::Mark Positions::mark(Position position) const {
    return marks_->mark(offset(position));
}

Shift::Shift(std::string_view before, std::string_view after) {
    const Text old(before);
    const Text now(after);
    const auto old_count = static_cast<std::uint32_t>(old.line_count());
    const auto now_count = static_cast<std::uint32_t>(now.line_count());
    const std::uint32_t fewer = std::min(old_count, now_count);
    while (head_ < fewer && old.line(head_ + 1) == now.line(head_ + 1))
        ++head_;
    std::uint32_t tail = 0;
    while (tail < fewer - head_ && old.line(old_count - tail) == now.line(now_count - tail))
        ++tail;
    tail_before_ = old_count - tail + 1;
    tail_after_ = now_count - tail + 1;
}

std::optional<plan::Mark> Shift::moved(plan::Mark at, std::uint32_t from, std::uint32_t to) const {
    if (at.line <= head_)
        return at;
    if (at.line < from)
        return std::nullopt;
    return plan::Mark{at.line - from + to, at.column};
}

std::optional<plan::Mark> Shift::forward(plan::Mark before) const {
    return moved(before, tail_before_, tail_after_);
}

std::optional<plan::Mark> Shift::back(plan::Mark after) const {
    return moved(after, tail_after_, tail_before_);
}

} // namespace jackal::editor
