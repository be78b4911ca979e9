#include "jackal/plan/complete.h"
#include "jackal/plan/rewrite.h"
#include "plan/edit/surgeon.h"

#include <algorithm>
#include <charconv>
#include <fmt/format.h>
#include <map>
#include <set>

namespace jackal::plan {

namespace {

using Step = Place::Step;
using Verb = PlaceChange::Verb;

// The step that means one machine of an entry with `count`, or null.
const Step* clone_step(const Place& place) {
    auto found = std::ranges::find(place.steps, Step::Kind::one_of, &Step::kind);
    return found == place.steps.end() ? nullptr : &*found;
}

// The place with the entry, or with its machine's own name, in the place of one of its machines.
Place with_name(Place place, bool of_entry) {
    for (Step& step : place.steps)
        if (step.kind == Step::Kind::one_of) {
            step.kind = Step::Kind::name;
            if (!of_entry)
                step.word = step.other;
            step.other.clear();
        }
    return place;
}

// Those that an entry with `count` stands for.
std::vector<std::string> machines_of(const Plan& plan, std::string_view entry) {
    std::vector<std::string> names;
    for (const Machine& machine : plan.machines)
        if (machine.clone_digits != 0 && machine.entry_name() == entry)
            names.push_back(machine.name);
    return names;
}

class Writer {
  public:
    Writer(std::string_view text, const Plan& plan, const std::vector<Edit>& edits,
           const Settings& settings)
        : plan_(plan), surgeon_(std::string(text), settings) {
        Plan current = plan;
        for (const Edit& edit : edits) {
            if (edit.changes.empty())
                throw InTheWay({}, edit.problem);
            Applied next = jackal::plan::apply(current, edit.changes);
            if (!next.plan)
                throw InTheWay(edit.changes.front().at, next.problem);
            if (*next.plan == current)
                continue; // it is there already
            edits_.push_back(edit);
            current = *std::move(next.plan);
        }
        after_ = std::move(current);
        find_common();
    }

    void run() {
        for (std::size_t i = 0; i < edits_.size(); ++i)
            if (!is_common_[i])
                write(edits_[i].changes, false);
            else if (first_[i])
                write(edits_[i].changes, true);
    }

    /// The plan that the text is to be.
    const Plan& after() const { return after_; }
    const std::string& text() const { return surgeon_.text(); }
    const std::vector<Problem>& notes() const { return surgeon_.notes(); }
    Mark first_place() const {
        return edits_.empty() ? Mark{} : Mark(edits_.front().changes.front().at);
    }

  private:
    // What all machines of an entry with `count` have in common is written at the entry.
    void find_common() {
        is_common_.assign(edits_.size(), false);
        first_.assign(edits_.size(), false);
        std::map<std::string, std::vector<std::size_t>> alike; // by what is changed
        std::map<std::pair<std::string, std::string>, int> times;
        for (std::size_t i = 0; i < edits_.size(); ++i)
            if (const Step* step = clone_step(edits_[i].changes.front().place)) {
                Edit of_entry = edits_[i];
                for (PlaceChange& change : of_entry.changes)
                    change.place = with_name(std::move(change.place), true);
                std::string key = to_line(of_entry);
                int time = times[{key, step->other}]++;
                alike[fmt::format("{} {}", time, key)].push_back(i);
            }
        for (const auto& [key, numbers] : alike) {
            const std::string& entry =
                clone_step(edits_[numbers.front()].changes.front().place)->word;
            if (numbers.size() != machines_of(plan_, entry).size())
                continue;
            first_[numbers.front()] = true;
            for (std::size_t i : numbers)
                is_common_[i] = true;
        }
    }

    void write(const std::vector<PlaceChange>& changes, bool at_entry) {
        const Place& place = changes.front().place;
        if (const Step* step = clone_step(place); step != nullptr && !at_entry)
            split(place.steps.front().word, step->word);
        make(changes.front(), at_entry);
        // What goes goes from the end on, so that positions in lists stay.
        for (std::size_t i = changes.size(); i-- > 1;)
            make(changes[i], at_entry);
    }

    void split(const std::string& section, const std::string& entry) {
        if (split_.insert(entry).second)
            surgeon_.split(Place{}.key(section).name(entry), machines_of(plan_, entry));
    }

    void make(PlaceChange change, bool at_entry) {
        change.place = with_name(std::move(change.place), at_entry);
        surgeon_.make(change);
    }

