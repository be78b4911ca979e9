#include "jackal/editor/completion.h"

#include "editor/cursor.h"
#include "editor/grammar.h"
#include "editor/lab_words.h"
#include "editor/text.h"
#include "jackal/routing/cut.h"

#include <algorithm>
#include <fmt/format.h>
#include <unordered_set>

namespace jackal::editor {

namespace {

constexpr std::size_t most_completions = 2'000;

class Completer {
  public:
    Completer(const Cursor& cursor, std::string_view word, const Outline* outline,
              const lab::Lab* lab)
        : cursor_(cursor), word_(word), outline_(outline), lab_(lab) {}

    std::vector<Completion> run() {
        const Grammar& grammar = Grammar::of_plans();
        const Grammar::Rules rules = grammar.along(cursor_.path);
        for (Grammar::Id id : rules) {
            if (cursor_.may_be_key)
                add_keys(grammar[id]);
            if (cursor_.may_be_value)
                add_values(grammar[id]);
        }
        // A list may be a single item; its items then stand in the place of it.
        if (cursor_.may_be_value && !cursor_.is_flow)
            for (Grammar::Id id : grammar.item(rules, 0))
                add_values(grammar[id]);
        return std::move(all_);
    }

  private:
    void add(std::string label, std::string insert, std::string about, Completion::Sort sort) {
        if (all_.size() < most_completions && seen_.insert(label).second)
            all_.push_back({std::move(label), std::move(insert), std::move(about), sort});
    }

    void add_keys(const Grammar::Rule& rule) {
        const Grammar& grammar = Grammar::of_plans();
        for (const auto& [key, id] : rule.keys)
            if (!cursor_.taken.contains(key))
                add(key, key + ": ", grammar.about(grammar[id].forms), Completion::Sort::key);
        for (Kind kind : rule.key_names)
            add_names(kind, ": ");
    }

    void add_values(const Grammar::Rule& rule) {
        for (const std::string& word : rule.words)
            add(word, word, "", Completion::Sort::word);
        for (Kind kind : rule.names)
            add_names(kind, "");
    }

    void add_names(Kind kind, const std::string& behind) {
        if (kind == Kind::nic)
            return add_nics(behind);
        if (kind == Kind::cut)
            return add_cuts();
        if (kind == Kind::link)
            return add_links(behind);
        for (const std::string& name :
             outline_ == nullptr ? std::vector<std::string>() : outline_->names(kind))
            add(name, name + behind, about(kind, name), Completion::Sort::name);
    }

    std::string about(Kind kind, const std::string& name) const {
        std::string text(to_string(kind));
        if (lab_ != nullptr && kind == Kind::subnet)
            if (auto subnet = lab_->subnet(name))
                text += " " + prefixes_text(*lab_, lab_->subnets[*subnet].segment);
        return text;
    }

    // Those of the machine that the place belongs to; behind `MACHINE/` those of that.
    void add_nics(const std::string& behind) {
        if (lab_ == nullptr)
            return;
        const std::size_t slash = word_.find('/');
        std::string owner;
        if (slash != word_.npos)
            owner = word_.substr(0, slash);
        else if (cursor_.path.size() > 2
                 && (cursor_.path[0].key == "guests" || cursor_.path[0].key == "routers"))
            owner = cursor_.path[1].key;
        const auto machine = machine_of(*lab_, owner);
        if (!machine)
            return;
        for (lab::NicId id : lab_->nics_of(*machine)) {
            const lab::Nic& nic = lab_->nics[id];
            const std::string name = slash == word_.npos ? nic.name : owner + "/" + nic.name;
            add(name, name + behind, "NIC on " + lab_->segment_name(nic.segment),
                Completion::Sort::name);
        }
    }

    void add_links(const std::string& behind) {
        if (lab_ != nullptr)
            for (const lab::Link& link : lab_->links)
                if (const std::string name = lab_->segment_name(link.segment); !link.peering)
                    add(name, name + behind, "link", Completion::Sort::name);
    }

    void add_cuts() {
        add("any", "any", "whichever one link is cut", Completion::Sort::word);
        add("any-two", "any-two", "whichever two are", Completion::Sort::word);
        if (lab_ != nullptr)
            for (const routing::Cut& cut : routing::single_cuts(*lab_)) {
                const std::string text = routing::to_string(*lab_, cut);
                add(text, text, "link", Completion::Sort::name);
            }
        for (Kind kind : {Kind::machine, Kind::device, Kind::port})
            add_names(kind, "");
    }

    const Cursor& cursor_;
    std::string_view word_;
    const Outline* outline_;
    const lab::Lab* lab_;
    std::vector<Completion> all_;
    std::unordered_set<std::string> seen_;
};

} // namespace

Completions complete(std::string_view text, plan::Mark mark, const Outline* outline,
                     const lab::Lab* lab) {
    const Text marks(text);
    const std::size_t offset = marks.offset(mark);
    const Cursor cursor = cursor_at(text, offset);
    if (!cursor.may_be_key && !cursor.may_be_value)
        return {{mark, mark}, {}};
    const std::string_view word = text.substr(cursor.word_begin, offset - cursor.word_begin);
    return {{marks.mark(cursor.word_begin), mark}, Completer(cursor, word, outline, lab).run()};
}

} // namespace jackal::editor
