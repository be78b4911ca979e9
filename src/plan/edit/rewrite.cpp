#include "jackal/plan/rewrite.h"

#include "plan/edit/lines.h"
#include "plan/read/document.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::plan {

namespace {

// True for a line that says nothing: blank, a comment, or the end of the document.
bool is_silent(std::string_view line) {
    std::size_t first = line.find_first_not_of(" \t\r\n");
    return first == line.npos || line[first] == '#' || line.starts_with("...");
}

class Section {
  public:
    Section(std::string_view text, const Document& document, std::string_view key)
        : text_(text), document_(document), lines_(text), key_(key) {}

    Rewriting replace(std::string_view body) {
        Rewriting result;
        Document::Id root = document_.root();
        if (document_.kind(root) != NodeKind::mapping
            || text_.substr(lines_.offset(document_.at(root))).starts_with("{")) {
            result.problems.push_back(
                {document_.at(root),
                 fmt::format("`{}` can only be written into a file whose sections stand on lines "
                             "of their own, not between braces",
                             key_)});
            return result;
        }
        indent_ = document_.at(root).column - 1;
        for (Document::Id i = document_.first_child(root); i != Document::none;
             i = document_.next_sibling(document_.next_sibling(i)))
            if (document_.text(i) == key_)
                find_lines(i);
        if (first_ == 0)
            result.text = with_lines_at(body, end_of_text(), end_of_text());
        else if (auto comment = comment_inside(body))
            result.problems.push_back(
                {*comment, fmt::format("this comment would be lost, as `{}` is written anew; move "
                                       "it above the section",
                                       key_)});
        else
            result.text = with_lines_at(body, lines_.start(first_), lines_.start(last_ + 1));
        return result;
    }

  private:
    void find_lines(Document::Id key) {
        Document::Id next = document_.next_sibling(document_.next_sibling(key));
        first_ = document_.at(key).line;
        last_ = next == Document::none ? lines_.count() : document_.at(next).line - 1;
        while (last_ > first_ && is_silent(lines_.line(last_)))
            --last_;
    }

    // The first comment of the old section that `body` does not have on its first line too.
    std::optional<Mark> comment_inside(std::string_view body) const {
        std::string_view kept = comment_of(body.substr(0, body.find('\n')));
        for (std::size_t i = first_; i <= last_; ++i)
            if (std::string_view comment = comment_of(lines_.line(i));
                !comment.empty() && (i > first_ || comment != kept))
                return Mark{static_cast<std::uint32_t>(i),
                            static_cast<std::uint32_t>(lines_.line(i).find('#') + 1)};
        return std::nullopt;
    }

    static std::string_view comment_of(std::string_view line) {
        std::size_t begin = line.find('#');
        std::size_t end = line.find_last_not_of(" \t\r\n");
        return begin == line.npos ? "" : line.substr(begin, end - begin + 1);
    }

    // Behind all lines, but before the end of the document where that is marked (YAML 1.1, 9.1.2).
    std::size_t end_of_text() const {
        for (std::size_t i = lines_.count(); i > 0 && is_silent(lines_.line(i)); --i)
            if (lines_.line(i).starts_with("..."))
                return lines_.start(i);
        return text_.size();
    }

    std::string with_lines_at(std::string_view body, std::size_t begin, std::size_t end) const {
        std::string_view line_end =
            text_.substr(0, text_.find('\n')).ends_with('\r') ? "\r\n" : "\n";
        std::string result(text_.substr(0, begin));
        if (first_ == 0 && !body.empty()) {
            if (!result.empty() && !result.ends_with('\n'))
                result += line_end;
            result += line_end;
        }
        while (!body.empty()) {
            std::size_t size = body.find('\n');
            result += std::string(indent_, ' ');
            result += body.substr(0, size);
            result += line_end;
            body.remove_prefix(size + 1);
        }
        return result += text_.substr(end);
    }

    std::string_view text_;
    const Document& document_;
    Lines lines_;
    std::string_view key_;
    std::size_t indent_ = 0;
    std::size_t first_ = 0; // lines of the old section; 0 if there is none
    std::size_t last_ = 0;
};

class Values {
  public:
    Values(std::string_view text, const Document& document, const ValueChange& change)
        : text_(text), document_(document), lines_(text), change_(change) {}

    Rewriting run() {
        visit(document_.root());
        Rewriting result;
        result.problems = std::move(problems_);
        if (!result.problems.empty())
            return result;
        std::ranges::sort(places_, {}, &Place::begin);
        result.text.emplace();
        std::size_t done = 0;
        for (const Place& place : places_) {
            *result.text += text_.substr(done, place.begin - done);
            *result.text += place.value;
            done = place.begin + place.size;
        }
        *result.text += text_.substr(done);
        return result;
    }

  private:
    struct Place {
        std::size_t begin;
        std::size_t size;
        std::string value;
    };

    // Aliases are left out: what they stand for is changed where it is written.
    void visit(Document::Id id) {
        if (document_.is_alias(id))
            return;
        switch (document_.kind(id)) {
        case NodeKind::scalar: return visit_value(id);
        case NodeKind::sequence: {
            std::size_t position = 0;
            for (Document::Id i = document_.first_child(id); i != Document::none;
                 i = document_.next_sibling(i)) {
                std::string name = fmt::format("{}", position++);
                path_.push_back(name);
                visit(i);
                path_.pop_back();
            }
            return;
        }
        case NodeKind::mapping:
            for (Document::Id key = document_.first_child(id); key != Document::none;
                 key = document_.next_sibling(document_.next_sibling(key))) {
                path_.push_back(document_.text(key));
                visit(document_.next_sibling(key));
                path_.pop_back();
            }
        }
    }

    void visit_value(Document::Id id) {
        std::string_view value = document_.text(id);
        auto changed = change_({path_, document_.at(id), value});
        if (!changed || *changed == value)
            return;
        std::size_t begin = lines_.offset(document_.at(id));
        std::string_view rest = text_.substr(begin);
        if (rest.starts_with('"') || rest.starts_with('\'')) {
            char quote = rest.front();
            rest.remove_prefix(1);
            ++begin;
            if (!rest.starts_with(value) || !rest.substr(value.size()).starts_with(quote))
                return in_the_way(id);
        } else if (!rest.starts_with(value)) {
            return in_the_way(id);
        }
        places_.push_back({begin, value.size(), std::move(*changed)});
    }

    void in_the_way(Document::Id id) {
        problems_.push_back({document_.at(id),
                             fmt::format("{} is written in a way that cannot be changed in place; "
                                         "change it by hand",
                                         document_.text(id))});
    }

    std::string_view text_;
    const Document& document_;
    Lines lines_;
    const ValueChange& change_;
    std::vector<std::string_view> path_;
    std::vector<Place> places_;
    std::vector<Problem> problems_;
};

std::optional<Document> read_text(std::string_view text, std::vector<Problem>& problems) {
    if (is_utf16(text)) {
        problems.push_back({{}, "only files in UTF-8 can be changed; this one is UTF-16"});
        return std::nullopt;
    }
    return Document::read(text, problems);
}

} // namespace

Rewriting replace_section(std::string_view text, std::string_view key, std::string_view lines) {
    Rewriting result;
    if (auto document = read_text(text, result.problems))
        return Section(text, *document, key).replace(lines);
    return result;
}

Rewriting replace_values(std::string_view text, const ValueChange& change) {
    Rewriting result;
    if (auto document = read_text(text, result.problems))
        return Values(text, *document, change).run();
    return result;
}

} // namespace jackal::plan
