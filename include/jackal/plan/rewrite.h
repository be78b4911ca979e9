// Changes of the text of a plan file that leave all the rest of it as it is: comments, order, blank
// lines, quotes, line ends.
#pragma once

#include "jackal/api.h"
#include "jackal/plan/edit.h"
#include "jackal/plan/read.h"

#include <functional>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace jackal::plan {

/// A text after its change, or what is in the way of it.
struct Rewriting {
    std::optional<std::string> text; ///< set if and only if problems is empty
    std::vector<Problem> problems;
};

/// Puts `lines` (a top-level section of the name `key`, in block style, each line ended by "\n") in
/// the place of that section, or at the end of the text if it has none; takes the section away if
/// there are no lines. The text must be UTF-8 and its outermost mapping in block style. Comments
/// inside the old section would be lost, so they are in the way, but for the one behind `key:`.
JACKAL_API Rewriting replace_section(std::string_view text, std::string_view key,
                                     std::string_view lines);

/// A single value of a plan file.
struct ValuePlace {
    std::vector<std::string_view> path; ///< keys and, in lists, positions: {"links", "0", "prefix"}
    Mark at;
    std::string_view value; ///< without quotes
};

/// What a value becomes; nothing if it stays.
using ValueChange = std::function<std::optional<std::string>(const ValuePlace&)>;

/// Changes single values where they stand. A value that is written in a way that cannot be changed
/// in place (with escapes, over several lines, behind a tag or an anchor) is in the way.
JACKAL_API Rewriting replace_values(std::string_view text, const ValueChange& change);

/// A text with changes written into it.
struct Writing {
    std::optional<std::string> text; ///< set if and only if problems is empty
    std::vector<Problem> problems;
    std::vector<Problem> notes; ///< what had to be written out for it, where it stands now
};

/// Writes changes into the text of a plan, one after another; no other byte of it moves. Comments,
/// quotes, line ends and the style of entries stay, a new entry stands as those beside it. A change
/// of one machine of a `count`, of what a machine is `like`, or of what an alias stands for is
/// written out for that one; one of all machines of a `count` at their entry. The result has been
/// read again, and is the plan that apply() gives; a change that cannot be written so is in the
/// way.
///
///     plan::Writing mended = plan::write(text, {plan::set_forwards(plan, "ridge-r1", true)});
JACKAL_API Writing write(std::string_view text, const std::vector<Edit>& edits,
                         const Settings& settings = {});

/// A change as it is written in the examples of PlaceChange; names of other than a-z, 0-9 and
/// hyphens stand in double quotes. Nothing for any other text.
JACKAL_API std::optional<PlaceChange> parse_change(std::string_view text);

/// The same for changes by place. The result has been read again; that it reads is all that is
/// known of it.
JACKAL_API Writing write(std::string_view text, const std::vector<PlaceChange>& changes,
                         const Settings& settings = {});

} // namespace jackal::plan
