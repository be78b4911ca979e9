// What stands at a place of a plan file, as YAML has it: a scalar, a list or a mapping.
#pragma once

#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace jackal::plan {

struct Value {
    enum class Kind : unsigned char { none, scalar, list, map };

    Kind kind = Kind::none;
    std::string text;              ///< of a scalar
    std::vector<std::string> keys; ///< of a mapping, one for each of `items`
    std::vector<Value> items;
    bool names = false; ///< of a mapping: its keys are names, not keys of the format
    std::string comment;

    static Value scalar(std::string text);
    static Value list(std::vector<Value> items);
    /// One alone as it is.
    static Value one_or_list(std::vector<Value> items);
    static Value map() { return {Kind::map, {}, {}, {}, false, {}}; }
    static Value named() { return {Kind::map, {}, {}, {}, true, {}}; }

    /// True unless nothing stands there.
    explicit operator bool() const { return kind != Kind::none; }
    /// Adds a key to a mapping, unless its value is nothing.
    void add(std::string key, Value value);
    /// What stands behind a key of a mapping, or null.
    Value* find(std::string_view key);
    bool is_collection() const { return kind == Kind::list || kind == Kind::map; }

    friend bool operator==(const Value&, const Value&) = default;
};

/// `{subnet: quay, address: [10.40.8.9, "fd40:7::9"]}`: flow style, on one line.
std::string to_text(const Value& value);

/// A whole file: sections in block style, what is short behind its key on one line; with comments.
std::string file_text(const Value& sections);

} // namespace jackal::plan
