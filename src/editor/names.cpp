#include "editor/names.h"

#include "editor/grammar.h"

#include <algorithm>
#include <charconv>

namespace jackal::editor {

using plan::Document;
using plan::Extent;
using plan::NodeKind;
using Id = Document::Id;

std::optional<Span> Nodes::inside(Id node) const {
    const Extent& extent = extents[node];
    const std::string_view says = document.text(node);
    if (document.kind(node) != NodeKind::scalar || document.is_alias(node) || !extent.end
        || extent.style == Extent::Style::block)
        return std::nullopt;
    const std::uint32_t quote = extent.style == Extent::Style::quoted ? 1 : 0;
    const std::size_t end = text.offset(extent.end) - quote;
    const Span at{text.mark(end - std::min(says.size(), end)), text.mark(end)};
    return text.part(at) == says ? std::optional(at) : std::nullopt;
}

namespace {

// The part of a span that starts so many letters behind its start; names are ASCII.
Span part_of(Span span, std::size_t from, std::size_t size) {
    const auto column = span.begin.column + static_cast<std::uint32_t>(from);
    return {{span.begin.line, column},
            {span.begin.line, column + static_cast<std::uint32_t>(size)}};
}

// Goes through the nodes with the grammar beside them: entries first, and what may mean one.
class Collector {
  public:
    explicit Collector(const Nodes& nodes) : nodes_(nodes), grammar_(Grammar::of_plans()) {}

    Names run() {
        visit(nodes_.document.root(), grammar_.top());
        index(); // all are entries, and stay in front until the rest is there
        for (const Candidate& candidate : candidates_)
            resolve(candidate);
        std::ranges::stable_sort(names_.mentions, {}, [](const Mention& mention) {
            return std::pair(mention.at.begin.line, mention.at.begin.column);
        });
        index();
        return std::move(names_);
    }

  private:
    struct Candidate {
        std::string_view text;
        Span at;
        std::vector<Kind> kinds;
    };

    void index() {
        for (auto& known : names_.entries)
            known.clear();
        for (std::size_t i = 0; i < names_.mentions.size(); ++i)
            if (const Mention& entry = names_.mentions[i]; entry.is_entry)
                names_.entries[static_cast<std::size_t>(entry.kind)].try_emplace(entry.name, i);
    }

    void visit(Id node, const Grammar::Rules& rules) {
        if (nodes_.document.is_alias(node))
            return; // it is visited where its anchor stands
        if (nodes_.document.kind(node) == NodeKind::scalar)
            return visit_scalar(node, rules);
        std::size_t index = 0;
        for (Id child = nodes_.document.first_child(node); child != Document::none;
             child = nodes_.document.next_sibling(child))
            if (nodes_.document.kind(node) == NodeKind::sequence) {
                visit(child, grammar_.item(rules, index++));
            } else {
                const Id key = std::exchange(child, nodes_.document.next_sibling(child));
                visit_pair(key, child, rules);
            }
    }

    void visit_pair(Id key, Id value, const Grammar::Rules& rules) {
        const std::string outer_owner = owner_;
        const std::string outer_machine = machine_;
        const std::string_view name = nodes_.document.text(key);
        for (Grammar::Id id : rules) {
            const Grammar::Rule& rule = grammar_[id];
            if (rule.keys.contains(name))
                continue;
            if (rule.entry)
                add_entry(*rule.entry, key);
            else
                add_candidate(key, rule.key_names);
        }
        if (name == "count" && nodes_.document.kind(value) == NodeKind::scalar)
            count(nodes_.document.text(value));
        visit(value, grammar_.behind(rules, name));
        owner_ = outer_owner;
        machine_ = outer_machine;
    }

    void add_entry(Kind kind, Id key) {
        const std::string name(nodes_.document.text(key));
        if (kind == Kind::device)
            owner_ = name;
        if (kind == Kind::machine)
            machine_ = name;
        if (auto at = nodes_.inside(key); at && !name.empty())
            names_.mentions.push_back(
                {kind, kind == Kind::port ? owner_ + "/" + name : name, *at, true});
    }

    void count(std::string_view says) {
        std::size_t number = 0;
        auto [end, error] = std::from_chars(says.data(), says.data() + says.size(), number);
        constexpr std::size_t any = 10'000; // of a parameter
        if (!machine_.empty())
            names_.counts[machine_] = error == std::errc{} ? number : any;
    }

    void visit_scalar(Id node, const Grammar::Rules& rules) {
        std::vector<Kind> kinds;
        for (Grammar::Id id : rules)
            for (Kind kind : grammar_[id].names)
                if (std::ranges::find(kinds, kind) == kinds.end())
                    kinds.push_back(kind);
        add_candidate(node, kinds);
        if (nodes_.document.text(node).find('$') != std::string_view::npos)
            add_candidate(node, {Kind::parameter});
    }

