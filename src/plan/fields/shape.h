// What may stand behind a key of a plan file, for whoever describes it: the schema, the tables of
// docs/plan-file.md, an editor.
#pragma once

#include "jackal/plan/name_kind.h"

#include <cstdint>
#include <limits>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace jackal::plan {

struct Sort;

/// A whole number from `least` to `most`.
struct Bounds {
    std::uint64_t least = 0;
    std::uint64_t most = 0;
};

/// At most one of words, pattern, number, text, flag, list, map, sort and forms is set.
struct Shape {
    static constexpr std::size_t any_number = std::numeric_limits<std::size_t>::max();

    std::string_view name;  ///< of a shape that many keys have
    std::string_view about; ///< what a value of that name is, in a sentence
    std::vector<std::string_view> words;
    std::string_view pattern; ///< a regular expression (ECMA-262) that a text matches
    std::optional<Bounds> number;
    bool is_amount = false; ///< a number that need not be whole
    bool is_text = false;
    bool is_flag = false;
    std::vector<NameKind> names; ///< what it may be the name of
    std::vector<Shape> list;     ///< of a list: what all items are, or with is_tuple what each is
    bool is_tuple = false;
    bool all_differ = false; ///< no item stands there twice
    std::size_t fewest = 0;  ///< items
    std::size_t most = any_number;
    std::vector<Shape> map;          ///< of a mapping by names: what a key is, what a value is
    std::optional<NameKind> entries; ///< what its keys give names to
    const Sort& (*sort)() = nullptr; ///< of an entry: its keys
    std::vector<Shape> forms;        ///< it is any of these
};

/// What the keys of an entry have to do with each other.
struct Rule {
    enum class Kind : std::uint8_t {
        needs,     ///< all of them are written
        one_of,    ///< exactly one of them is
        not_both,  ///< not all of them are
        with,      ///< the first only beside the others
        ipv4_only, ///< not all of them are, if the last is an IPv4 prefix length
    };
    Kind kind = Kind::needs;
    std::vector<std::string_view> keys;
};

/// One key, as one tells of it.
struct Row {
    std::string_view key;
    std::string_view about; ///< what it holds: part of a sentence, without a full stop
    std::string_view usual; ///< what holds where it is not written
    Shape (*shape)() = nullptr;
};

/// `Bytes of the largest IP packet. Default: 1500.`
std::string sentence(const Row& row);
/// The text as a sentence: with a capital and a full stop.
std::string sentence(std::string_view text);

/// An entry, as one tells of it.
struct Sort {
    std::string_view name; ///< `nic`
    std::vector<Row> rows;
    std::vector<Rule> rules;
    std::optional<Shape> others; ///< of a mapping in which names are keys, too
};

/// The whole file.
const Sort& sort_of_plans();

} // namespace jackal::plan