    const Plan& plan_;
    Plan after_;
    Surgeon surgeon_;
    std::vector<Edit> edits_;
    std::vector<bool> is_common_; // to all machines of its entry, parallel to edits_
    std::vector<bool> first_;     // and the first of those
    std::set<std::string> split_;
};

// Has an entry with `count` stand for each of its machines if the place leads through one of them.
void split_if_clone(Surgeon& surgeon, const Plan& plan, const Place& place) {
    if (place.steps.size() < 2)
        return;
    Place entry;
    entry.steps.assign(place.steps.begin(), place.steps.begin() + 2);
    const Machine* machine = plan.machine(entry.steps.back().word);
    if (machine == nullptr || machine->clone_digits == 0 || surgeon.has(entry))
        return;
    entry.steps.back().word = machine->entry_name();
    if (surgeon.has(entry))
        surgeon.split(entry, machines_of(plan, machine->entry_name()));
}

// The first difference, whatever machines come of a `count`; empty if there is none.
std::string differs(Plan wanted, Plan found) {
    for (Plan* plan : {&wanted, &found})
        for (Machine& machine : plan->machines)
            machine.clone_digits = 0;
    const std::vector<PlaceChange> all = difference(wanted, found);
    return all.empty() ? "" : to_line(all.front());
}

// What `work` makes of the text of a plan, if it reads before and after.
template <class Work>
Writing written(std::string_view text, const Settings& settings, Work work) {
    Writing result;
    if (is_utf16(text)) {
        result.problems.push_back({{}, "only files in UTF-8 can be changed; this one is UTF-16"});
        return result;
    }
    Reading before = read(text, "plan", settings);
    result.problems = std::move(before.problems);
    if (!before.plan)
        return result;
    Mark at; // of the change that is being made
    try {
        work(before.plan->written(), at, result);
    } catch (const InTheWay& e) {
        result.problems.push_back({e.at, e.what()});
    } catch (const std::invalid_argument& e) {
        result.problems.push_back(
            {at, fmt::format("the change cannot be written here: {}; make it by hand", e.what())});
    }
    if (!result.problems.empty())
        result.text.reset();
    return result;
}

// Throws InTheWay if it is none.
Plan plan_in(std::string_view text, const Settings& settings) {
    Reading after = read(text, "plan", settings);
    if (!after.plan)
        throw InTheWay(after.problems.front().at,
                       fmt::format("with the change the plan cannot be read: {}",
                                   after.problems.front().message));
    return after.plan->written();
}

} // namespace

Writing write(std::string_view text, const std::vector<Edit>& edits, const Settings& settings) {
    return written(text, settings, [&](const Plan& plan, Mark& at, Writing& result) {
        Writer writer(text, plan, edits, settings);
        at = writer.first_place();
        writer.run();
        if (const std::string other = differs(writer.after(), plan_in(writer.text(), settings));
            !other.empty())
            throw InTheWay(at, fmt::format("the change cannot be written here alone, as the plan "
                                           "would say {}; make it by hand",
                                           other));
        result.text = writer.text();
        result.notes = writer.notes();
    });
}

Writing write(std::string_view text, const std::vector<PlaceChange>& changes,
              const Settings& settings) {
    return written(text, settings, [&](const Plan& plan, Mark&, Writing& result) {
        Surgeon surgeon(std::string(text), settings);
        for (const PlaceChange& change : changes) {
            split_if_clone(surgeon, plan, change.place);
            if (change.verb == Verb::remove && !surgeon.has(change.place))
                throw InTheWay({}, fmt::format("nothing stands at {}", to_string(change.place)));
            surgeon.make(change);
        }
        (void)plan_in(surgeon.text(), settings);
        result.text = surgeon.text();
        result.notes = surgeon.notes();
    });
}

std::optional<PlaceChange> parse_change(std::string_view text) {
    PlaceChange change;
    std::size_t at = 0;
    for (bool is_first = true;; is_first = false) {
        if (at < text.size() && text[at] == '[' && !is_first) {
            std::size_t index = 0;
            auto [end, error] =
                std::from_chars(text.data() + at + 1, text.data() + text.size(), index);
            if (error != std::errc{} || end == text.data() + text.size() || *end != ']')
                return std::nullopt;
            change.place = change.place.index(index);
            at = static_cast<std::size_t>(end - text.data()) + 1;
            continue;
        }
        if (!is_first && (at == text.size() || text[at] != '.'))
            break;
        at += is_first ? 0 : 1;
        std::string_view rest = text.substr(at);
        bool is_quoted = rest.starts_with('"');
        std::size_t size =
            is_quoted ? rest.find('"', 1) : std::min(rest.find_first_of(".[=+-"), rest.size());
        // A hyphen inside a name is part of it.
        while (!is_quoted && size + 1 < rest.size() && size > 0 && rest[size] == '-'
               && std::string_view(".[=+").find(rest[size + 1]) == std::string_view::npos)
            size = std::min(rest.find_first_of(".[=+-", size + 1), rest.size());
        if (size == 0 || size == rest.npos)
            return std::nullopt;
        std::string_view word = is_quoted ? rest.substr(1, size - 1) : rest.substr(0, size);
        if (word.empty())
            return std::nullopt;
        change.place = change.place.key(word);
        at += size + (is_quoted ? 1 : 0);
    }
    std::string_view rest = text.substr(at);
    if (rest == "-") {
        change.verb = Verb::remove;
        return change;
    }
    for (auto [sign, verb] :
         {std::pair{"=", Verb::set}, std::pair{"+=", Verb::add}, std::pair{"-=", Verb::remove}})
        if (rest.starts_with(sign)) {
            change.verb = verb;
            change.value = rest.substr(std::string_view(sign).size());
            return change.value.empty() ? std::nullopt : std::optional(change);
        }
    return std::nullopt;
}

} // namespace jackal::plan
