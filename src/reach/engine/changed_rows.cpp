// Rows under a change: only the senders for whom something on the way is otherwise are looked at.
#include "reach/engine/rows.h"

#include "jackal/sorted.h"

#include <algorithm>

namespace jackal::reach {

namespace {

void clear_words(Bits& bits, const std::vector<std::size_t>& words, std::size_t count) {
    if (bits.size() != count)
        bits.assign(count, 0);
    for (std::size_t w : words)
        bits[w] = 0;
}

} // namespace

// Nothing is looked at yet.
void Rows::clear(Worker& worker) const {
    ChangedRow& changed = worker.changed;
    for (Bits* bits :
         {&changed.looked_at, &changed.moved, &changed.now.answered, &changed.now.unsettled})
        clear_words(*bits, changed.words, filters_.words());
    changed.words.clear();
}

const Rows::ChangedRow* Rows::changed_row(std::uint32_t to, const ChangedColumns& now,
                                          Worker& worker) const {
    if (classes_[to].is_walked)
        return nullptr;
    ChangedRow& changed = worker.changed;
    bool is_touched = false;
    auto look = [&](std::uint32_t first, std::uint32_t last) {
        if (!is_touched) {
            clear(worker);
            worker.passing.aim_at(to);
            is_touched = true;
        }
        look_at(first, last, to, now, worker);
    };
    if (now.is_elsewhere(to)) { // it answers by another gateway
        look(0, static_cast<std::uint32_t>(classes_.size()));
    } else {
        if (std::uint32_t unit = now.unit_of(to); unit != ChangedColumns::none)
            for (const auto& [entrance, fate] : now.units()[unit].fates[0])
                for (std::uint32_t run : runs_at_[entrance])
                    look(runs_[run].first, runs_[run].last);
        for (std::uint32_t entrance : now.answering(to))
            for (std::uint32_t unit : now.answered_otherwise(entrance))
                for (auto [first, last] : now.units()[unit].stretches)
                    look(first, last);
        for (std::uint32_t from : now.elsewhere())
            look(from, from + 1);
    }
    for (std::uint32_t from : now.changed_near(to))
        look(from, from + 1);
    if (!is_touched)
        return nullptr;
    look_at_near(to, now, worker);
    if (!is_open(classes_[to]))
        clear_words(changed.now.answered, changed.words, filters_.words());
    return &changed;
}

// As fill(), for few: filter by filter.
void Rows::fill_stretch(std::uint32_t first, std::uint32_t last, const Outcome& outcome,
                        std::uint32_t to, Worker& worker) const {
    if (outcome.kind != Outcome::Kind::answered)
        return fill(first, last, outcome, to, worker.changed.now, worker);
    Outcome unasked = outcome;
    unasked.request.points = 0;
    unasked.asked_of_answer = nullptr;
    fill(first, last, unasked, to, worker.changed.now, worker);
    for (std::uint32_t list = outcome.request.points; list != 0; list = worker.points.rest(list))
        ask(first, last, worker.points.first(list).checks, worker.changed.now, worker);
    ask_of_answers(first, last, outcome, to, worker.changed.now);
}

// Looks at those from `first` up to `last` as if none was near to the target.
void Rows::look_at(std::uint32_t first, std::uint32_t last, std::uint32_t to,
                   const ChangedColumns& now, Worker& worker) const {
    Bits& looked_at = worker.changed.looked_at;
    while (first < last) {
        if (has_bit(looked_at, first) || classes_[first].is_walked) {
            ++first;
            continue;
        }
        std::uint32_t end = first + 1;
        while (end < last && run_of_[end] == run_of_[first]
               && now.unit_of(end) == now.unit_of(first)
               && now.is_elsewhere(end) == now.is_elsewhere(first) && !has_bit(looked_at, end))
            ++end;
        const Columns::Between before = columns_.far_between(first, to);
        const Columns::Between after = now.far_between(first, to);
        const Outcome found = outcome(after.request, after.answer, worker);
        fill_stretch(first, end, found, to, worker);
        if (found.kind == Outcome::Kind::answered) {
            ask(first, end, start_checks_[first], worker.changed.now, worker);
            ask(first, end, end_checks(to, after.request), worker.changed.now, worker);
        }
        bool is_moved = before.way() != after.way();
        each_word(first, end, [&](std::size_t w, std::uint64_t mask) {
            if (looked_at[w] == 0)
                worker.changed.words.push_back(w);
            looked_at[w] |= mask;
            worker.changed.moved[w] |= is_moved ? mask : 0;
        });
        first = end;
    }
}

void Rows::look_at_near(std::uint32_t to, const ChangedColumns& now, Worker& worker) const {
    std::vector<std::uint32_t> near;
    for (const Columns::Near* list : {&columns_.requests_to(to).near, &columns_.near_answers(to)})
        for (const auto& [from, fate] : *list)
            if (has_bit(worker.changed.looked_at, from))
                near.push_back(from);
    sort_unique(near);
    for (std::uint32_t from : near) {
        clear_bit(worker.changed.now.answered, from);
        clear_bit(worker.changed.now.unsettled, from);
        clear_bit(worker.changed.moved, from);
        if (classes_[from].is_walked)
            continue;
        const Columns::Between fates = now.between(from, to);
        const Outcome found = outcome(fates.request, fates.answer, worker);
        fill_stretch(from, from + 1, found, to, worker);
        if (!fates.is_near)
            ask(from, from + 1, start_checks_[from], worker.changed.now, worker);
        ask(from, from + 1, end_checks(to, found.request), worker.changed.now, worker);
        if (columns_.between(from, to).way() != fates.way())
            set_bit(worker.changed.moved, from);
    }
}

} // namespace jackal::reach
