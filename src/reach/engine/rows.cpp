#include "reach/engine/rows.h"

#include "jackal/sorted.h"

#include <algorithm>
#include <bit>

namespace jackal::reach {

Rows::Rows(const lab::Lab& lab, const std::vector<EndClass>& classes, const Packets& packets,
           const Columns& columns)
    : lab_(lab), classes_(classes), packets_(packets), columns_(columns),
      filters_(lab, classes, packets) {
    find_runs();
    collect_checks();
}

void Rows::collect_checks() {
    auto add = [&](const std::vector<FilterCheck>& some) {
        checks_.insert(checks_.end(), some.begin(), some.end());
    };
    for (std::uint32_t list = 1; list < columns_.points().size(); ++list)
        add(columns_.points().first(list).checks);
    std::ranges::for_each(start_checks_, add);
    for (const EndClass& target : classes_)
        for (lab::NicId in : lab_.nics_of(lab_.nics[lab_.addresses[target.first].nic].machine))
            add(Points::at_end(lab_, in));
    sort_unique(checks_);
}

void Rows::find_runs() {
    for (std::uint32_t c = 0; c < classes_.size(); ++c) {
        const EndClass& sender = classes_[c];
        if (sender.is_walked)
            walked_.push_back(c);
        start_checks_.emplace_back();
        if (sender.is_plain)
            start_checks_[c] = Points::at_start(lab_, lab_.addresses[sender.first].nic);
        const Columns::Fates* answers = columns_.answers_to(c).fates.get();
        bool goes_on = !runs_.empty() && runs_.back().entrance == columns_.entrance(c)
                       && runs_.back().answers == answers
                       && start_checks_[c] == start_checks_[c - 1];
        if (!goes_on)
            runs_.push_back({c, c, columns_.entrance(c), answers});
        runs_.back().last = c + 1;
        run_of_.push_back(static_cast<std::uint32_t>(runs_.size() - 1));
    }
    runs_at_.resize(columns_.entrances().size());
    for (std::uint32_t run = 0; run < runs_.size(); ++run)
        if (runs_[run].entrance != Columns::nowhere)
            runs_at_[runs_[run].entrance].push_back(run);
}

bool Rows::is_open(const EndClass& target) const {
    return !packets_.service || packets_.is_served || packets_.is_one_way
           || lab_.listens(lab_.nics[lab_.addresses[target.first].nic].machine, *packets_.service);
}

std::vector<FilterCheck> Rows::end_checks(std::uint32_t to, const Fate& request) const {
    if (request.door == Fate::none)
        return {};
    return Points::at_end(lab_, request.door == Fate::only ? lab_.addresses[classes_[to].first].nic
                                                           : lab::NicId{request.door});
}

// --- ways there and back ---------------------------------------------------------------------

Rows::Outcome Rows::outcome(const Fate& request, const Fate& answer, Worker& worker) const {
    using Kind = Outcome::Kind;
    if (request.kind == Fate::Kind::varies)
        return {.kind = Kind::varies};
    if (packets_.is_one_way && request.kind == Fate::Kind::delivered)
        return {.kind = Kind::answered, .request = request};
    if (request.kind == Fate::Kind::lost || answer.kind == Fate::Kind::lost)
        return {.kind = Kind::lost};
    if (answer.kind == Fate::Kind::varies)
        return {.kind = Kind::varies};
    Outcome outcome{.kind = Kind::answered, .request = request};
    if (answer.points == 0)
        return outcome;
    auto [beside, is_new] =
        worker.beside.try_emplace(std::uint64_t{answer.points} << 32 | request.points);
    if (is_new)
        beside->second = worker.points.beside(answer.points, request.points);
    if (!beside->second.empty())
        outcome.asked_of_answer = &beside->second;
    return outcome;
}

// The outcomes of all runs, unless they are those of the last target.
void Rows::look_ahead(std::uint32_t to, Worker& worker) const {
    const Columns::Fates* requests = columns_.requests_to(to).fates.get();
    std::uint32_t entrance =
        classes_[to].is_host ? columns_.answers_from(to, Fate::only) : Columns::nowhere;
    if (classes_[to].is_host && requests == worker.requests && entrance == worker.entrance)
        return;
    worker.requests = classes_[to].is_host ? requests : nullptr;
    worker.entrance = entrance;
    worker.unfiltered.reset();
    worker.outcomes.assign(runs_.size(), {});
    for (std::size_t i = 0; i < runs_.size(); ++i) {
        const Run& run = runs_[i];
        if (run.entrance == Columns::nowhere || run.answers == nullptr)
            continue;
        const Fate& request = (*requests)[run.entrance];
        if (request.kind != Fate::Kind::lost)
            worker.outcomes[i] =
                outcome(request, columns_.answer_from(to, request, *run.answers), worker);
    }
}

// --- rows --------------------------------------------------------------------------------------

const Rows::Row& Rows::row(std::uint32_t to, Worker& worker) const {
    Row& row = worker.row;
    row.answered.assign(filters_.words(), 0);
    row.unsettled.assign(filters_.words(), 0);
    row.self = false;
    if (classes_[to].is_walked) {
        each_word(0, classes_.size(),
                  [&](std::size_t w, std::uint64_t mask) { row.unsettled[w] |= mask; });
        return row;
    }
    worker.passing.aim_at(to);
    look_ahead(to, worker);
    bool unfiltered = classes_[to].is_host && is_unfiltered(worker);
    if (unfiltered && worker.unfiltered) {
        row = *worker.unfiltered;
    } else {
        fill_runs(to, worker);
        if (unfiltered)
            worker.unfiltered = row;
    }
    fill_near(to, worker);
    row.self =
        columns_.requests_to(to).self.kind == Fate::Kind::delivered
        && (packets_.is_one_way || columns_.answers_to(to).self.kind == Fate::Kind::delivered);
    if (!is_open(classes_[to])) { // what varies may be sent on to a machine that listens
        row.answered.assign(filters_.words(), 0);
        row.self = false;
    }
    for (std::uint32_t from : walked_) {
        clear_bit(row.answered, from);
        set_bit(row.unsettled, from);
    }
    return row;
}

// True if nobody's request to the target is denied, and no answer is asked for.
bool Rows::is_unfiltered(Worker& worker) const {
    return std::ranges::none_of(
               checks_, [&](const FilterCheck& check) { return worker.passing.through(check); })
           && std::ranges::none_of(worker.outcomes, [](const Outcome& outcome) {
                  return outcome.asked_of_answer != nullptr;
              });
}

void Rows::fill_runs(std::uint32_t to, Worker& worker) const {
    for (std::size_t i = 0; i < runs_.size(); ++i)
        fill_run(runs_[i], worker.outcomes[i], to, worker);
    if (classes_[to].is_host) // all by its only door
        ask(0, static_cast<std::uint32_t>(classes_.size()),
            Points::at_end(lab_, lab_.addresses[classes_[to].first].nic), worker.row, worker);
}

void Rows::fill_run(const Run& run, const Outcome& outcome, std::uint32_t to,
                    Worker& worker) const {
    fill(run.first, run.last, outcome, to, worker.row, worker);
    if (outcome.kind != Outcome::Kind::answered)
        return;
    ask(run.first, run.last, start_checks_[run.first], worker.row, worker);
    if (outcome.request.door != Fate::only) // else all are asked at once
        ask(run.first, run.last, end_checks(to, outcome.request), worker.row, worker);
}

// Takes the outcome for that of all from `first` up to `last`, whom filters on the way let pass.
void Rows::fill(std::uint32_t first, std::uint32_t last, const Outcome& outcome, std::uint32_t to,
                Row& row, Worker& worker) const {
    if (outcome.kind == Outcome::Kind::lost)
        return;
    if (outcome.kind == Outcome::Kind::varies)
        return each_word(first, last,
                         [&](std::size_t w, std::uint64_t mask) { row.unsettled[w] |= mask; });
    const Bits* passing = worker.passing.along(outcome.request.points);
    each_word(first, last, [&](std::size_t w, std::uint64_t mask) {
        row.answered[w] |= passing != nullptr ? (*passing)[w] & mask : mask;
    });
    ask_of_answers(first, last, outcome, to, row);
}

// Strikes out those whose answers are denied.
void Rows::ask_of_answers(std::uint32_t first, std::uint32_t last, const Outcome& outcome,
                          std::uint32_t to, Row& row) const {
    if (outcome.asked_of_answer == nullptr)
        return;
    for (std::uint32_t from = first; from < last; ++from)
        if (has_bit(row.answered, from)
            && !std::ranges::all_of(*outcome.asked_of_answer, [&](const FilterCheck& check) {
                   return filters_.passes_answer(check, to, from);
               }))
            clear_bit(row.answered, from);
}

// Strikes out those whose requests the filters deny.
void Rows::ask(std::uint32_t first, std::uint32_t last, const std::vector<FilterCheck>& checks,
               Row& row, Worker& worker) const {
    for (const FilterCheck& check : checks)
        if (const Bits* set = worker.passing.through(check))
            each_word(first, last, [&](std::size_t w, std::uint64_t mask) {
                row.answered[w] &= (*set)[w] | ~mask;
            });
}

// Where sender or target leaves the way of its entrance, as the other is near to it.
void Rows::fill_near(std::uint32_t to, Worker& worker) const {
    const Columns::OfClass& requests = columns_.requests_to(to);
    const Columns::Near& answers = columns_.near_answers(to);
    std::vector<std::uint32_t> near;
    for (const Columns::Near* list : {&requests.near, &answers})
        for (const auto& [from, fate] : *list)
            near.push_back(from);
    sort_unique(near);
    for (std::uint32_t from : near) {
        clear_bit(worker.row.answered, from);
        clear_bit(worker.row.unsettled, from);
        if (classes_[from].is_walked)
            continue;
        Columns::Between fates = columns_.between(from, to);
        Outcome found = outcome(fates.request, fates.answer, worker);
        fill(from, from + 1, found, to, worker.row, worker);
        if (!fates.is_near)
            ask(from, from + 1, start_checks_[from], worker.row, worker);
        ask(from, from + 1, end_checks(to, found.request), worker.row, worker);
    }
}

} // namespace jackal::reach
