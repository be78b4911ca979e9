#include "editor/cursor.h"

#include <algorithm>
#include <optional>

namespace jackal::editor {

namespace {

class Scanner {
  public:
    explicit Scanner(std::string_view text) : text_(text) {}

    Cursor run() {
        while (!is_last_line())
            take_line(next_line());
        return take_last(next_line());
    }

  private:
    // A collection that is open.
    struct Frame {
        std::size_t indent = 0;
        bool is_list = false;
        std::size_t index = 0;
        std::string key; // whose value is being written; empty between pairs
        std::set<std::string> taken;

        void take_key(std::string_view written) {
            key = written;
            std::erase_if(key, [](char c) { return c == '"' || c == '\''; });
            while (key.ends_with(' '))
                key.pop_back();
            taken.insert(key);
        }
    };

    bool is_last_line() const { return text_.find('\n', at_) == text_.npos; }

    // Without its break; at_ is behind that.
    std::string_view next_line() {
        is_comment_ = false;
        line_begin_ = at_;
        const std::size_t end = std::min(text_.find('\n', at_), text_.size());
        at_ = std::min(end + 1, text_.size());
        std::string_view line = text_.substr(line_begin_, end - line_begin_);
        return line.ends_with('\r') ? line.substr(0, line.size() - 1) : line;
    }

    static std::size_t indent_of(std::string_view line) {
        return std::min(line.find_first_not_of(" \t"), line.size());
    }

    // Into what the line belongs, as far as it is indented.
    void close_to(std::size_t indent, bool is_dash) {
        while (!block_.empty()
               && (block_.back().indent > indent
                   || (block_.back().indent == indent && block_.back().is_list && !is_dash)))
            block_.pop_back();
    }

    Frame& frame(std::size_t indent, bool is_list) {
        if (block_.empty() || block_.back().indent < indent || block_.back().is_list != is_list)
            block_.push_back({indent, is_list});
        return block_.back();
    }

    // Dashes, then a key: gives where the value starts, or where a key would.
    std::size_t take_head(std::string_view line, bool& has_key) {
        std::size_t at = indent_of(line);
        has_key = false;
        auto is_dash = [&] {
            return at < line.size() && line[at] == '-'
                   && (at + 1 == line.size() || line[at + 1] == ' ');
        };
        close_to(at, is_dash());
        while (is_dash()) {
            const bool is_open =
                !block_.empty() && block_.back().indent == at && block_.back().is_list;
            Frame& list = frame(at, true);
            list.index += is_open ? 1 : 0;
            at = std::min(line.find_first_not_of(' ', at + 1), line.size());
        }
        const std::size_t colon = key_end(line, at);
        if (colon == line.npos)
            return at;
        Frame& mapping = frame(at, false);
        mapping.take_key(line.substr(at, colon - at));
        has_key = true;
        return std::min(line.find_first_not_of(' ', colon + 1), line.size());
    }

    // The colon behind a key that starts at `at`, or npos.
    static std::size_t key_end(std::string_view line, std::size_t at) {
        if (at < line.size() && (line[at] == '{' || line[at] == '[' || line[at] == '#'))
            return line.npos;
        for (char quote = 0; at < line.size(); ++at) {
            const char c = line[at];
            if (quote != 0)
                quote = c == quote ? 0 : quote;
            else if (c == '"' || c == '\'')
                quote = c;
            else if (c == ' ' && at + 1 < line.size() && line[at + 1] == '#')
                return line.npos;
            else if (c == ':' && (at + 1 == line.size() || line[at + 1] == ' '))
                return at;
        }
        return line.npos;
    }

    void take_line(std::string_view line) {
        if (flow_.empty()) {
            const std::size_t indent = indent_of(line);
            if (indent == line.size() || line[indent] == '#')
                return;
            if (literal_ && indent > *literal_)
                return;
            literal_.reset();
            bool has_key = false;
            const std::size_t value = take_head(line, has_key);
            if (value < line.size() && (line[value] == '|' || line[value] == '>'))
                literal_ = indent;
            take_flow(line, value);
        } else {
            take_flow(line, 0);
        }
    }

