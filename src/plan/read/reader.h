// What all that is read from a plan's text goes by: a document with its problems, and the reading
// of single values.
#pragma once

#include "document.h"
#include "jackal/plan/name_index.h"
#include "jackal/plan/plan.h"
#include "jackal/plan/read.h"

#include <algorithm>
#include <fmt/format.h>
#include <fmt/ranges.h>

namespace jackal::plan {

using NodeId = Document::Id;

/// The text of a value as a message shows it: short, and safe to print.
std::string shown(std::string_view text);

class Reader {
  public:
    Reader(const Document& document, std::vector<Problem>& problems)
        : document_(document), problems_(problems) {}
    // Of a part of a plan, all of which counts as written at `stands`. What its keys are together
    // is not looked at.
    Reader(const Document& document, std::vector<Problem>& problems, Mark stands)
        : document_(document), problems_(problems), stands_(stands) {}

    void problem(NodeId node, std::string message) { problem(document_.at(node), message); }
    void problem(Mark at, std::string message) {
        if (problems_.size() < Reading::most_problems && !is_mute_)
            problems_.push_back({at, std::move(message)});
    }

    // What check() does to an entry once its keys are read.
    template <class Check>
    void checked(Check check) {
        is_mute_ = bool(stands_);
        check();
        is_mute_ = false;
    }

    Mark at(NodeId node) const { return stands_ ? stands_ : document_.at(node); }
    std::string_view text(NodeId node) const { return document_.text(node); }
    NodeKind kind(NodeId node) const { return document_.kind(node); }
    bool is_empty(NodeId node) const {
        std::string_view word = kind(node) == NodeKind::scalar ? text(node) : "[]";
        return word.empty() || word == "null" || word == "Null" || word == "NULL" || word == "~";
    }

    NodeId root() const { return document_.root(); }
    const Document& document() const { return document_; }

    // Calls use(key, value) for each pair of a mapping, without looking for anything wrong; not at
    // all for what is no mapping.
    template <class Use>
    void each_pair_quietly(NodeId node, Use use) const {
        if (kind(node) != NodeKind::mapping)
            return;
        for (NodeId key = document_.first_child(node); key != Document::none;) {
            NodeId value = document_.next_sibling(key);
            use(key, value);
            key = document_.next_sibling(value);
        }
    }

    // A key of a mapping and its value, or Document::none twice; of several the last.
    std::pair<NodeId, NodeId> find(NodeId node, std::string_view name) const {
        std::pair found{Document::none, Document::none};
        each_pair_quietly(node, [&](NodeId key, NodeId value) {
            if (text(key) == name)
                found = {key, value};
        });
        return found;
    }
    bool has_key(NodeId node, std::string_view name) const {
        return find(node, name).first != Document::none;
    }

    // Calls use(key, value) for each pair of a mapping; an empty value counts as an empty
    // mapping, and a key that comes twice is a problem.
    template <class Use>
    void each_pair(NodeId node, std::string_view what, Use use) {
        if (is_empty(node))
            return;
        if (kind(node) != NodeKind::mapping)
            return problem(node, fmt::format("{} must be a mapping of keys to values", what));
        Seen seen;
        NodeId key = document_.first_child(node);
        while (key != Document::none) {
            NodeId value = document_.next_sibling(key);
            if (kind(key) != NodeKind::scalar)
                problem(key, "a key must be a single word");
            else if (!seen.add(text(key)))
                problem(key, fmt::format("{} stands here a second time", shown(text(key))));
            else
                use(key, value);
            key = document_.next_sibling(value);
        }
    }

    std::size_t pair_count(NodeId node) const {
        std::size_t children = 0;
        if (kind(node) == NodeKind::mapping)
            for (NodeId i = document_.first_child(node); i != Document::none;
                 i = document_.next_sibling(i))
                ++children;
        return children / 2;
    }

    // Calls use(item) for each item of a sequence, or once for a value that stands alone.
    template <class Use>
    void each_item(NodeId node, Use use) {
        if (kind(node) != NodeKind::sequence)
            return use(node);
        for (NodeId i = document_.first_child(node); i != Document::none;
             i = document_.next_sibling(i))
            use(i);
    }

    static std::string unknown(std::string_view what, std::string_view word,
                               const std::vector<std::string_view>& known) {
        std::string_view near = nearest_word(word, known);
        if (!near.empty())
            return fmt::format("{} is no {}; did you mean {}?", shown(word), what, near);
        return fmt::format("{} is no {}; there are {}", shown(word), what, fmt::join(known, ", "));
    }

