#include "reach/engine/rows.h"

#include "jackal/sorted.h"
#include "reach/parallel.h"

#include <algorithm>
#include <bit>

namespace jackal::reach {

namespace {

// What becomes of an answer, in a number: it is lost, it varies, or it gets there past a list of
// points.
constexpr std::uint32_t lost_code = ~std::uint32_t{0};
constexpr std::uint32_t varies_code = lost_code - 1;

std::uint32_t code(const Fate& fate) {
    switch (fate.kind) {
    case Fate::Kind::delivered: return fate.points;
    case Fate::Kind::varies: return varies_code;
    default: return lost_code;
    }
}

bool has_bit(const Bits& bits, std::size_t at) {
    return bits[at / 64] >> at % 64 & 1;
}

void clear_bit(Bits& bits, std::size_t at) {
    bits[at / 64] &= ~(std::uint64_t{1} << at % 64);
}

// Calls use(word, mask) for the words that the bits from `first` up to `last` stand in.
template <class Use>
void each_word(std::size_t first, std::size_t last, Use use) {
    while (first < last) {
        std::size_t end = std::min(last, (first / 64 + 1) * 64);
        std::uint64_t mask = ~std::uint64_t{0} >> (64 - (end - first)) << first % 64;
        use(first / 64, mask);
        first = end;
    }
}

} // namespace

Rows::Rows(const lab::Lab& lab, const std::vector<EndClass>& classes, const Packets& packets,
           const Columns& columns, unsigned threads)
    : lab_(lab), classes_(classes), packets_(packets), columns_(columns),
      filters_(lab, classes, packets) {
    find_runs();
    turn_answers(threads);
}

void Rows::find_runs() {
    for (std::uint32_t c = 0; c < classes_.size(); ++c) {
        const EndClass& sender = classes_[c];
        if (sender.is_walked)
            walked_.push_back(c);
        start_checks_.emplace_back();
        if (sender.is_plain)
            start_checks_[c] = Points::at_start(lab_, lab_.addresses[sender.first].nic);
        bool goes_on = !runs_.empty() && runs_.back().entrance == columns_.entrance(c)
                       && start_checks_[c] == start_checks_[c - 1];
        if (!goes_on)
            runs_.push_back({c, c, columns_.entrance(c)});
        runs_.back().last = c + 1;
    }
}

// The answers' fates, entrance by entrance.
void Rows::turn_answers(unsigned threads) {
    constexpr std::size_t stretch = 64;
    const std::size_t count = classes_.size();
    answers_.assign(columns_.entrances() * count, lost_code);
    in_parallel(count, stretch, threads, [&](unsigned, std::size_t first, std::size_t last) {
        for (std::size_t c = first; c < last; ++c) {
            const std::vector<Fate>& fates =
                columns_.answers_to(static_cast<std::uint32_t>(c)).fates;
            for (std::size_t entrance = 0; entrance < fates.size(); ++entrance)
                answers_[entrance * count + c] = code(fates[entrance]);
        }
    });
}

bool Rows::is_open(const EndClass& target) const {
    return !packets_.service
           || lab_.listens(lab_.nics[lab_.addresses[target.first].nic].machine, *packets_.service);
}

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
    for (const Run& run : runs_)
        fill_run(run, to, worker);
    fill_near(to, worker);
    row.self = columns_.requests_to(to).self.kind == Fate::Kind::delivered
               && columns_.answers_to(to).self.kind == Fate::Kind::delivered;
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

void Rows::fill_run(const Run& run, std::uint32_t to, Worker& worker) const {
    if (run.entrance == Columns::nowhere)
        return;
    const Fate& request = columns_.requests_to(to).fates[run.entrance];
    Row& row = worker.row;
    if (request.kind == Fate::Kind::lost)
        return;
    if (request.kind == Fate::Kind::varies) {
        each_word(run.first, run.last,
                  [&](std::size_t w, std::uint64_t mask) { row.unsettled[w] |= mask; });
        return;
    }
    const Bits* passing = worker.passing.along(request.points);
    each_word(run.first, run.last, [&](std::size_t w, std::uint64_t mask) {
        row.answered[w] |= passing != nullptr ? (*passing)[w] & mask : mask;
    });
    auto ask = [&](const FilterCheck& check) {
        const Bits& set = *worker.passing.through(check);
        each_word(run.first, run.last,
                  [&](std::size_t w, std::uint64_t mask) { row.answered[w] &= set[w] | ~mask; });
    };
    for (const FilterCheck& check : start_checks_[run.first])
        ask(check);
    if (request.door != Fate::none)
        for (const FilterCheck& check : Points::at_end(lab_, lab::NicId{request.door}))
            ask(check);
    judge_answers(run, request, to, worker);
}

void Rows::judge_answers(const Run& run, const Fate& request, std::uint32_t to,
                         Worker& worker) const {
    Row& row = worker.row;
    std::uint32_t entrance = columns_.answers_from(to, request.door);
    if (entrance == Columns::nowhere) {
        each_word(run.first, run.last,
                  [&](std::size_t w, std::uint64_t mask) { row.answered[w] &= ~mask; });
        return;
    }
    const std::uint32_t* codes = &answers_[entrance * classes_.size()];
    for (std::uint32_t from = run.first; from < run.last; ++from) {
        if (codes[from] == 0 || !has_bit(row.answered, from))
            continue;
        Verdict verdict = answer(from, to, request, codes[from], worker);
        if (verdict != Verdict::yes)
            clear_bit(row.answered, from);
        if (verdict == Verdict::unsettled)
            set_bit(row.unsettled, from);
    }
}

// What the answer to `request` meets, which `from` has sent.
Rows::Verdict Rows::answer(std::uint32_t from, std::uint32_t to, const Fate& request,
                           std::uint32_t answer_code, Worker& worker) const {
    if (answer_code == lost_code)
        return Verdict::no;
    if (answer_code == varies_code)
        return Verdict::unsettled;
    auto [beside, is_new] =
        worker.beside.try_emplace(std::uint64_t{answer_code} << 32 | request.points);
    if (is_new)
        beside->second = columns_.points().beside(answer_code, request.points);
    for (const FilterCheck& check : beside->second)
        if (!filters_.passes_answer(check, to, from))
            return Verdict::no;
    return Verdict::yes;
}

// Where sender or target leaves the way of its entrance, as the other is near to it.
void Rows::fill_near(std::uint32_t to, Worker& worker) const {
    const Columns::Near& requests = columns_.requests_to(to).near;
    const Columns::Near& answers = columns_.near_answers(to);
    std::vector<std::uint32_t> near;
    for (const auto& [from, fate] : requests)
        near.push_back(from);
    for (const auto& [from, fate] : answers)
        near.push_back(from);
    sort_unique(near);
    auto find = [](const Columns::Near& list, std::uint32_t from) -> const Fate* {
        auto found =
            std::ranges::lower_bound(list, from, {}, [](const auto& n) { return n.first; });
        return found != list.end() && found->first == from ? &found->second : nullptr;
    };
    static constexpr Fate lost{.kind = Fate::Kind::lost};
    for (std::uint32_t from : near) {
        const Fate* request = find(requests, from);
        bool is_near = request != nullptr;
        if (!is_near)
            request = columns_.entrance(from) == Columns::nowhere
                          ? &lost
                          : &columns_.requests_to(to).fates[columns_.entrance(from)];
        clear_bit(worker.row.answered, from);
        clear_bit(worker.row.unsettled, from);
        if (request->kind == Fate::Kind::lost)
            continue;
        if (request->kind == Fate::Kind::varies) {
            set_bit(worker.row.unsettled, from);
            continue;
        }
        const Bits* passing = worker.passing.along(request->points);
        bool passes = passing == nullptr || has_bit(*passing, from);
        auto ask = [&](const FilterCheck& check) {
            passes = passes && has_bit(*worker.passing.through(check), from);
        };
        if (!is_near)
            std::ranges::for_each(start_checks_[from], ask);
        if (request->door != Fate::none)
            std::ranges::for_each(Points::at_end(lab_, lab::NicId{request->door}), ask);
        if (!passes)
            continue;
        std::uint32_t answer_code = lost_code;
        if (const Fate* fate = find(answers, from))
            answer_code = code(*fate);
        else if (std::uint32_t e = columns_.answers_from(to, request->door); e != Columns::nowhere)
            answer_code = answers_[e * classes_.size() + from];
        Verdict verdict = answer(from, to, *request, answer_code, worker);
        if (verdict == Verdict::yes)
            set_bit(worker.row.answered, from);
        if (verdict == Verdict::unsettled)
            set_bit(worker.row.unsettled, from);
    }
}

} // namespace jackal::reach
