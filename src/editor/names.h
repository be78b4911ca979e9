// Finds the names in a YAML text.
#pragma once

#include "editor/text.h"
#include "plan/read/document.h"

#include <array>
#include <unordered_map>

namespace jackal::editor {

constexpr std::size_t kind_count = static_cast<std::size_t>(Kind::cut) + 1;

/// The nodes of a text with their extents.
struct Nodes {
    const Text& text;
    const plan::Document& document;
    const std::vector<plan::Extent>& extents;

    /// What a scalar says where it stands, without quotes; nothing if that reads otherwise, as over
    /// several lines or with escapes.
    std::optional<Span> inside(plan::Document::Id node) const;
};

struct Names {
    std::vector<Mention> mentions; ///< in the order of the text
    /// By kind and name: the position of the entry.
    std::array<std::unordered_map<std::string, std::size_t>, kind_count> entries;
    std::unordered_map<std::string, std::size_t> counts; ///< of machines that have one

    const Mention* entry(Kind kind, const std::string& name) const {
        const auto& known = entries[static_cast<std::size_t>(kind)];
        auto found = known.find(name);
        return found == known.end() ? nullptr : &mentions[found->second];
    }
};

Names names_in(const Nodes& nodes);

} // namespace jackal::editor
