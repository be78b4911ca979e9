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

// True if packets get to the same door, past the same filters.
bool passes_alike(const Fate& before, const Fate& after) {
    return before.kind == Fate::Kind::delivered && after.kind == Fate::Kind::delivered
           && before.points == after.points && before.door == after.door;
}

} // namespace

const Rows::ChangedRow* Rows::changed_row(std::uint32_t to, const ChangedColumns& now,
                                          const std::uint64_t* answered, Worker& worker) const {
    if (classes_[to].is_walked)
        return nullptr;
    const std::vector<Piece>& pieces = this->pieces(to, now, worker);
    const std::vector<std::uint32_t> near = now.changed_near(to);
    if (pieces.empty() && near.empty())
        return nullptr;
    ChangedRow& changed = worker.changed;
    for (Bits* bits :
         {&changed.looked_at, &changed.moved, &changed.now.answered, &changed.now.unsettled})
        clear_words(*bits, changed.words, filters_.words());
    changed.words.clear();
    worker.passing.aim_at(to);
    const bool lets_all_pass = worker.passing.lets_all_pass();
    for (const Piece& piece : pieces) {
        look_at(piece.first, piece.last, piece.is_moved, worker);
        if (lets_all_pass && piece.outcome.kind == Outcome::Kind::answered
            && piece.outcome.asked_of_answer == nullptr) {
            each_word(piece.first, piece.last,
                      [&](std::size_t w, std::uint64_t mask) { changed.now.answered[w] |= mask; });
            continue;
        }
        if (piece.is_as_before) {
            each_word(piece.first, piece.last, [&](std::size_t w, std::uint64_t mask) {
                changed.now.answered[w] |= answered[w] & mask;
            });
            continue;
        }
        fill_few(piece.first, piece.last, piece.outcome, to, worker);
        if (piece.outcome.kind == Outcome::Kind::answered) {
            ask(piece.first, piece.last, start_checks_[piece.first], changed.now, worker);
            ask(piece.first, piece.last, end_checks(to, piece.outcome.request), changed.now,
                worker);
        }
    }
    for (std::uint32_t from : near)
        if (!has_bit(changed.looked_at, from))
            look_at(from, from + 1, false, worker);
    look_at_near(to, now, worker);
    if (!is_open(classes_[to]))
        clear_words(changed.now.answered, changed.words, filters_.words());
    return &changed;
}

void Rows::look_at(std::uint32_t first, std::uint32_t last, bool is_moved, Worker& worker) {
    ChangedRow& changed = worker.changed;
    each_word(first, last, [&](std::size_t w, std::uint64_t mask) {
        if (changed.looked_at[w] == 0)
            changed.words.push_back(w);
        changed.looked_at[w] |= mask;
        changed.moved[w] |= is_moved ? mask : 0;
    });
}

// As fill(), for few: filter by filter.
void Rows::fill_few(std::uint32_t first, std::uint32_t last, const Outcome& outcome,
                    std::uint32_t to, Worker& worker) const {
    Row& row = worker.changed.now;
    Outcome unasked = outcome;
    unasked.request.points = 0;
    unasked.asked_of_answer = nullptr;
    fill(first, last, unasked, to, row, worker);
    if (outcome.kind != Outcome::Kind::answered)
        return;
    for (std::uint32_t list = outcome.request.points; list != 0; list = worker.points.rest(list))
        ask(first, last, worker.points.first(list).checks, row, worker);
    ask_of_answers(first, last, outcome, to, row);
}

