#include "export/drawing/draft.h"
#include "export/drawing/layout.h"

#include "jackal/export/words.h"
#include "jackal/limits.h"
#include "jackal/reach/matrix.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::exports::drawing {

using namespace lab;

std::string_view to_string(View view) {
    switch (view) {
    case View::routes: return "routes";
    case View::wires: return "wires";
    case View::sites: return "sites";
    }
    return "";
}

namespace {

void mark_findings(Draft& draft) {
    const auto& findings = draft.options.findings;
    std::size_t shown = std::min(most_marked, findings.size());
    for (std::size_t i = 0; i < shown; ++i) {
        const Finding& finding = findings[i];
        Badge badge{finding.severity == Severity::error ? Badge::Kind::error : Badge::Kind::warning,
                    i + 1};
        if (!draft.mark(finding.subject, badge) && !finding.from.empty())
            draft.mark(finding.from, badge);
        draft.picture.notes.push_back(fmt::format(
            "!{} {} {}, {}: {}", i + 1, lab::to_string(finding.severity), plan::slug(finding.cause),
            plan::to_string(finding.at, draft.lab.source), finding.message));
    }
    if (shown < findings.size())
        draft.picture.notes.push_back(
            fmt::format("{} more findings are not marked", findings.size() - shown));
}

void add_passage(Line& line, Passage passage) {
    if (std::ranges::find(line.passages, passage) == line.passages.end())
        line.passages.push_back(passage);
}

// Along the cables between the switches that a packet passes from one NIC to another.
void pass_cables(Draft& draft, NicId from, NicId to, bool is_back) {
    std::vector<PortId> ports = draft.settled.wiring().way(from, to);
    for (std::size_t i = 1; i < ports.size(); ++i) {
        auto left = draft.cables.find(ports[i - 1]);
        auto entered = draft.cables.find(ports[i]);
        if (left == draft.cables.end() || entered == draft.cables.end()
            || left->second != entered->second)
            continue;
        Line& line = draft.picture.lines[left->second];
        add_passage(line, {is_back, line.ends[0].card == draft.place_of(ports[i])->card});
    }
}

// The journey's steps as marks where its machines stand, and its way along the lines.
void draw_way(Draft& draft, const packet::Journey& journey, bool is_back) {
    auto pass = [&](NicId nic, MachineId towards) {
        auto line = nic ? draft.line_of(nic) : std::nullopt;
        if (!line)
            return;
        Line& way = draft.picture.lines[*line];
        Place to = draft.place_of(towards);
        // Along a line to a segment the packet goes to or from the machine that the NIC belongs to.
        add_passage(way, {is_back, to && way.ends[0].card == to->card});
    };
    for (std::size_t i = 0; i < journey.steps.size(); ++i) {
        const packet::Step& step = journey.steps[i];
        if (Place place = draft.place_of(step.machine))
            draft.mark(*place, {is_back ? Badge::Kind::back : Badge::Kind::out, i + 1});
        if (step.in)
            pass(step.in, step.machine);
        if (!step.out)
            continue;
        if (i + 1 == journey.steps.size()) {
            pass(step.out, {});
            continue;
        }
        const packet::Step& next = journey.steps[i + 1];
        pass(step.out, next.machine);
        if (draft.options.view == View::wires && next.in && draft.lab.has_wiring())
            pass_cables(draft, step.out, next.in, is_back);
    }
}

void draw_answer(Draft& draft, const probe::PingAnswer& answer) {
    std::string asked = fmt::format("{} to {}", answer.question.from.name, answer.question.to.name);
    if (answer.out)
        draw_way(draft, *answer.out, false);
    if (answer.back)
        draw_way(draft, *answer.back, true);
    std::string reply = answer.replied() ? fmt::format("reply after {:.2f} ms",
                                                       answer.round_trip.mean.count() / 1000)
                                         : std::string(plan::slug(answer.diagnosis->cause)) + ": "
                                               + answer.diagnosis->explanation;
    draft.picture.notes.push_back(fmt::format("{}: {}", asked, reply));
    if (answer.replied())
        return;
    const auto& last = answer.back && answer.gap != probe::Gap::none ? answer.back : answer.out;
    if (last && answer.gap != probe::Gap::nothing_listens)
        if (Place place = draft.place_of(last->last_machine()))
            draft.mark(*place, {Badge::Kind::end, 0});
}

// By machine: which others some address of its gets a reply from.
using Reached = std::vector<std::vector<bool>>;

Reached reached_by(const routing::Settled& settled) {
    const Lab& lab = settled.lab();
    Reached reached(lab.machines.size(), std::vector<bool>(lab.machines.size()));
    for (net::Family family : net::both_families) {
        reach::Matrix matrix = reach::matrix(settled, reach::ends(lab, family));
        auto machine = [&](std::size_t end) {
            return lab.nics[lab.addresses[matrix.ends()[end]].nic].machine.row;
        };
        for (std::size_t from = 0; from < matrix.ends().size(); ++from)
            for (std::size_t to = 0; to < matrix.ends().size(); ++to)
                if (machine(from) != machine(to) && matrix.reaches(from, to))
                    reached[machine(from)][machine(to)] = true;
    }
    return reached;
}

// What the cuts take from each machine, on its row or card.
void tell_changes(Draft& draft) {
    if (!draft.options.whole)
        return;
    const Reached before = reached_by(*draft.options.whole);
    const Reached after = reached_by(draft.settled);
    std::map<std::pair<std::size_t, std::size_t>, std::size_t> lost; // by card and row
    std::size_t all = 0;
    for (MachineId from : draft.lab.machines.ids())
        for (MachineId to : draft.lab.machines.ids()) {
            if (!before[from.row][to.row] || after[from.row][to.row])
                continue;
            ++all;
            if (Place place = draft.place_of(from))
                ++lost[{place->card, place->row}];
        }
    for (const auto& [place, count] : lost) {
        Card& card = draft.picture.cards[place.first];
        std::string text = fmt::format("loses {}", count);
        if (place.second == LineEnd::title)
            card.says += ", " + text;
        else if (std::string& note = card.rows[place.second].note; note.empty())
            note = text;
        else
            note += ", " + text;
    }
    draft.picture.notes.push_back(
        all == 0
            ? "under the cuts every machine reaches all that it reaches without them"
            : fmt::format("replies lost under the cuts: {} of machines (\"loses 3\": of so many "
                          "others a machine no longer gets one)",
                          counted(all, "pair")));
}

// Rows beyond the most for one card become one, and so do the lines from them to one place.
void fold_rows(Picture& picture) {
    std::size_t folded = 0;
    std::vector<bool> is_long(picture.cards.size());
    for (std::size_t i = 0; i < picture.cards.size(); ++i) {
        auto& rows = picture.cards[i].rows;
        if (rows.size() <= limits::drawn_rows)
            continue;
        is_long[i] = true;
        std::size_t more = rows.size() - limits::drawn_rows + 1;
        folded += more;
        rows.resize(limits::drawn_rows - 1);
        rows.push_back({.label = fmt::format("{} more", more)});
    }
    if (folded == 0)
        return;
    std::set<std::tuple<std::size_t, std::size_t, std::size_t, std::size_t>> seen;
    std::erase_if(picture.lines, [&](Line& line) {
        for (LineEnd& end : line.ends)
            if (is_long[end.card] && end.row != LineEnd::title)
                end.row = std::min(end.row, limits::drawn_rows - 1);
        bool is_short =
            std::ranges::none_of(line.ends, [&](const LineEnd& end) { return is_long[end.card]; });
        const LineEnd& one = line.ends[0];
        const LineEnd& other = line.ends[1];
        return !is_short && !seen.emplace(one.card, one.row, other.card, other.row).second;
    });
    picture.notes.push_back(fmt::format("{} rows of long cards are folded into \"more\"", folded));
}

// The cards that are nearest to the one with the most lines.
void leave_out_far(Picture& picture) {
    if (picture.cards.size() <= limits::drawn_cards)
        return;
    std::vector<std::size_t> order = outwards(picture, false);
    order.resize(limits::drawn_cards);
    std::ranges::sort(order);
    std::vector<std::size_t> place(picture.cards.size(), Card::no_frame);
    std::vector<Card> cards;
    for (std::size_t old : order) {
        place[old] = cards.size();
        cards.push_back(std::move(picture.cards[old]));
    }
    picture.notes.push_back(fmt::format(
        "{} of {} cards are drawn, those nearest to the one with the most lines: ask for a part "
        "around a machine",
        cards.size(), picture.cards.size()));
    picture.cards = std::move(cards);
    std::erase_if(picture.lines, [&](const Line& line) {
        return std::ranges::any_of(
            line.ends, [&](const LineEnd& end) { return place[end.card] == Card::no_frame; });
    });
    for (Line& line : picture.lines)
        for (LineEnd& end : line.ends)
            end.card = place[end.card];
}

void tell_folded(Draft& draft) {
    std::size_t guests = 0;
    std::map<std::pair<std::size_t, std::size_t>, std::size_t> on_row;
    for (const auto& [machine, end] : draft.machines)
        if (end.row != LineEnd::title && draft.picture.cards[end.card].kind == Card::Kind::segment)
            ++on_row[{end.card, end.row}];
    for (const auto& [row, machines] : on_row)
        guests += machines > 1 ? machines : 0;
    if (guests != 0)
        draft.picture.notes.push_back(
            fmt::format("{} guests are folded into rows with others", guests));
    if (draft.folded_segments != 0)
        draft.picture.notes.push_back(
            fmt::format("{} segments that one machine alone joins are told on its rows",
                        draft.folded_segments));
}

} // namespace

Picture picture(const routing::Settled& settled, const PictureOptions& options) {
    Draft draft(settled, options);
    draft.picture.title = settled.lab().name;
    draft.picture.view = options.view;
    if (options.view == View::sites)
        draw_sites(draft);
    else
        draw_machines(draft);
    if (options.answer)
        draw_answer(draft, *options.answer);
    mark_findings(draft);
    tell_changes(draft);
    tell_folded(draft);
    leave_out_far(draft.picture);
    fold_rows(draft.picture);
    return std::move(draft.picture);
}

} // namespace jackal::exports::drawing
