// The format of plan files as others read it: a JSON schema, and tables for people. Both are made
// of what the reader itself goes by.
#pragma once

#include "jackal/api.h"

#include <string>
#include <string_view>
#include <vector>

namespace jackal::exports {

/// A JSON schema of plan files (draft 2020-12), ending in a line break. Two keywords are our own:
/// `x-names` lists what a text, or the key of a mapping, may be the name of, and `x-entry` tells of
/// a key that names the entry behind it.
JACKAL_API std::string plan_schema();

/// The keys of an entry of that sort (`nic`, `dhcp`, `plan`) as a table in Markdown: what each
/// holds, and what holds where it is not written. Empty if there is no such sort.
JACKAL_API std::string key_table(std::string_view sort);

/// The text with each table between `<!-- keys of SORT -->` and `<!-- end -->` as it is to be.
/// Throws std::invalid_argument, with the line, of a sort that there is not, or without an end.
JACKAL_API std::string with_key_tables(std::string_view text);

/// The names of all sorts of entries.
JACKAL_API std::vector<std::string> sorts_of_entries();

} // namespace jackal::exports
