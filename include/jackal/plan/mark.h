// Where in a plan file something was written.
#pragma once

#include "jackal/api.h"
#include <cstdint>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace jackal::plan {

/// A line and a column, both counted from 1; line 0 means "not from a file".
struct Mark {
    std::uint32_t line = 0;
    std::uint32_t column = 0;

    explicit operator bool() const { return line != 0; }
    friend bool operator==(const Mark&, const Mark&) = default;
};

/// The place where something was written, which is no part of what it says: all are equal.
struct WrittenAt : Mark {
    WrittenAt() = default;
    WrittenAt(Mark mark) : Mark(mark) {}

    friend bool operator==(const WrittenAt&, const WrittenAt&) { return true; }
};

/// A value and the place where it was written. Equal if the values are. Converts from the bare
/// value, so that plans built in code read naturally.
template <class T>
struct Placed {
    T value{};
    Mark at;

    Placed() = default;
    Placed(T v, Mark m = {}) : value(std::move(v)), at(m) {}
    template <class U>
    requires std::is_convertible_v<U, T> &&(!std::is_same_v<std::remove_cvref_t<U>, T>)Placed(U&& v)
        : value(std::forward<U>(v)) {}

    friend bool operator==(const Placed& a, const Placed& b) { return a.value == b.value; }
};

/// One thing wrong with the text of a plan.
struct Problem {
    Mark at;
    std::string message;
};

/// `FILE:LINE:COLUMN`, or `FILE` alone for a mark that is not from a file; the name printable.
JACKAL_API std::string to_string(Mark at, std::string_view file);

/// The text as it can stand on one line of a terminal: control characters, line breaks, marks that
/// turn the direction of writing, what is no character (U+FFFF), and bytes that are not UTF-8 as
/// `\xNN`.
JACKAL_API std::string printable(std::string_view text);

/// The text as one word of a POSIX shell: in quotes if it has more than letters, digits and signs
/// that no shell heeds.
JACKAL_API std::string shell_word(std::string_view text);

/// The word of `known` that `word` was most likely meant to be, or nothing if none is near: at
/// most one letter in three may be wrong, missing, added or swapped with its neighbour.
JACKAL_API std::string_view nearest_word(std::string_view word,
                                         const std::vector<std::string_view>& known);

/// "; did you mean NEAR?", to go behind a complaint; empty if nothing is near.
JACKAL_API std::string did_you_mean(std::string_view near);

} // namespace jackal::plan
