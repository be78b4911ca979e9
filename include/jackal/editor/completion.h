// What may be written at a place of a plan, also of one that is no YAML yet.
#pragma once

#include "jackal/editor/outline.h"
#include "jackal/lab/lab.h"

namespace jackal::editor {

struct Completion {
    enum class Sort : std::uint8_t { key, word, name };
    std::string label;
    std::string insert; ///< in the place of `Completions::at`
    std::string about;
    Sort sort = Sort::key;
};

struct Completions {
    Span at; ///< what is written of it already
    std::vector<Completion> all;
};

/// What may be written at `mark`: keys that are not there yet, words, and names of entries. Names
/// are those of `outline`, of a text that was YAML before, and with `lab` also those of NICs, and
/// cuts. Only what stands before the mark is looked at. O(bytes).
JACKAL_API Completions complete(std::string_view text, plan::Mark mark, const Outline* outline,
                                const lab::Lab* lab);

} // namespace jackal::editor
