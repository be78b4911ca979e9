#include "jackal/export/reference.h"
#include "plan/fields/shape.h"

#include <algorithm>
#include <cctype>
#include <fmt/format.h>
#include <functional>
#include <set>
#include <stdexcept>

namespace jackal::exports {

namespace {

using plan::Sort;

// Every sort of entry once, as it is met from the top of a plan down.
class Sorts {
  public:
    Sorts() { meet(plan::sort_of_plans()); }

    const std::vector<const Sort*>& all() const { return met_; }

  private:
    void meet(const Sort& sort) {
        if (std::ranges::find(met_, &sort) != met_.end())
            return;
        met_.push_back(&sort);
        for (const plan::Row& row : sort.rows)
            meet(row.shape());
        if (sort.others)
            meet(*sort.others);
    }
    void meet(const plan::Shape& shape) {
        if (shape.sort != nullptr)
            meet(shape.sort());
        for (const auto* inner : {&shape.list, &shape.map, &shape.forms})
            for (const plan::Shape& one : *inner)
                meet(one);
    }

    std::vector<const Sort*> met_;
};

const Sorts& sorts() {
    static const Sorts all;
    return all;
}

bool is_needed(const Sort& sort, std::string_view key) {
    return std::ranges::any_of(sort.rules, [&](const plan::Rule& rule) {
        return rule.kind == plan::Rule::Kind::needs
               && std::ranges::find(rule.keys, key) != rule.keys.end();
    });
}

} // namespace

std::vector<std::string> sorts_of_entries() {
    std::vector<std::string> names;
    for (const Sort* sort : sorts().all())
        names.emplace_back(sort->name);
    return names;
}

namespace {

// The words that a value may be, of whatever form.
void add_words(const plan::Shape& shape, std::set<std::string_view>& words) {
    words.insert(shape.words.begin(), shape.words.end());
    if (shape.is_flag)
        words.insert({"true", "false"});
    for (const auto* inner : {&shape.forms, &shape.list})
        for (const plan::Shape& each : *inner)
            add_words(each, words);
}

// A sentence with the words that its key takes as code.
std::string with_code(std::string_view sentence, const std::set<std::string_view>& words) {
    auto is_inside = [](char c) {
        return std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '-';
    };
    std::string text;
    for (std::size_t i = 0; i < sentence.size();) {
        std::size_t end = i;
        while (end < sentence.size() && is_inside(sentence[end]))
            ++end;
        const std::string_view word = sentence.substr(i, end - i);
        text += words.contains(word) ? fmt::format("`{}`", word) : std::string(word);
        i = end;
        if (i < sentence.size())
            text += sentence[i++];
    }
    return text;
}

} // namespace

std::string key_table(std::string_view name) {
    auto found = std::ranges::find(sorts().all(), name, &Sort::name);
    if (found == sorts().all().end())
        return "";
    std::string table = "| key | holds | default |\n|---|---|---|\n";
    for (const plan::Row& row : (*found)->rows) {
        std::set<std::string_view> words;
        add_words(row.shape(), words);
        table +=
            fmt::format("| `{}` | {}{} |{}|\n", row.key, with_code(row.about, words),
                        is_needed(**found, row.key) ? "; required" : "",
                        row.usual.empty() ? " " : fmt::format(" {} ", with_code(row.usual, words)));
    }
    return table;
}

std::string with_key_tables(std::string_view text) {
    constexpr std::string_view begin = "<!-- keys of ";
    constexpr std::string_view end = "<!-- end -->\n";
    std::string result;
    while (true) {
        const std::size_t mark = text.find(begin);
        if (mark == text.npos)
            return result += text;
        const std::size_t line_end = text.find('\n', mark);
        std::string_view line = text.substr(mark, line_end - mark);
        std::string_view name = line.substr(begin.size(), line.find(" -->") - begin.size());
        const std::string table = key_table(name);
        const std::size_t behind = text.find(end, mark);
        if (table.empty() || behind == text.npos)
            throw std::invalid_argument(std::string(line));
        result += text.substr(0, line_end + 1);
        result += table;
        text.remove_prefix(behind);
        result += end;
        text.remove_prefix(end.size());
    }
}

} // namespace jackal::exports
