#include "command.h"

#include <fmt/format.h>

namespace jackal::cli {

namespace {

constexpr std::size_t most_events = 100;

// `3s=lamp-r1--vessel-r1`.
probe::TimelineEvent event_of(const lab::Lab& lab, const std::string& text, bool mends) {
    std::size_t equals = text.find('=');
    auto at = plan::parse_time(std::string_view(text).substr(0, equals));
    if (equals == text.npos || !at)
        throw NotAsked(fmt::format("{} {}: write TIME=WHAT, such as 3s=lamp-r1--vessel-r1",
                                   mends ? "--mend-at" : "--cut-at", text));
    std::string what = text.substr(equals + 1);
    auto cut = routing::parse_cut(lab, what);
    if (!cut)
        throw NotAsked(fmt::format("the lab has no {}", what));
    return {*at, mends, *std::move(cut)};
}

std::string time_text(probe::Microseconds time) {
    double us = time.count();
    return us >= 1e6 || us == 0 ? fmt::format("{:.6g} s", us / 1e6)
           : us >= 1e3          ? fmt::format("{:.4g} ms", us / 1e3)
                                : fmt::format("{:.4g} us", us);
}

// The ways that pings go, each with a letter: A, B, …, in the order in which they are first used.
class Ways {
  public:
    explicit Ways(const lab::Lab& lab) : lab_(lab) {}

    char letter(const probe::Stretch& stretch) {
        if (!stretch.answer.reaches)
            return '.';
        std::string text = way_text(lab_, *stretch.answer.out);
        std::string back = way_text(lab_, *stretch.answer.back);
        auto found = std::ranges::find(ways_, std::pair(text, back));
        if (found == ways_.end())
            found = ways_.insert(found, {text, back});
        auto number = static_cast<std::size_t>(found - ways_.begin());
        return number < 26 ? static_cast<char>('A' + number) : '*';
    }

    std::string legend(const Style& style) const {
        std::string out;
        for (std::size_t i = 0; i < ways_.size() && i < 26; ++i) {
            const auto& [there, back] = ways_[i];
            out += fmt::format("  {}  {}\n",
                               style.strong(std::string(1, static_cast<char>('A' + i))), there);
            std::string reversed = reverse(there);
            if (reversed != back)
                out += fmt::format("     back {}\n", back);
        }
        return out;
    }

  private:
    static std::string reverse(const std::string& way) {
        std::string out;
        for (std::size_t end = way.size(); end != 0;) {
            std::size_t arrow = way.rfind(" > ", end - 1);
            std::size_t begin = arrow == way.npos ? 0 : arrow + 3;
            out += (out.empty() ? "" : " > ") + way.substr(begin, end - begin);
            end = arrow == way.npos ? 0 : arrow;
        }
        return out;
    }

