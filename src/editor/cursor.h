// Where in a plan a place of the text is, by what stands before it alone: the text may be half
// written.
#pragma once

#include "jackal/editor/outline.h"

#include <set>

namespace jackal::editor {

struct Cursor {
    std::vector<Step> path;      ///< to the mapping or value that is being written
    std::set<std::string> taken; ///< keys of that mapping that stand before
    std::size_t word_begin = 0;  ///< byte at which what is being written starts
    bool may_be_key = false;
    bool may_be_value = false;
    bool is_flow = false;
};

/// Reads indentation, dashes, flow collections, quotes and comments; a tab counts as a space.
Cursor cursor_at(std::string_view text, std::size_t offset);

} // namespace jackal::editor
