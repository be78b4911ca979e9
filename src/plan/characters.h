// The characters of a text in UTF-8.
#pragma once

#include <cstddef>
#include <string_view>
#include <utility>

namespace jackal::plan {

/// How many bytes the character at the front of `text` has, and its number; 0 bytes if there is
/// none (RFC 3629 section 4).
std::pair<std::size_t, char32_t> front_character(std::string_view text);

/// False for control characters, line breaks, marks that turn the direction of writing, and what is
/// no character for others to read (Unicode 23.7).
bool is_printable(char32_t c);

} // namespace jackal::plan
