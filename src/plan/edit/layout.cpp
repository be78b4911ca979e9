#include "plan/edit/layout.h"

#include "jackal/net/address.h"
#include "jackal/net/mac.h"
#include "plan/characters.h"
#include "plan/read/parameters.h"

#include <fmt/format.h>
#include <stdexcept>

namespace jackal::plan {

std::string spliced(std::string_view text, std::vector<Splice> splices) {
    std::ranges::stable_sort(splices, {}, &Splice::begin);
    std::string result;
    std::size_t done = 0;
    for (const Splice& splice : splices) {
        result += text.substr(done, splice.begin - done);
        result += splice.text;
        done = splice.begin + splice.size;
    }
    return result += text.substr(done);
}

namespace {

bool is_blank(char c) {
    return c == ' ' || c == '\t' || c == '\r' || c == '\n';
}

std::string in_quotes(std::string_view text) {
    std::string result = "\"";
    while (!text.empty()) {
        const auto [size, number] = front_character(text);
        const std::string_view character = text.substr(0, std::max<std::size_t>(size, 1));
        if (number == '"' || number == '\\')
            result += fmt::format("\\{}", character);
        else if (number == '\n')
            result += "\\n";
        else if (size == 1 && !is_printable(number))
            result += fmt::format("\\x{:02x}", static_cast<std::uint32_t>(number));
        else if (size != 0 && !is_printable(number))
            result += fmt::format("\\U{:08x}", static_cast<std::uint32_t>(number));
        else
            result += character;
        text.remove_prefix(character.size());
    }
    return result + '"';
}

// A text that means itself without quotes, in flow style too (YAML 1.1, 5.3 and 9.1.3).
bool is_plain(std::string_view text) {
    constexpr std::string_view first_forbidden = "-?:,[]{}#&*!|>'\"%@`= ";
    if (text.empty() || text.back() == ' ')
        return false;
    bool has_inner_dash = text.front() == '-' && text.size() > 1 && text[1] != ' ';
    if (first_forbidden.find(text.front()) != text.npos && !has_inner_dash)
        return false;
    if (text.find_first_of(":,[]{}#\"") != text.npos)
        return false;
    while (!text.empty()) {
        const auto [size, number] = front_character(text);
        if (size == 0 || !is_printable(number))
            return false;
        text.remove_prefix(size);
    }
    return true;
}

} // namespace

std::string written_value(std::string_view text) {
    bool is_written =
        !text.empty() && (text.front() == '{' || text.front() == '[' || text.front() == '"');
    return is_written || is_plain(text) ? std::string(text) : in_quotes(text);
}

std::string written_scalar(std::string_view text) {
    const bool says_nothing = text == "null" || text == "Null" || text == "NULL" || text == "~";
    return is_plain(text) && !says_nothing ? std::string(text) : in_quotes(text);
}

// --- what stands where -------------------------------------------------------------------------

Layout::Layout(std::string text, const Settings& settings) : text_(std::move(text)), lines_(text_) {
    std::vector<Problem> problems;
    document_ = Document::read(text_, problems, &extents_);
    if (document_) {
        Reader reader(*document_, problems);
        fill_in_parameters(*document_, reader, settings);
    }
    if (!problems.empty())
        throw std::invalid_argument(problems.front().message);
}

std::vector<Layout::Element> Layout::elements(Id collection) const {
    std::vector<Element> result;
    const bool is_mapping = kind(collection) == NodeKind::mapping;
    if (!is_mapping && kind(collection) != NodeKind::sequence)
        return result;
    for (Id i = document_->first_child(collection); i != none; i = document_->next_sibling(i)) {
        if (!is_mapping) {
            result.push_back({none, i});
            continue;
        }
        Id value = document_->next_sibling(i);
        result.push_back({i, value});
        i = value;
    }
    return result;
}

bool Layout::means(Id scalar, std::string_view word) const {
    if (kind(scalar) != NodeKind::scalar)
        return false;
    std::string_view text = says(scalar);
    if (text == word)
        return true;
    auto as_number = [](std::string_view t) {
        auto address = net::parse_address(t);
        return address && address->family() == net::Family::ipv4 ? std::optional(address->low())
                                                                 : parse_count(t);
    };
    if (auto one = as_number(text))
        return one == as_number(word);
    if (auto one = net::parse_address(text))
        return one == net::parse_address(word);
    if (auto one = net::parse_prefix(text))
        return one == net::parse_prefix(word);
    auto one = net::parse_mac(text);
    return one && one == net::parse_mac(word);
}

Layout::Element Layout::find(Id mapping, std::string_view key) const {
    if (kind(mapping) != NodeKind::mapping)
        return {};
    Element alike;
    for (const Element& element : elements(mapping)) {
        if (kind(element.key) == NodeKind::scalar && says(element.key) == key)
            return element;
        if (alike.key == none && means(element.key, key))
            alike = element;
    }
    return alike;
}

bool Layout::is_empty(Id id) const {
    if (kind(id) != NodeKind::scalar || extents_[id].style != Extent::Style::plain)
        return false;
    std::string_view word = says(id);
    return word.empty() || word == "null" || word == "Null" || word == "NULL" || word == "~";
}

std::size_t Layout::begin(Element element) const {
    return begin(element.key == none ? element.value : element.key);
}

// Behind anchor and tag.
std::size_t Layout::body(Id id) const {
    std::size_t i = begin(id);
    while (i < text_.size() && (text_[i] == '&' || text_[i] == '!')) {
        while (i < text_.size() && !plan::is_blank(text_[i]))
            ++i;
        while (i < text_.size() && plan::is_blank(text_[i]))
            ++i;
    }
    return std::min(i, end(id));
}

std::size_t Layout::end(Id id) const {
    const Extent& extent = extents_[id];
    const bool is_block = extent.style == Extent::Style::block;
    if (is_block && document_->kind(id) != NodeKind::scalar) {
        Id last = document_->first_child(id);
        while (document_->next_sibling(last) != none)
            last = document_->next_sibling(last);
        return end(last);
    }
    std::size_t i = std::max(lines_.offset(extent.end), begin(id));
    while (is_block && i > begin(id) && plan::is_blank(text_[i - 1]))
        --i;
    return i;
}

std::string_view Layout::anchor(Id id) const {
    if (!extents_[id].is_anchor && extents_[id].style != Extent::Style::alias)
        return {};
    std::size_t i = text_.find_first_of("&*", begin(id));
    std::size_t last = i + 1;
    while (last < text_.size() && !plan::is_blank(text_[last])
           && std::string_view(",[]{}").find(text_[last]) == std::string_view::npos)
        ++last;
    return part(i + 1, last);
}

std::size_t Layout::indent(Id collection) const {
    Element first = elements(collection).front();
    return first.key != none ? document_->at(first.key).column - 1
                             : dash(first) - line_begin(dash(first));
}

std::size_t Layout::line_break(std::size_t byte) const {
    std::size_t i = next_line(byte);
    if (i > line_begin(byte) && text_[i - 1] == '\n')
        --i;
    if (i > line_begin(byte) && text_[i - 1] == '\r')
        --i;
    return i;
}

// Where the `-` of an item in block style stands: before it, on its line or one above.
std::size_t Layout::dash(Element item) const {
    const std::size_t from = begin(item.value);
    std::string_view before = part(line_begin(from), from);
    for (std::size_t line = lines_.line_of(from);; --line) {
        if (std::size_t comment = before.find('#'); comment != before.npos)
            before = before.substr(0, comment);
        std::size_t last = before.find_last_not_of(" \t\r\n");
        if (last != before.npos)
            return lines_.start(line) + last;
        if (line == 1)
            return from;
        before = lines_.line(line - 1);
    }
}

std::size_t Layout::colon(Id key) const {
    return text_.find(':', end(key));
}

// The next byte that is neither blank nor part of a comment.
std::size_t Layout::significant(std::size_t byte) const {
    for (; byte < text_.size(); ++byte) {
        if (text_[byte] == '#' && byte > 0 && plan::is_blank(text_[byte - 1]))
            byte = line_break(byte) - 1;
        else if (!plan::is_blank(text_[byte]))
            break;
    }
    return byte;
}

bool Layout::is_first_on_line(std::size_t byte) const {
    std::string_view before = part(line_begin(byte), byte);
    return before.find_first_not_of(' ') == before.npos;
}

bool Layout::is_blank(std::size_t line) const {
    return lines_.line(line).find_first_not_of(" \t\r\n") == std::string_view::npos;
}

// True if the last two entries have a blank line between them.
bool Layout::is_spaced(const std::vector<Element>& all) const {
    if (all.size() < 2)
        return false;
    std::size_t last = lines_.line_of(begin(all.back()));
    for (std::size_t line = lines_.line_of(end(all[all.size() - 2].value)) + 1; line < last; ++line)
        if (is_blank(line))
            return true;
    return false;
}

std::string Layout::line_end() const {
    return text_.substr(0, text_.find('\n')).ends_with('\r') ? "\r\n" : "\n";
}

std::string Layout::flow_text(Id id) const {
    if (document_->is_alias(id))
        return fmt::format("*{}", anchor(id));
    if (kind(id) == NodeKind::scalar) {
        std::string_view as_it_is = source(id);
        if (as_it_is.empty())
            return "";
        bool is_quoted = extents_[id].style == Extent::Style::quoted
                         && as_it_is.find_first_of("\r\n") == as_it_is.npos;
        return std::string(is_quoted || is_plain(as_it_is) ? as_it_is
                                                           : std::string_view(in_quotes(says(id))));
    }
    std::string inner;
    for (const Element& element : elements(id)) {
        inner += inner.empty() ? "" : ", ";
        if (element.key != none)
            inner += flow_text(element.key) + ": ";
        inner += flow_text(element.value);
    }
    return kind(id) == NodeKind::mapping ? "{" + inner + "}" : "[" + inner + "]";
}

// --- changes -----------------------------------------------------------------------------------

// What stands behind the `|` or `>` of a block scalar: " # why", or nothing.
std::string Layout::header_comment(Id id) const {
    if (kind(id) != NodeKind::scalar || extents_[id].style != Extent::Style::block)
        return "";
    const std::string_view header = part(body(id), line_break(body(id)));
    const std::size_t mark = header.find(" #");
    return std::string(header.substr(std::min(mark, header.size())));
}

std::vector<Splice> Layout::replace(Element element, std::string_view value) const {
    std::string now = written_value(value);
    const Extent& old = extents_[element.value];
    if (document_->is_alias(element.value))
        return {replace_alias(element.value, now)};
    if (old.style == Extent::Style::block || end(element.value) == body(element.value)) {
        const bool has_key = element.key != none;
        std::size_t from = has_key ? colon(element.key) + 1 : begin(element.value);
        std::size_t size = std::max(end(element.value), from) - from;
        return {{from, size, (has_key ? " " : "") + now + header_comment(element.value)}};
    }
    std::size_t from = body(element.value);
    const bool is_flow = now.front() == '{' || now.front() == '[';
    if (old.style == Extent::Style::quoted && now == value && !is_flow)
        now = fmt::format("{0}{1}{0}", text_[from], now);
    return {{from, end(element.value) - from, now}};
}

std::vector<Splice> Layout::insert_flow(Id collection, Element after, std::string_view item) const {
    if (after.value == none) {
        std::vector<Element> all = elements(collection);
        if (!all.empty())
            return insert_before(collection, all.front(), item);
        std::size_t inside = body(collection) + 1;
        std::string_view old = part(inside, end(collection) - 1);
        bool is_bare = old.find_first_not_of(' ') == old.npos;
        return {{inside, is_bare ? old.size() : 0, std::string(item)}};
    }
    const std::size_t behind = end(after.value);
    const std::size_t comma = significant(behind);
    const bool has_comma = comma < text_.size() && text_[comma] == ',';
    const std::size_t last = has_comma ? comma + 1 : behind;
    const bool ends_line = significant(last) >= line_break(last);
    if (is_first_on_line(begin(after)) && ends_line) {
        std::size_t column = begin(after) - line_begin(begin(after));
        std::vector<Splice> result;
        if (!has_comma)
            result.push_back({behind, 0, ","});
        result.push_back({line_break(last), 0,
                          fmt::format("{}{}{}{}", line_end(), std::string(column, ' '), item,
                                      has_comma ? "," : "")});
        return result;
    }
    const bool is_trailing = has_comma && significant(last) + 1 == end(collection);
    if (is_trailing)
        return {{last, 0, fmt::format(" {}", item)}};
    return {{behind, 0, fmt::format(", {}", item)}};
}

std::vector<Splice> Layout::insert_behind(Id collection, Element after,
                                          const std::vector<std::string>& lines) const {
    if (is_flow(collection))
        return insert_flow(collection, after, lines.front());
    const std::vector<Element> all = elements(collection);
    const bool is_list = kind(collection) == NodeKind::sequence;
    const std::string margin(indent(collection), ' ');
    std::string added;
    if (is_spaced(all))
        added += line_end();
    for (std::size_t i = 0; i < lines.size(); ++i)
        added += fmt::format("{}{}{}{}", margin, is_list ? (i == 0 ? "- " : "  ") : "", lines[i],
                             line_end());
    std::size_t from = next_line(end(after.value));
    if (from == text_.size() && !text_.ends_with('\n')) {
        added.resize(added.size() - line_end().size());
        added.insert(0, line_end());
    }
    return {{from, 0, added}};
}

std::vector<Splice> Layout::insert_before(Id collection, Element next,
                                          std::string_view item) const {
    if (is_flow(collection)) {
        std::size_t from = begin(next);
        std::size_t column = from - line_begin(from);
        bool is_own = is_first_on_line(from);
        return {{from, 0,
                 fmt::format("{},{}{}", item, is_own ? line_end() : " ",
                             std::string(is_own ? column : 0, ' '))}};
    }
    // Comments right above tell of what is there now.
    std::size_t at = dash(next);
    std::size_t line = lines_.line_of(at);
    if (!is_first_on_line(at))
        throw std::invalid_argument("a list starts on the line of another here");
    const std::size_t column = at - lines_.start(line);
    while (line > 1) {
        std::string_view above = lines_.line(line - 1);
        std::size_t first = above.find_first_not_of(' ');
        if (first != column || above[first] != '#')
            break;
        --line;
    }
    return {{lines_.start(line), 0,
             fmt::format("{}- {}{}", std::string(column, ' '), item, line_end())}};
}

std::vector<Splice> Layout::remove_flow(Id collection, const std::vector<Element>& all,
                                        std::size_t number) const {
    const Element& element = all[number];
    const std::size_t first = begin(element);
    const std::size_t behind = end(element.value);
    const std::size_t comma = significant(behind);
    const bool has_comma = comma + 1 < end(collection) && text_[comma] == ',';
    const std::size_t last = has_comma ? comma + 1 : behind;
    if (is_first_on_line(first) && significant(last) >= line_break(last)) {
        std::vector<Splice> result;
        if (!has_comma && number > 0)
            if (std::size_t other = significant(end(all[number - 1].value)); text_[other] == ',')
                result.push_back({other, 1, ""});
        result.push_back({line_begin(first), next_line(last) - line_begin(first), ""});
        return result;
    }
    if (number > 0) {
        std::size_t from = end(all[number - 1].value);
        return {{from, behind - from, ""}};
    }
    std::size_t next = begin(all[1]);
    return {{first, next - first, ""}};
}

std::vector<Splice> Layout::remove(Id collection, Element element) const {
    const std::vector<Element> all = elements(collection);
    auto found = std::ranges::find(all, element.value, &Element::value);
    const auto number = static_cast<std::size_t>(found - all.begin());
    if (is_flow(collection))
        return remove_flow(collection, all, number);
    std::size_t first = element.key == none ? dash(element) : begin(element.key);
    if (!is_first_on_line(first)) { // behind the `-` of an item that it starts
        if (number + 1 == all.size())
            throw std::invalid_argument("it stands on the line of another list");
        std::size_t next = element.key == none ? dash(all[number + 1]) : begin(all[number + 1]);
        return {{first, next - first, ""}};
    }
    std::size_t from = line_begin(first);
    std::size_t to = next_line(end(element.value));
    if (to == text_.size() && !text_.ends_with('\n') && from > 0)
        from = line_break(from - 1);
    return {{from, to - from, ""}};
}

std::vector<Splice> Layout::remove_anchor(Id id) const {
    std::size_t from = text_.find('&', begin(id));
    std::size_t to = from + 1 + anchor(id).size();
    if (to < text_.size() && text_[to] == ' ')
        ++to;
    else if (from > 0 && text_[from - 1] == ' ')
        --from;
    return {{from, to - from, ""}};
}

Splice Layout::replace_alias(Id id, std::string value) const {
    return {begin(id), end(id) - begin(id), std::move(value)};
}

} // namespace jackal::plan