    // What stands in brackets from there on; gives where the word begins that is being written.
    std::size_t take_flow(std::string_view line, std::size_t at) {
        std::size_t word = skip(line, at);
        char quote = 0;
        for (; at < line.size(); ++at) {
            const char c = line[at];
            if (quote != 0) {
                quote = c == quote ? 0 : quote;
            } else if (c == '#' && (at == 0 || line[at - 1] == ' ')) {
                is_comment_ = true;
                return line.size();
            } else if ((c == '"' || c == '\'') && word == at) {
                quote = c;
            } else if (flow_.empty() && c != '{' && c != '[') {
                continue; // a plain text
            } else if (flow_.empty() && word != at) {
                continue;
            } else if (c == '{' || c == '[') {
                flow_.push_back({0, c == '['});
                word = skip(line, at + 1);
            } else if (c == '}' || c == ']') {
                flow_.pop_back();
                word = skip(line, at + 1);
            } else if (c == ',') {
                flow_.back().key.clear();
                ++flow_.back().index;
                word = skip(line, at + 1);
            } else if (c == ':' && !flow_.back().is_list
                       && (at + 1 == line.size() || line[at + 1] == ' ')) {
                flow_.back().take_key(line.substr(word, at - word));
                word = skip(line, at + 1);
            }
        }
        return std::min(word, line.size());
    }

    static std::size_t skip(std::string_view line, std::size_t at) {
        return std::min(line.find_first_not_of(' ', at), line.size());
    }

    // The line with the place at its end.
    Cursor take_last(std::string_view line) {
        Cursor cursor;
        const std::size_t indent = indent_of(line);
        if (literal_ && indent > *literal_ && flow_.empty())
            return cursor;
        if (!flow_.empty()) {
            const std::size_t word = take_flow(line, 0);
            return is_comment_ || flow_.empty() ? cursor : flow_cursor(word);
        }
        if (indent < line.size() && line[indent] == '#')
            return cursor;
        bool has_key = false;
        const std::size_t value = take_head(line, has_key);
        const std::size_t word = take_flow(line, value);
        if (is_comment_)
            return cursor;
        if (!flow_.empty())
            return flow_cursor(word);
        cursor.word_begin = line_begin_ + value;
        if (has_key) {
            cursor.path = path();
            // `key:` and no space yet.
            cursor.may_be_value = !line.ends_with(':');
            return cursor;
        }
        // A key at that indentation, or the value of the key before, on a line of its own.
        Frame* inner = block_.empty() ? nullptr : &block_.back();
        if (inner != nullptr && !inner->is_list && inner->indent == value) {
            cursor.taken = inner->taken;
            inner->key.clear();
        }
        cursor.path = path();
        cursor.may_be_key = true;
        cursor.may_be_value = inner != nullptr && inner->indent < value;
        return cursor;
    }

    Cursor flow_cursor(std::size_t word) {
        Cursor cursor;
        Frame& inner = flow_.back();
        cursor.is_flow = true;
        cursor.word_begin = line_begin_ + word;
        cursor.may_be_key = !inner.is_list && inner.key.empty();
        cursor.may_be_value = !cursor.may_be_key;
        if (cursor.may_be_key)
            cursor.taken = inner.taken;
        cursor.path = path();
        return cursor;
    }

    std::vector<Step> path() const {
        std::vector<Step> path;
        for (const auto* frames : {&block_, &flow_})
            for (const Frame& frame : *frames)
                if (frame.is_list)
                    path.push_back({"", frame.index});
                else if (!frame.key.empty())
                    path.push_back({frame.key, 0});
        return path;
    }

    std::string_view text_;
    std::size_t at_ = 0;
    std::size_t line_begin_ = 0;
    std::vector<Frame> block_;
    std::vector<Frame> flow_;
    std::optional<std::size_t> literal_; // the indentation of a key with `|` or `>` behind it
    bool is_comment_ = false;            // what was taken of the line last is one
};

} // namespace

Cursor cursor_at(std::string_view text, std::size_t offset) {
    return Scanner(text.substr(0, offset)).run();
}

} // namespace jackal::editor