    void add_candidate(Id node, const std::vector<Kind>& kinds) {
        if (kinds.empty())
            return;
        if (auto at = nodes_.inside(node))
            candidates_.push_back({nodes_.document.text(node), *at, kinds});
    }

    void resolve(const Candidate& candidate) {
        auto may_be = [&](Kind kind) {
            return std::ranges::find(candidate.kinds, kind) != candidate.kinds.end();
        };
        if (may_be(Kind::parameter))
            return resolve_parameters(candidate);
        if (may_be(Kind::cut)
            || (may_be(Kind::link) && candidate.text.find("--") != candidate.text.npos))
            return resolve_parts(candidate);
        const std::size_t slash = candidate.text.find('/');
        if (slash == candidate.text.npos) {
            mention(candidate.kinds, candidate.text, candidate.at);
        } else if (may_be(Kind::nic)) {
            mention({Kind::machine}, candidate.text.substr(0, slash),
                    part_of(candidate.at, 0, slash));
        } else if (may_be(Kind::port)) {
            resolve_port(candidate.text, candidate.at, slash);
        }
    }

    void resolve_port(std::string_view text, Span at, std::size_t slash) {
        mention({Kind::device}, text.substr(0, slash), part_of(at, 0, slash));
        if (const std::string port(text); names_.entry(Kind::port, port) != nullptr)
            names_.mentions.push_back(
                {Kind::port, port, part_of(at, slash + 1, text.size() - slash - 1)});
    }

    // `quay-r1 -- lamp-r1`, `hut-sw/p1--core-sw/p2`, `ospf:quay-r1--lamp-r1`, `hut-sw/p1:20`.
    void resolve_parts(const Candidate& candidate) {
        const std::string_view text = candidate.text;
        for (std::size_t begin = 0; begin < text.size();) {
            const std::size_t end = std::min({text.find("--", begin), text.find(' ', begin),
                                              text.find(':', begin), text.size()});
            const std::string_view part = text.substr(begin, end - begin);
            const Span at = part_of(candidate.at, begin, part.size());
            const std::size_t slash = part.find('/');
            const std::string_view owner = part.substr(0, slash);
            if (slash != part.npos && names_.entry(Kind::device, std::string(owner)) != nullptr)
                resolve_port(part, at, slash);
            else
                mention({Kind::machine, Kind::device, Kind::site}, owner,
                        part_of(at, 0, owner.size()));
            begin = end + 1;
            while (begin < text.size() && (text[begin] == '-' || text[begin] == ' '))
                ++begin;
        }
    }

    void resolve_parameters(const Candidate& candidate) {
        const std::string_view text = candidate.text;
        if (text.starts_with('$') && !text.starts_with("${"))
            return mention({Kind::parameter}, text.substr(1),
                           part_of(candidate.at, 1, text.size() - 1));
        for (std::size_t open = text.find("${"); open != text.npos; open = text.find("${", open)) {
            open += 2;
            const std::size_t close = text.find('}', open);
            if (close == text.npos)
                return;
            // What stands before it may be longer than its letters.
            Span at = candidate.at;
            at.begin = nodes_.text.mark(nodes_.text.offset(at.begin) + open);
            mention({Kind::parameter}, text.substr(open, close - open),
                    part_of(at, 0, close - open));
        }
    }

    // Of the first kind that has an entry of that name.
    void mention(const std::vector<Kind>& kinds, std::string_view text, Span at) {
        const std::string name(text);
        for (Kind kind : kinds) {
            if (names_.entry(kind, name) != nullptr) {
                names_.mentions.push_back({kind, name, at});
                return;
            }
            const std::size_t hyphen = text.rfind('-');
            if (kind == Kind::machine && hyphen != text.npos && is_clone(name, hyphen)) {
                names_.mentions.push_back({kind, name.substr(0, hyphen), part_of(at, 0, hyphen)});
                return;
            }
        }
    }

    // `desk-2` of an entry `desk` with `count: 3`.
    bool is_clone(const std::string& name, std::size_t hyphen) const {
        std::size_t number = 0;
        const char* end = name.data() + name.size();
        auto [stop, error] = std::from_chars(name.data() + hyphen + 1, end, number);
        auto counted = names_.counts.find(name.substr(0, hyphen));
        return error == std::errc{} && stop == end && number > 0 && counted != names_.counts.end()
               && number <= counted->second;
    }

    const Nodes& nodes_;
    const Grammar& grammar_;
    Names names_;
    std::vector<Candidate> candidates_;
    std::string owner_;   // the switch around
    std::string machine_; // the machine around
};

} // namespace

Names names_in(const Nodes& nodes) {
    return Collector(nodes).run();
}

} // namespace jackal::editor
