#include "document.h"

#include <algorithm>
#include <fmt/format.h>
#include <map>
#include <yaml.h>

namespace jackal::plan {

namespace {

std::string_view view(const yaml_char_t* text) {
    return reinterpret_cast<const char*>(text);
}

Mark mark_of(const yaml_mark_t& mark) {
    return {static_cast<std::uint32_t>(mark.line + 1), static_cast<std::uint32_t>(mark.column + 1)};
}

// The line and column, in characters, of a byte of the text.
Mark mark_at(std::string_view yaml, std::size_t byte) {
    std::string_view before = yaml.substr(0, byte);
    std::size_t line_start = before.rfind('\n') + 1; // 0 if there is none
    Mark mark{1, 1};
    mark.line += static_cast<std::uint32_t>(std::ranges::count(before, '\n'));
    for (char c : before.substr(line_start))
        mark.column += (static_cast<unsigned char>(c) & 0xc0U) != 0x80 ? 1 : 0;
    return mark;
}

// The text from its n-th character on, counted from 0.
std::string_view from_character(std::string_view yaml, std::size_t n) {
    std::size_t at = 0;
    auto inside = [&] { return (static_cast<unsigned char>(yaml[at]) & 0xc0U) == 0x80; };
    for (; at < yaml.size() && (n != 0 || inside()); ++at)
        n -= inside() ? 0 : 1;
    return yaml.substr(at);
}

class Parser {
  public:
    explicit Parser(std::string_view yaml) {
        if (yaml_parser_initialize(&parser_) == 0)
            throw std::bad_alloc();
        yaml_parser_set_input_string(&parser_, reinterpret_cast<const unsigned char*>(yaml.data()),
                                     yaml.size());
    }
    Parser(const Parser&) = delete;
    Parser& operator=(const Parser&) = delete;
    ~Parser() { yaml_parser_delete(&parser_); }

    bool next(yaml_event_t& event) { return yaml_parser_parse(&parser_, &event) != 0; }

    Problem problem(std::string_view yaml) const {
        if (parser_.error == YAML_MEMORY_ERROR)
            throw std::bad_alloc();
        std::string what = parser_.problem == nullptr ? "cannot be read" : parser_.problem;
        if (parser_.error == YAML_READER_ERROR)
            return {mark_at(yaml, parser_.problem_offset),
                    fmt::format("not readable as UTF-8 text: {}", what)};
        if (from_character(yaml, parser_.problem_mark.index).starts_with('\t'))
            what = "a tab, where YAML wants spaces";
        return {mark_of(parser_.problem_mark), fmt::format("not valid YAML: {}", what)};
    }

  private:
    yaml_parser_t parser_{};
};

class Event {
  public:
    Event() = default;
    Event(const Event&) = delete;
    Event& operator=(const Event&) = delete;
    ~Event() { yaml_event_delete(&raw); }

    yaml_event_t raw{};
};

} // namespace

class DocumentReader {
  public:
    DocumentReader(std::vector<Problem>& problems, std::vector<Extent>* extents)
        : problems_(problems), extents_(extents) {}

    std::optional<Document> read(std::string_view yaml) {
        if (yaml.size() > limits::plan_bytes)
            return refuse({}, fmt::format("the text is larger than {} MiB, the most for a plan",
                                          limits::plan_bytes >> 20));
        document_.nodes_.reserve(std::min(yaml.size() / 6, most_reserved_nodes));
        document_.texts_.reserve(yaml.size());
        Parser parser(yaml);
        for (;;) {
            Event event;
            if (!parser.next(event.raw)) {
                problems_.push_back(parser.problem(yaml));
                return std::nullopt;
            }
            if (event.raw.type == YAML_STREAM_END_EVENT)
                break;
            if (!take(event.raw))
                return std::nullopt;
        }
        if (document_.root_ == Document::none)
            return refuse({}, "the text is empty; a plan starts with `lab: NAME`");
        return std::move(document_);
    }

  private:
    static constexpr std::size_t most_reserved_nodes = 4'000'000;

    struct Open {
        Document::Id node;
        Document::Id last_child;
    };

    std::optional<Document> refuse(Mark at, std::string message) {
        problems_.push_back({at, std::move(message)});
        return std::nullopt;
    }

