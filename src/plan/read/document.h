// A YAML text as a flat tree of nodes with their positions, read with libyaml's event parser.
//
// Nothing is typed or interpreted here. Aliases point at the node they name instead of copying
// it; a tree that would be larger than `most_nodes` when written out, or deeper than `most_depth`,
// is refused, so that what walks it needs no guard of its own.
#pragma once

#include "jackal/limits.h"
#include "jackal/plan/mark.h"

#include <cstdint>
#include <optional>
#include <string_view>
#include <vector>

namespace jackal::plan {

enum class NodeKind : std::uint8_t { scalar, sequence, mapping };

/// How a node stands in the text, for who changes it there.
struct Extent {
    enum class Style : std::uint8_t { plain, quoted, block, flow, alias };
    Style style = Style::plain; ///< of a collection only block or flow
    Mark end;                   ///< behind a scalar, an alias or a flow collection; else unset
    bool is_anchor = false;
};

class Document {
  public:
    using Id = std::uint32_t;
    static constexpr Id none = ~Id{0};
    static constexpr std::uint64_t most_nodes = limits::document_nodes;
    static constexpr std::size_t most_depth = limits::document_depth;

    struct Node {
        NodeKind kind = NodeKind::scalar;
        Mark at;
        std::uint32_t text_begin = 0; ///< scalar: its text, in the document's own store
        std::uint32_t text_size = 0;
        Id first_child = none; ///< sequence: items; mapping: key, value, key, value …
        Id next_sibling = none;
        Id alias_of = none;
        std::uint64_t written_out = 1; ///< nodes below and including this one, aliases expanded
    };

    /// Reads the one document in `yaml`. On failure `problems` has grown and nothing comes back.
    /// `extents`, if given, gets one for each node.
    static std::optional<Document> read(std::string_view yaml, std::vector<Problem>& problems,
                                        std::vector<Extent>* extents = nullptr);

    /// Puts `text` in the place of a scalar's text.
    void set_text(Id id, std::string_view text) {
        Node& node = nodes_[id];
        node.text_begin = static_cast<std::uint32_t>(texts_.size());
        node.text_size = static_cast<std::uint32_t>(text.size());
        texts_ += text;
    }

    std::size_t size() const { return nodes_.size(); }
    Id root() const { return root_; }
    NodeKind kind(Id id) const { return target(id).kind; }
    Mark at(Id id) const { return nodes_[id].at; }
    std::string_view text(Id id) const {
        const Node& node = target(id);
        return std::string_view(texts_).substr(node.text_begin, node.text_size);
    }
    bool is_alias(Id id) const { return nodes_[id].alias_of != none; }
    /// The node that an alias stands for, or none.
    Id alias_of(Id id) const { return nodes_[id].alias_of; }
    Id first_child(Id id) const { return target(id).first_child; }
    Id next_sibling(Id id) const { return nodes_[id].next_sibling; }

  private:
    friend class DocumentReader;

    const Node& target(Id id) const {
        return nodes_[id].alias_of == none ? nodes_[id] : nodes_[nodes_[id].alias_of];
    }

    std::vector<Node> nodes_;
    std::string texts_;
    Id root_ = none;
};

} // namespace jackal::plan
