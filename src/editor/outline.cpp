#include "jackal/editor/outline.h"

#include "editor/grammar.h"
#include "editor/names.h"
#include "jackal/plan/read.h"

#include <algorithm>
#include <fmt/format.h>
#include <stdexcept>

namespace jackal::editor {

using plan::Document;
using plan::Extent;
using plan::Mark;
using plan::NodeKind;
using Id = Document::Id;

namespace {

bool is_behind(Mark a, Mark b) {
    return a.line != b.line ? a.line > b.line : a.column > b.column;
}

} // namespace

struct Outline::Parts {
    explicit Parts(std::string_view of) : text(of), marks(text) {
        std::vector<plan::Problem> problems;
        document = Document::read(text, problems, &extents);
        if (document)
            names = names_in(nodes());
    }

    Nodes nodes() const { return {marks, *document, extents}; }

    // Where the value of a key, or an item, ends at the latest: before what comes next.
    Mark end(Id node, Mark before) const {
        const Extent& extent = extents[node];
        return extent.end && extent.style != Extent::Style::block ? extent.end : before;
    }

    std::vector<Symbol> symbols_of(Id node, Mark end, const Grammar::Rules& rules,
                                   bool with_parts) const;
    Symbol symbol(Id key, Id value, Mark end, const Grammar::Rules& rules, bool with_parts) const;
    std::string label(Id item) const;
    std::string short_text(Id node) const;