    // The text of a scalar, or nothing and a problem.
    std::optional<std::string_view> scalar(NodeId node, std::string_view wanted) {
        if (kind(node) == NodeKind::scalar && !text(node).empty())
            return text(node);
        problem(node, fmt::format("expected {}, not {}", wanted,
                                  kind(node) == NodeKind::scalar     ? "nothing"
                                  : kind(node) == NodeKind::sequence ? "a list"
                                                                     : "a mapping"));
        return std::nullopt;
    }

    // Parses a scalar with `parse`, which gives an optional; a failure is a problem.
    template <class Parse>
    auto value(NodeId node, std::string_view wanted, Parse parse) -> decltype(parse(text(node))) {
        auto words = scalar(node, wanted);
        if (!words)
            return std::nullopt;
        auto result = parse(*words);
        if (!result)
            problem(node, fmt::format("{} is not {}", shown(*words), wanted));
        return result;
    }

    // One of a few words; the position in `words`, or nothing and a problem.
    std::optional<std::size_t> word(NodeId node, std::string_view what,
                                    const std::vector<std::string_view>& words) {
        auto said = scalar(node, fmt::format("{}", fmt::join(words, " or ")));
        if (!said)
            return std::nullopt;
        auto found = std::ranges::find(words, *said);
        if (found != words.end())
            return static_cast<std::size_t>(found - words.begin());
        std::string_view near = nearest_word(*said, words);
        problem(node, fmt::format("{} is no {}; {}", shown(*said), what,
                                  near.empty() ? fmt::format("write {}", fmt::join(words, " or "))
                                               : fmt::format("did you mean {}?", near)));
        return std::nullopt;
    }

  private:
    // The keys of one mapping so far. Most mappings have a handful, for which a search is quicker
    // than an index is made.
    class Seen {
      public:
        bool add(std::string_view key) {
            if (keys_.size() <= few) {
                if (std::ranges::find(keys_, key) != keys_.end())
                    return false;
                keys_.push_back(key);
                return true;
            }
            if (indexed_ == 0)
                while (indexed_ < keys_.size())
                    enter(indexed_);
            keys_.push_back(key);
            if (enter(indexed_))
                return true;
            keys_.pop_back();
            --indexed_;
            return false;
        }

      private:
        static constexpr std::size_t few = 8;

        bool enter(std::uint32_t row) {
            ++indexed_;
            return index_.add(row, keys_[row], [this](std::uint32_t r) { return keys_[r]; });
        }

        std::vector<std::string_view> keys_;
        NameIndex index_;
        std::uint32_t indexed_ = 0; // how many of keys_ are in index_
    };

    const Document& document_;
    std::vector<Problem>& problems_;
    Mark stands_; // unset for a whole plan
    bool is_mute_ = false;
};

// --- single values -------------------------------------------------------------------------

std::optional<std::uint64_t> parse_count(std::string_view text);
std::optional<double> parse_percent(std::string_view text);

void read_word(Reader& r, NodeId node, Placed<std::string>& into);
/// A list that stands for something and has no item: `an empty list is no WHAT`.
void refuse_empty_list(Reader& r, NodeId node, std::string_view what);

template <class Number>
std::optional<Number> read_number(Reader& r, NodeId node, std::uint64_t least, std::uint64_t most) {
    auto n =
        r.value(node, fmt::format("a whole number from {} to {}", least, most),
                [&](std::string_view text) -> std::optional<std::uint64_t> {
                    auto parsed = parse_count(text);
                    return parsed && *parsed >= least && *parsed <= most ? parsed : std::nullopt;
                });
    if (!n)
        return std::nullopt;
    return static_cast<Number>(*n);
}

// A sequence, or nothing and a problem.
template <class Use>
void read_list(Reader& r, NodeId node, std::string_view what, Use use) {
    if (r.is_empty(node))
        return;
    if (r.kind(node) != NodeKind::sequence)
        return r.problem(node, fmt::format("{} must be a list: [ … ]", what));
    r.each_item(node, use);
}

template <class T>
void read_pair(Reader& r, NodeId node, std::string_view what, T& first, T& second) {
    std::vector<NodeId> items;
    if (r.kind(node) == NodeKind::sequence)
        r.each_item(node, [&](NodeId item) { items.push_back(item); });
    if (items.size() != 2)
        return r.problem(node, fmt::format("{} takes two names: [ONE, OTHER]", what));
    read_word(r, items[0], first);
    read_word(r, items[1], second);
}

} // namespace jackal::plan