// Whom to look at, and what becomes of their packets, as if none was near to the target. It is the
// same for all hosts that share a column and answer from one entrance.
const std::vector<Rows::Piece>& Rows::pieces(std::uint32_t to, const ChangedColumns& now,
                                             Worker& worker) const {
    if (!classes_[to].is_host || now.is_elsewhere(to)) {
        worker.own_pieces.clear();
        add_pieces(to, now, worker, worker.own_pieces);
        return worker.own_pieces;
    }
    const std::array<std::uint64_t, 2> key{
        reinterpret_cast<std::uintptr_t>(columns_.requests_to(to).fates.get()),
        std::uint64_t{now.unit_of(to)} << 32 | columns_.entrance(to)};
    auto [found, is_new] = worker.pieces.try_emplace(key);
    if (is_new)
        add_pieces(to, now, worker, found->second);
    return found->second;
}

void Rows::add_pieces(std::uint32_t to, const ChangedColumns& now, Worker& worker,
                      std::vector<Piece>& into) const {
    clear_words(worker.seen, worker.seen_words, filters_.words());
    worker.seen_words.clear();
    auto add = [&](std::uint32_t first, std::uint32_t last) {
        while (first < last) {
            std::uint32_t end = first + 1;
            if (!has_bit(worker.seen, first) && !classes_[first].is_walked) {
                while (end < last && run_of_[end] == run_of_[first]
                       && now.unit_of(end) == now.unit_of(first)
                       && now.is_elsewhere(end) == now.is_elsewhere(first)
                       && !has_bit(worker.seen, end))
                    ++end;
                add_piece(first, end, to, now, worker, into);
            }
            first = end;
        }
    };
    if (now.is_elsewhere(to)) // it answers by another gateway
        return add(0, static_cast<std::uint32_t>(classes_.size()));
    if (std::uint32_t unit = now.unit_of(to); unit != ChangedColumns::none)
        for (const auto& [entrance, fate] : now.units()[unit].fates[0])
            for (std::uint32_t run : runs_at_[entrance])
                add(runs_[run].first, runs_[run].last);
    for (std::uint32_t entrance : now.answering(to))
        for (std::uint32_t unit : now.answered_otherwise(entrance))
            for (auto [first, last] : now.units()[unit].stretches)
                add(first, last);
    for (std::uint32_t from : now.elsewhere())
        add(from, from + 1);
}

void Rows::add_piece(std::uint32_t first, std::uint32_t last, std::uint32_t to,
                     const ChangedColumns& now, Worker& worker, std::vector<Piece>& into) const {
    each_word(first, last, [&](std::size_t w, std::uint64_t mask) {
        worker.seen[w] |= mask;
        worker.seen_words.push_back(w);
    });
    const Columns::Between before = columns_.far_between(first, to);
    const Columns::Between after = now.far_between(first, to);
    const Outcome found = outcome(after.request, after.answer, worker);
    bool is_as_before = found.kind == Outcome::Kind::answered
                        && passes_alike(before.request, after.request)
                        && passes_alike(before.answer, after.answer);
    into.push_back({first, last, before.way() != after.way(), is_as_before, found});
}

void Rows::look_at_near(std::uint32_t to, const ChangedColumns& now, Worker& worker) const {
    ChangedRow& changed = worker.changed;
    std::vector<std::uint32_t> near;
    for (const Columns::Near* list : {&columns_.requests_to(to).near, &columns_.near_answers(to)})
        for (const auto& [from, fate] : *list)
            if (has_bit(changed.looked_at, from))
                near.push_back(from);
    sort_unique(near);
    for (std::uint32_t from : near) {
        clear_bit(changed.now.answered, from);
        clear_bit(changed.now.unsettled, from);
        clear_bit(changed.moved, from);
        if (classes_[from].is_walked)
            continue;
        const Columns::Between fates = now.between(from, to);
        const Outcome found = outcome(fates.request, fates.answer, worker);
        fill_few(from, from + 1, found, to, worker);
        if (!fates.is_near)
            ask(from, from + 1, start_checks_[from], changed.now, worker);
        ask(from, from + 1, end_checks(to, found.request), changed.now, worker);
        if (columns_.between(from, to).way() != fates.way())
            set_bit(changed.moved, from);
    }
}

} // namespace jackal::reach
