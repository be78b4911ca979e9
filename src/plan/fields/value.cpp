#include "plan/fields/value.h"

#include "jackal/plan/mark.h"
#include "plan/edit/layout.h"

namespace jackal::plan {

Value Value::scalar(std::string text) {
    return {Kind::scalar, std::move(text), {}, {}, false, {}};
}

Value Value::list(std::vector<Value> items) {
    return {Kind::list, {}, {}, std::move(items), false, {}};
}

Value Value::one_or_list(std::vector<Value> items) {
    return items.size() == 1 ? std::move(items.front()) : list(std::move(items));
}

void Value::add(std::string key, Value value) {
    if (!value)
        return;
    keys.push_back(std::move(key));
    items.push_back(std::move(value));
}

Value* Value::find(std::string_view key) {
    auto found = std::ranges::find(keys, key);
    return found == keys.end() ? nullptr : &items[static_cast<std::size_t>(found - keys.begin())];
}

std::string to_text(const Value& value) {
    if (value.kind == Value::Kind::none)
        return "";
    if (value.kind == Value::Kind::scalar)
        return written_scalar(value.text);
    std::string text;
    for (std::size_t i = 0; i < value.items.size(); ++i) {
        text += i == 0 ? "" : ", ";
        if (value.kind == Value::Kind::map)
            text += written_scalar(value.keys[i]) + ": ";
        text += to_text(value.items[i]);
    }
    return value.kind == Value::Kind::map ? "{" + text + "}" : "[" + text + "]";
}

namespace {

constexpr std::size_t widest = 132;

class FileWriter {
  public:
    std::string take() { return std::move(text_); }

    // The pairs of a mapping or the items of a list, each on a line of its own or on several.
    void write(const Value& collection, std::size_t indent) {
        for (std::size_t i = 0; i < collection.items.size(); ++i) {
            const bool is_section = indent == 0;
            if (is_section && i != 0
                && (collection.items[i].is_collection() || collection.items[i - 1].is_collection()))
                text_ += '\n';
            const bool is_map = collection.kind == Value::Kind::map;
            entry(is_map ? written_scalar(collection.keys[i]) + ":" : "-", collection.items[i],
                  indent, is_section);
        }
    }

  private:
    void entry(const std::string& head, const Value& value, std::size_t indent, bool is_section) {
        const std::string flow = to_text(value);
        const bool is_short = indent + head.size() + 1 + flow.size() <= widest;
        const bool has_lines = is_section ? opens(value) : indent == 2 && value.names;
        const bool is_open = value.is_collection() && !value.items.empty()
                             && (has_lines || (!is_section && !is_short));
        text_ += std::string(indent, ' ') + head;
        if (!is_open) {
            text_ += (flow.empty() ? "" : " " + flow) + remarks(value, true) + "\n";
        } else if (head == "-") { // the first of its keys stands behind the dash
            const std::size_t begin = text_.size();
            write(value, indent + 2);
            text_.replace(begin, indent + 2, " ");
            text_.insert(text_.find('\n', begin), remarks(value, false));
        } else {
            text_ += remarks(value, false) + "\n";
            write(value, indent + 2);
        }
    }

    // The comments of a value, with those inside it if all stand on its line.
    static std::string remarks(const Value& value, bool with_inner) {
        std::string text;
        auto add = [&](const std::string& comment) {
            if (!comment.empty())
                text += (text.empty() ? "" : "; ") + comment;
        };
        auto collect = [&](auto self, const Value& from) -> void {
            add(from.comment);
            if (with_inner)
                for (const Value& item : from.items)
                    self(self, item);
        };
        collect(collect, value);
        return text.empty() ? "" : " # " + printable(text);
    }

    // A section of entries is a line for each of them, and so is a part of it whose keys are names;
    // a list of words is no such.
    static bool opens(const Value& section) {
        return section.kind == Value::Kind::map
               || std::ranges::any_of(section.items, &Value::is_collection);
    }

    std::string text_;
};

} // namespace

std::string file_text(const Value& sections) {
    FileWriter writer;
    writer.write(sections, 0);
    return writer.take();
}

} // namespace jackal::plan
