// Marks of a plan file as bytes of its text.
#pragma once

#include "jackal/plan/mark.h"

#include <algorithm>
#include <string_view>
#include <vector>

namespace jackal::plan {

/// Bytes of a line break as libyaml counts lines, or 0: CR LF, CR, LF, NEL, LS, PS.
inline std::size_t break_size(std::string_view text, std::size_t at) {
    std::string_view rest = text.substr(at);
    if (rest.starts_with("\r\n") || rest.starts_with("\xc2\x85"))
        return 2;
    if (rest.starts_with("\xe2\x80\xa8") || rest.starts_with("\xe2\x80\xa9"))
        return 3;
    return rest.front() == '\n' || rest.front() == '\r' ? 1 : 0;
}

/// Where the lines of a text are.
class Lines {
  public:
    explicit Lines(std::string_view text) : text_(text) {
        starts_.push_back(text.starts_with("\xef\xbb\xbf") ? 3 : 0);
        for (std::size_t i = starts_.front(); i < text.size();) {
            std::size_t size = break_size(text, i);
            i += std::max<std::size_t>(size, 1);
            if (size > 0)
                starts_.push_back(i);
        }
        starts_.push_back(text.size());
    }

    /// The byte at which line `line` starts, counted from 1; the end for lines beyond the last.
    std::size_t start(std::size_t line) const {
        return starts_[std::min(line - 1, starts_.size() - 1)];
    }
    std::size_t count() const { return starts_.size() - 1; }
    /// The line that a byte is on, counted from 1.
    std::size_t line_of(std::size_t byte) const {
        auto behind = std::ranges::upper_bound(starts_.begin(), starts_.end() - 1, byte);
        return static_cast<std::size_t>(std::max<std::ptrdiff_t>(behind - starts_.begin(), 1));
    }
    std::string_view line(std::size_t number) const {
        return text_.substr(start(number), start(number + 1) - start(number));
    }

    /// The byte that a mark means; columns count code points.
    std::size_t offset(Mark at) const {
        std::size_t i = start(at.line);
        for (std::uint32_t column = 1; column < at.column && i < text_.size(); ++column) {
            ++i;
            while (i < text_.size() && (static_cast<unsigned char>(text_[i]) & 0xc0) == 0x80)
                ++i;
        }
        return i;
    }

  private:
    std::string_view text_;
    std::vector<std::size_t> starts_;
};

inline bool is_utf16(std::string_view text) {
    return text.starts_with("\xff\xfe") || text.starts_with("\xfe\xff");
}

} // namespace jackal::plan
