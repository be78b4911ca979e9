// The text of a plan file with its nodes: where each stands, and how the text reads with an entry
// more, less or other. All the rest of it stays as it is, byte for byte.
#pragma once

#include "plan/edit/lines.h"
#include "plan/read/document.h"

#include "jackal/plan/read.h"

#include <memory>
#include <string>

namespace jackal::plan {

/// A piece of text in the place of another.
struct Splice {
    std::size_t begin = 0;
    std::size_t size = 0;
    std::string text;
};

/// The text with the splices made, which do not overlap.
std::string spliced(std::string_view text, std::vector<Splice> splices);

/// `text` as a value that may stand anywhere: in quotes if it has to; flow collections and quoted
/// texts as they are.
std::string written_value(std::string_view text);

/// `text` as a scalar that says it, whatever it looks like: in quotes if it has to.
std::string written_scalar(std::string_view text);

class Layout {
  public:
    using Id = Document::Id;
    static constexpr Id none = Document::none;

    /// One entry of a collection: a key and its value, or an item, for which key is none.
    struct Element {
        Id key = none;
        Id value = none;
    };

    /// Throws std::invalid_argument with the first problem if the text is no YAML. Parameters are
    /// put in, in what text() tells of a node.
    Layout(std::string text, const Settings& settings);
    Layout(const Layout&) = delete; // its parts refer to its text
    Layout& operator=(const Layout&) = delete;

    Id root() const { return document_->root(); }
    NodeKind kind(Id id) const { return document_->kind(id); }
    /// What the node says, with parameters put in.
    std::string_view says(Id id) const { return document_->text(id); }
    Mark at(Id id) const { return document_->at(id); }
    const Document& document() const { return *document_; }
    const Extent& extent(Id id) const { return extents_[id]; }
    const std::string& text() const { return text_; }

    std::vector<Element> elements(Id collection) const;
    /// The value of a key of a mapping, or none. Numbers and addresses are told apart by what they
    /// mean.
    Element find(Id mapping, std::string_view key) const;
    /// True if a scalar says `word`, however that is spelt.
    bool means(Id scalar, std::string_view word) const;
    /// True for a value that is not there: `key:` with nothing behind it, or null.
    bool is_empty(Id id) const;
    bool is_flow(Id id) const { return extents_[id].style == Extent::Style::flow; }

    /// What stands in the text for the node, without its anchor and tag.
    std::string_view source(Id id) const { return part(body(id), end(id)); }
    /// The anchor's name, or the alias's; empty for a node without.
    std::string_view anchor(Id id) const;
    /// The node in flow style, on one line.
    std::string flow_text(Id id) const;

    /// The splices that put `value` in the place of the element's value.
    std::vector<Splice> replace(Element element, std::string_view value) const;
    /// Those that add an element, `key: value` or an item, behind another, or as the first where
    /// `after` is none; several lines are for block style, each but the first indented further.
    std::vector<Splice> insert_behind(Id collection, Element after,
                                      const std::vector<std::string>& lines) const;
    std::vector<Splice> insert_before(Id collection, Element next, std::string_view item) const;
    /// Those that take an element away, which is not the only one.
    std::vector<Splice> remove(Id collection, Element element) const;
    /// Those that take the anchor from a node.
    std::vector<Splice> remove_anchor(Id id) const;
    /// Those that put `value` in the place of an alias.
    Splice replace_alias(Id id, std::string value) const;

  private:
    std::size_t begin(Id id) const { return lines_.offset(document_->at(id)); }
    std::size_t begin(Element element) const;
    std::size_t body(Id id) const;
    std::size_t end(Id id) const;
    std::size_t indent(Id collection) const;
    std::size_t line_begin(std::size_t byte) const { return lines_.start(lines_.line_of(byte)); }
    std::size_t next_line(std::size_t byte) const { return lines_.start(lines_.line_of(byte) + 1); }
    std::size_t line_break(std::size_t byte) const; // where that of the byte's line starts
    std::size_t dash(Element item) const;
    std::size_t colon(Id key) const;
    std::size_t significant(std::size_t byte) const;
    bool is_first_on_line(std::size_t byte) const;
    bool is_blank(std::size_t line) const;
    bool is_spaced(const std::vector<Element>& elements) const;
    std::string line_end() const;
    std::string header_comment(Id id) const;
    std::vector<Splice> insert_flow(Id collection, Element after, std::string_view item) const;
    std::vector<Splice> remove_flow(Id collection, const std::vector<Element>& all,
                                    std::size_t number) const;

    std::string_view part(std::size_t first, std::size_t end) const {
        return std::string_view(text_).substr(first, end - first);
    }

    const std::string text_;
    Lines lines_;
    std::vector<Extent> extents_;
    std::optional<Document> document_;
};

} // namespace jackal::plan