    bool take(const yaml_event_t& event) {
        Mark at = mark_of(event.start_mark);
        switch (event.type) {
        case YAML_SCALAR_EVENT: return take_scalar(event, at);
        case YAML_SEQUENCE_START_EVENT:
            extend(event.data.sequence_start.style == YAML_FLOW_SEQUENCE_STYLE
                       ? Extent::Style::flow
                       : Extent::Style::block,
                   {}, event.data.sequence_start.anchor != nullptr);
            return open(NodeKind::sequence, at, event.data.sequence_start.anchor);
        case YAML_MAPPING_START_EVENT:
            extend(event.data.mapping_start.style == YAML_FLOW_MAPPING_STYLE ? Extent::Style::flow
                                                                             : Extent::Style::block,
                   {}, event.data.mapping_start.anchor != nullptr);
            return open(NodeKind::mapping, at, event.data.mapping_start.anchor);
        case YAML_SEQUENCE_END_EVENT:
        case YAML_MAPPING_END_EVENT: return close(mark_of(event.end_mark));
        case YAML_ALIAS_EVENT:
            extend(Extent::Style::alias, mark_of(event.end_mark), false);
            return take_alias(view(event.data.alias.anchor), at);
        case YAML_DOCUMENT_START_EVENT:
            if (document_.root_ == Document::none)
                return true;
            refuse(at, "a second document starts here; a plan file holds one");
            return false;
        default: return true;
        }
    }

    bool take_scalar(const yaml_event_t& event, Mark at) {
        const auto& scalar = event.data.scalar;
        extend(style_of(scalar.style), mark_of(event.end_mark), scalar.anchor != nullptr);
        Document::Id id = add(NodeKind::scalar, at);
        Document::Node& node = document_.nodes_[id];
        node.text_begin = static_cast<std::uint32_t>(document_.texts_.size());
        node.text_size = static_cast<std::uint32_t>(scalar.length);
        document_.texts_.append(reinterpret_cast<const char*>(scalar.value), scalar.length);
        if (scalar.anchor != nullptr)
            anchors_[std::string(view(scalar.anchor))] = id;
        return count(1, at);
    }

    bool take_alias(std::string_view name, Mark at) {
        auto found = anchors_.find(name);
        if (found == anchors_.end()) {
            refuse(at, fmt::format("alias *{} names no anchor that is complete before it", name));
            return false;
        }
        Document::Id id = add(document_.nodes_[found->second].kind, at);
        document_.nodes_[id].alias_of = found->second;
        return count(document_.nodes_[found->second].written_out, at);
    }

    bool open(NodeKind kind, Mark at, const yaml_char_t* anchor) {
        Document::Id id = add(kind, at);
        open_.push_back({id, Document::none});
        pending_anchors_.push_back(anchor == nullptr ? "" : std::string(view(anchor)));
        if (open_.size() <= Document::most_depth)
            return count(1, at);
        refuse(at, fmt::format("nested deeper than {} levels", Document::most_depth));
        return false;
    }

    bool close(Mark end) {
        Document::Id id = open_.back().node;
        if (extents_ != nullptr && (*extents_)[id].style == Extent::Style::flow)
            (*extents_)[id].end = end;
        open_.pop_back();
        if (!pending_anchors_.back().empty())
            anchors_[pending_anchors_.back()] = id;
        pending_anchors_.pop_back();
        return true;
    }

    static Extent::Style style_of(yaml_scalar_style_t style) {
        switch (style) {
        case YAML_LITERAL_SCALAR_STYLE:
        case YAML_FOLDED_SCALAR_STYLE: return Extent::Style::block;
        case YAML_SINGLE_QUOTED_SCALAR_STYLE:
        case YAML_DOUBLE_QUOTED_SCALAR_STYLE: return Extent::Style::quoted;
        default: return Extent::Style::plain;
        }
    }

    // Of the node that is added next.
    void extend(Extent::Style style, Mark end, bool is_anchor) {
        if (extents_ != nullptr)
            extents_->push_back({style, end, is_anchor});
    }

    Document::Id add(NodeKind kind, Mark at) {
        auto id = static_cast<Document::Id>(document_.nodes_.size());
        document_.nodes_.push_back({.kind = kind, .at = at});
        if (open_.empty()) {
            document_.root_ = id;
        } else {
            Open& parent = open_.back();
            if (parent.last_child == Document::none)
                document_.nodes_[parent.node].first_child = id;
            else
                document_.nodes_[parent.last_child].next_sibling = id;
            parent.last_child = id;
        }
        return id;
    }

    // Adds to the written-out size of every open node; the outermost one bounds the whole.
    bool count(std::uint64_t nodes, Mark at) {
        for (const Open& parent : open_)
            document_.nodes_[parent.node].written_out += nodes;
        total_ += nodes;
        if (total_ <= Document::most_nodes)
            return true;
        refuse(at, fmt::format("more than {} values when its aliases are written out",
                               Document::most_nodes));
        return false;
    }

    std::vector<Problem>& problems_;
    std::vector<Extent>* extents_; // by node; null if nobody asks
    Document document_;
    std::vector<Open> open_;
    std::vector<std::string> pending_anchors_; // parallel to open_
    std::map<std::string, Document::Id, std::less<>> anchors_;
    std::uint64_t total_ = 0;
};

std::optional<Document> Document::read(std::string_view yaml, std::vector<Problem>& problems,
                                       std::vector<Extent>* extents) {
    return DocumentReader(problems, extents).read(yaml);
}

} // namespace jackal::plan