    const std::string text;
    const Text marks;
    std::vector<Extent> extents;
    std::optional<Document> document;
    Names names;
};

Outline::Outline(std::unique_ptr<Parts> parts) : parts_(std::move(parts)) {}
Outline::Outline(Outline&&) noexcept = default;
Outline& Outline::operator=(Outline&&) noexcept = default;
Outline::~Outline() = default;

std::optional<Outline> Outline::read(std::string_view text) {
    auto parts = std::make_unique<Parts>(text);
    if (!parts->document)
        return std::nullopt;
    return Outline(std::move(parts));
}

const std::vector<Mention>& Outline::mentions() const {
    return parts_->names.mentions;
}

const Mention* Outline::at(Mark mark) const {
    const auto& all = mentions();
    auto behind = std::ranges::partition_point(
        all, [&](const Mention& mention) { return !is_behind(mention.at.begin, mark); });
    return behind != all.begin() && std::prev(behind)->at.holds(mark) ? &*std::prev(behind)
                                                                      : nullptr;
}

const Mention* Outline::entry(const Mention& mention) const {
    return parts_->names.entry(mention.kind, mention.name);
}

std::vector<Mention> Outline::uses(const Mention& mention) const {
    std::vector<Mention> found;
    for (const Mention& other : mentions())
        if (other.kind == mention.kind && other.name == mention.name)
            found.push_back(other);
    return found;
}

std::vector<std::string> Outline::names(Kind kind) const {
    std::vector<std::string> names;
    for (const Mention& mention : mentions())
        if (mention.is_entry && mention.kind == kind) {
            names.push_back(mention.name);
            for (std::size_t i = 1; kind == Kind::machine && i <= count(mention.name); ++i)
                names.push_back(fmt::format("{}-{}", mention.name, i));
        }
    return names;
}

std::size_t Outline::count(std::string_view machine) const {
    auto found = parts_->names.counts.find(std::string(machine));
    return found == parts_->names.counts.end() ? 0 : found->second;
}

std::optional<Spot> Outline::spot(Mark mark) const {
    const Document& document = *parts_->document;
    Spot spot;
    Grammar::Rules rules = Grammar::of_plans().top();
    auto stands_at = [&](Id node) {
        return Span{document.at(node), parts_->end(node, document.at(node))}.holds(mark);
    };
    for (Id node = document.root();;) {
        if (document.kind(node) == NodeKind::scalar || document.is_alias(node)) {
            if (!stands_at(node))
                return std::nullopt;
            spot.at = {document.at(node), parts_->end(node, document.at(node))};
            spot.about = Grammar::of_plans().about(rules);
            return spot;
        }
        // The last one that starts before.
        const bool is_mapping = document.kind(node) == NodeKind::mapping;
        Id key = Document::none;
        Id value = Document::none;
        std::size_t index = 0;
        for (Id child = document.first_child(node);
             child != Document::none && !is_behind(document.at(child), mark);) {
            key = child;
            value = is_mapping ? document.next_sibling(child) : child;
            child = document.next_sibling(value);
            ++index;
        }
        if (value == Document::none)
            return spot.path.empty() ? std::nullopt : std::optional(spot);
        if (is_mapping) {
            spot.path.push_back({std::string(document.text(key)), 0});
            rules = Grammar::of_plans().behind(rules, document.text(key));
            if (stands_at(key)) {
                spot.at = {document.at(key), parts_->end(key, document.at(key))};
                spot.is_key = true;
                spot.about = Grammar::of_plans().about(rules);
                return spot;
            }
            if (is_behind(document.at(value), mark))
                return std::nullopt;
        } else {
            spot.path.push_back({"", index - 1});
            rules = Grammar::of_plans().item(rules, index - 1);
        }
        node = value;
    }
}

std::vector<Symbol> Outline::symbols() const {
    const Text& marks = parts_->marks;
    const Id root = parts_->document->root();
    if (parts_->document->kind(root) != NodeKind::mapping)
        return {};
    return parts_->symbols_of(root, marks.mark(marks.whole().size()), Grammar::of_plans().top(),
                              true);
}

std::string Outline::Parts::short_text(Id node) const {
    constexpr std::size_t most = 40;
    if (document->kind(node) == NodeKind::scalar)
        return plan::printable(document->text(node).substr(0, most));
    std::string list;
    if (document->kind(node) == NodeKind::sequence && !document->is_alias(node))
        for (Id item = document->first_child(node); item != Document::none && list.size() < most;
             item = document->next_sibling(item))
            list += (list.empty() ? "" : " -- ") + short_text(item);
    return list;
}

// What an item of a list is about: the value of its first key, or itself.
std::string Outline::Parts::label(Id item) const {
    if (document->kind(item) != NodeKind::mapping || document->is_alias(item))
        return short_text(item);
    const Id key = document->first_child(item);
    if (key == Document::none)
        return "";
    const std::string says = short_text(document->next_sibling(key));
    return document->text(key) == "between" || document->text(key) == "subnet"
               ? says
               : fmt::format("{} {}", document->text(key), says);
}

Symbol Outline::Parts::symbol(Id key, Id value, Mark behind, const Grammar::Rules& rules,
                              bool with_parts) const {
    Symbol symbol;
    symbol.name = plan::printable(document->text(key));
    symbol.at = {document->at(key), end(key, document->at(key))};
    for (Grammar::Id id : rules)
        if (Grammar::of_plans()[id].entry)
            symbol.kind = Grammar::of_plans()[id].entry;
    const auto inner = Grammar::of_plans().behind(rules, document->text(key));
    if (document->kind(value) == NodeKind::scalar)
        symbol.detail = short_text(value);
    else if (!document->is_alias(value) && (with_parts || symbol.kind == Kind::device))
        symbol.parts = symbols_of(value, behind, inner, symbol.kind.has_value());
    return symbol;
}

std::vector<Symbol> Outline::Parts::symbols_of(Id node, Mark behind, const Grammar::Rules& rules,
                                               bool with_parts) const {
    std::vector<Symbol> symbols;
    const bool is_mapping = document->kind(node) == NodeKind::mapping;
    for (Id child = document->first_child(node); child != Document::none;) {
        const Id value = is_mapping ? document->next_sibling(child) : child;
        const Id next = document->next_sibling(value);
        const Mark last = end(value, next == Document::none ? behind : document->at(next));
        if (is_mapping) {
            symbols.push_back(symbol(child, value, last, rules, with_parts));
        } else {
            Symbol item{.name = label(child)};
            item.at = {document->at(child), end(child, document->at(child))};
            symbols.push_back(std::move(item));
        }
        symbols.back().whole = {document->at(child), last};
        if (is_behind(symbols.back().at.end, last))
            symbols.back().at.end = last;
        if (symbols.back().name.empty())
            symbols.back().name = "(empty)";
        child = next;
    }
    return symbols;
}

std::vector<TextChange> rename(std::string_view text, const Outline& outline, Mark mark,
                               const std::string& name) {
    const Mention* mention = outline.at(mark);
    if (mention == nullptr)
        throw std::invalid_argument("nothing that has a name stands here");
    if (!plan::is_name(name))
        throw std::invalid_argument(fmt::format("\"{}\" is no name: a-z, 0-9 and inner hyphens, at "
                                                "most 63 of them",
                                                plan::printable(name)));
    std::vector<TextChange> changes;
    for (const Mention& use : outline.uses(*mention))
        changes.push_back({use.at, name});
    if (plan::read(text, "plan").plan) {
        const plan::Reading after = plan::read(changed(text, changes), "plan");
        if (!after.plan)
            throw std::invalid_argument(after.problems.front().message);
    }
    return changes;
}

} // namespace jackal::editor