    const lab::Lab& lab_;
    std::vector<std::pair<std::string, std::string>> ways_;
};

constexpr int strip_width = 72;

// One character for each part of the time: the way of the pings, `.` where all were lost, `,`
// where some were; below it when something happened.
std::string strip_text(const Style& style, const probe::Timeline& timeline, Ways& ways,
                       probe::Microseconds total) {
    std::string strip;
    auto part = [&](int cell) { return total * cell / strip_width; };
    for (int cell = 0; cell < strip_width; ++cell) {
        char shown = ' ';
        bool lost = false;
        bool received = false;
        for (const probe::Stretch& stretch : timeline.stretches) {
            if (stretch.until <= part(cell) || stretch.from >= part(cell + 1))
                continue;
            char letter = ways.letter(stretch);
            lost |= letter == '.';
            received |= letter != '.';
            if (letter != '.' || shown == ' ')
                shown = letter;
        }
        shown = lost && received ? ',' : shown;
        std::string text(1, shown);
        strip += shown == '.'   ? style.bad(text)
                 : shown == ',' ? style.warning(text)
                                : style.good(text);
    }
    std::string marks(strip_width, ' ');
    for (const probe::TimelineEvent& event : timeline.events) {
        double place = event.at / total * strip_width;
        if (place < strip_width)
            marks[static_cast<std::size_t>(place)] = event.mends ? '+' : 'x';
    }
    std::string until = time_text(total);
    return fmt::format("  {}\n  {}\n  0 s{:>{}}\n", strip, marks, until, strip_width - 3);
}

std::string events_text(const Style& style, const Opened& opened, const probe::Timeline& timeline) {
    std::string out;
    for (std::size_t i = 0; i < timeline.events.size(); ++i) {
        const probe::TimelineEvent& event = timeline.events[i];
        out += fmt::format("  {}  {:>8}  {} {}", event.mends ? style.good("+") : style.bad("x"),
                           time_text(event.at), event.mends ? "mended" : "cut",
                           to_string(opened.lab, event.what));
        const probe::Turn* first = nullptr;
        const probe::Turn* last = nullptr;
        std::size_t count = 0;
        for (const probe::Turn& turn : timeline.turns)
            if (turn.event == i) {
                first = first == nullptr ? &turn : first;
                last = &turn;
                ++count;
            }
        if (count != 0)
            out += fmt::format("; {} go by new tables, {} first after {}, {} last after {}",
                               counted(count, "machine"), opened.lab.machines[first->machine].name,
                               time_text(first->at - event.at),
                               opened.lab.machines[last->machine].name,
                               time_text(last->at - event.at));
        out += "\n";
    }
    return out;
}

std::string timeline_text(const Style& style, const Opened& opened, const probe::Timeline& timeline,
                          const QuestionOptions& options, probe::Microseconds interval) {
    Ways ways(opened.lab);
    probe::Microseconds total = interval * options.ping.count;
    std::string out = fmt::format(
        "{} to {}, {}, one every {}\n\n", style.strong(options.from), style.strong(options.to),
        counted(static_cast<std::size_t>(options.ping.count), "ping"), time_text(interval));
    out += strip_text(style, timeline, ways, total);
    out += "\n" + ways.legend(style) + "\n" + events_text(style, opened, timeline) + "\n";
    Table table({"from", "until", "pings", "lost", "way", ""});
    for (std::size_t column : {0, 1, 2, 3})
        table.right(column);
    for (const probe::Stretch& stretch : timeline.stretches) {
        const auto& d = stretch.answer.diagnosis;
        bool out_of_reach = !stretch.answer.reaches;
        table.add(
            {time_text(stretch.from), time_text(stretch.until), fmt::format("{}", stretch.count),
             fmt::format("{}", stretch.count - stretch.received),
             out_of_reach ? style.bad("lost") : std::string(1, ways.letter(stretch)),
             out_of_reach && d
                 ? fmt::format("{} at {}", plan::slug(d->cause), opened.lab.machines[d->where].name)
                 : fmt::format("round trip {}", time_text(stretch.answer.round_trip.mean))});
    }
    out += table.text(style, 2);
    probe::Microseconds outage = timeline.longest_outage();
    out += fmt::format("\n  {} of {} came back; ", timeline.received, timeline.sent);
    if (outage.count() == 0)
        return out + "nothing was out of reach\n";
    out += fmt::format("out of reach for {} at the longest", style.strong(time_text(outage)));
    const auto [least, most] = timeline.outage_of_daemons();
    return out
           + (timeline.play.count() == 0 ? "\n"
                                         : fmt::format("; between real daemons {} to {}\n",
                                                       time_text(least), time_text(most)));
}

} // namespace

void add_timeline_options(CLI::App& command, TimelineOptions& options) {
    command.add_option("--interval", options.interval, "time between two pings; default 1s")
        ->type_name("TIME");
    command
        .add_option("--cut-at", options.cuts,
                    "cut something while the ping goes on; can be repeated")
        ->type_name("TIME=WHAT");
    command.add_option("--mend-at", options.mends, "undo a cut while it goes on; can be repeated")
        ->type_name("TIME=WHAT");
}

probe::TimelineQuestion timeline_question(const lab::Lab& lab, probe::PingQuestion ping, int count,
                                          const TimelineOptions& options) {
    probe::TimelineQuestion asked{.ping = std::move(ping), .count = count, .events = {}};
    if (!options.interval.empty()) {
        auto interval = plan::parse_time(options.interval);
        if (!interval || interval->count() <= 0)
            throw NotAsked(
                fmt::format("--interval {}: write a time such as 20ms or 1s", options.interval));
        asked.interval = *interval;
    }
    for (const std::string& cut : options.cuts)
        asked.events.push_back(event_of(lab, cut, false));
    const std::size_t cuts = asked.events.size();
    for (const std::string& mend : options.mends) {
        probe::TimelineEvent event = event_of(lab, mend, true);
        auto cut_before = [&](const probe::TimelineEvent& other) {
            return other.what == event.what && other.at <= event.at;
        };
        if (routing::is_held_down(lab, event.what))
            throw NotAsked(
                fmt::format("--mend-at {}: the plan itself holds that down; mend it there", mend));
        if (std::none_of(asked.events.begin(),
                         asked.events.begin() + static_cast<std::ptrdiff_t>(cuts), cut_before))
            throw NotAsked(fmt::format("--mend-at {}: no --cut-at cuts that before", mend));
        asked.events.push_back(std::move(event));
    }
    if (asked.events.size() > most_events)
        throw NotAsked(fmt::format("at most {} events", most_events));
    return asked;
}

Outcome ask_timeline(const Style& style, QuestionOptions& question,
                     const TimelineOptions& options) {
    if (!question.plan.cuts.empty())
        throw NotAsked("--cut is for the whole time; write --cut-at 0s=WHAT beside the others");
    Opened opened = open_plan(question.plan);
    const probe::TimelineQuestion asked =
        timeline_question(opened.lab, question_of(opened, question), question.ping.count, options);
    Capturing capturing(opened.lab, question.capture);
    auto capture = [&](const routing::Settled& settled, const probe::Stretch& stretch) {
        probe::Exchange exchange = stretch.answer;
        exchange.sent = stretch.count;
        capturing.add(settled, exchange, stretch.from, asked.interval, stretch.first + 1);
    };
    probe::Timeline timeline = probe::timeline(opened.lab, asked, capture);
    const std::string captured = capturing.write(style);
    int status = timeline.received == 0 ? status_no : status_well;
    if (question.plan.json())
        return {exports::timeline_json(opened.lab, asked, timeline) + "\n", status};
    return {timeline_text(style, opened, timeline, question, asked.interval) + captured, status};
}

} // namespace jackal::cli
