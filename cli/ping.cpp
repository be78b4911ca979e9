#include "command.h"
#include "jackal/sorted.h"

#include <fmt/format.h>
#include <fmt/ranges.h>

namespace jackal::cli {

namespace {

std::string nics_text(const lab::Lab& lab, const packet::Step& step) {
    bool drop = step.action == packet::Action::drop;
    std::string in = step.in ? lab.nics[step.in].name : "";
    std::string out = step.out && !drop ? lab.nics[step.out].name : "";
    return in.empty() || out.empty() ? in + out : fmt::format("{} > {}", in, out);
}

// The journey of the packet around one that a tunnel carries.
void add_outer(Table& table, const Style& style, const routing::Settled& settled,
               const packet::Crossing& crossing, const std::string& indent) {
    const lab::Lab& lab = settled.lab();
    table.add({style.faint(indent + "tunnelled"), "", "",
               style.faint(exports::crossing_text(lab, crossing))});
    if (!crossing.outer)
        return;
    const packet::Journey& outer = *crossing.outer;
    for (std::size_t i = 0; i < outer.steps.size(); ++i) {
        const packet::Step& step = outer.steps[i];
        bool drop = step.action == packet::Action::drop;
        std::string action(packet::to_string(step.action));
        table.add({style.faint(indent + "  " + lab.machines[step.machine].name),
                   style.faint(nics_text(lab, step)),
                   drop ? style.bad(action) : style.faint(action),
                   style.faint(exports::step_detail(settled, outer, i))});
        if (const packet::Crossing* inner = exports::crossing_at(outer, i))
            add_outer(table, style, settled, *inner, indent + "  ");
    }
}

void add_journey(Table& table, const Style& style, const routing::Settled& settled,
                 std::string_view heading, const packet::Journey& journey) {
    const lab::Lab& lab = settled.lab();
    table.add_line("  " + style.faint(heading));
    for (std::size_t i = 0; i < journey.steps.size(); ++i) {
        const packet::Step& step = journey.steps[i];
        bool drop = step.action == packet::Action::drop;
        std::string action(packet::to_string(step.action));
        if (std::string switches = exports::switch_text(settled, journey, i); !switches.empty())
            table.add({style.faint("  switched"), "", "", style.faint(switches)});
        table.add({lab.machines[step.machine].name, nics_text(lab, step),
                   drop ? style.bad(action) : action, exports::step_detail(settled, journey, i)});
        for (const std::string& text : exports::filter_texts(settled, journey, i))
            table.add({"", "", "", style.faint(text)});
        for (const std::string& text : exports::rewrite_texts(journey, i))
            table.add({"", "", "", style.strong(text)});
        if (const packet::Crossing* crossing = exports::crossing_at(journey, i))
            add_outer(table, style, settled, *crossing, "  ");
    }
}

std::string ends_text(const Style& style, const lab::Lab& lab, const probe::PingAnswer& answer) {
    auto with_address = [&](const std::string& name, const std::optional<net::Address>& address) {
        if (!address || net::to_string(*address) == name)
            return style.strong(name);
        return fmt::format("{} ({})", style.strong(name), net::to_string(*address));
    };
    const auto& service = answer.question.service;
    std::string text =
        fmt::format("{} to {}{}\n", with_address(answer.question.from.name, answer.source),
                    with_address(answer.question.to.name, answer.destination),
                    service ? ", " + net::to_string(*service) : "");
    constexpr std::size_t most = 6;
    std::vector<std::string> others;
    for (net::Address address : probe::other_destinations(lab, answer)) {
        if (others.size() == most) {
            others.emplace_back("…");
            break;
        }
        others.push_back(net::to_string(address));
    }
    if (!others.empty())
        text += style.faint(
            fmt::format("{} is also {}\n", answer.question.to.name, fmt::join(others, ", ")));
    return text;
}

std::string error_text(const lab::Lab& lab, const probe::PingAnswer& answer) {
    const probe::SeenError& error = answer.error;
    if (error.error == packet::IcmpError::none)
        return "the sender hears nothing";
    if (error.machine == answer.question.from.machine)
        return fmt::format("{} itself says {}", lab.machines[error.machine].name,
                           packet::to_string(error.error));
    std::string said =
        fmt::format("{} from {}", packet::to_string(error.error), lab.machines[error.machine].name);
    if (!error.heard)
        return fmt::format("{} is sent, but does not come back to the sender", said);
    return fmt::format("the sender hears {}", said);
}

std::string verdict_words(const lab::Lab& lab, const probe::PingAnswer& answer) {
    if (!answer.diagnosis)
        return fmt::format("round trip {:.3f} ms", milliseconds(answer.round_trip.mean));
    return fmt::format("{} at {}", plan::slug(answer.diagnosis->cause),
                       lab.machines[answer.diagnosis->where].name);
}

} // namespace

std::string uncut_text(const Style& style, const Opened& opened, const PlanOptions& options,
                       const probe::PingAnswer& answer) {
    if (options.cuts.empty())
        return "";
    routing::Settled whole = routing::settle(opened.lab);
    probe::PingAnswer before = probe::ping(whole, answer.question);
    std::string heading = style.faint("  without the cut ");
    if (before.diagnosis)
        return heading
               + fmt::format(" {}, too: {}\n", probe::to_string(before.outcome()),
                             verdict_words(opened.lab, before));
    if (probe::same_way(before.out, answer.out) && probe::same_way(before.back, answer.back))
        return heading + " the same\n";
    return heading
           + fmt::format(" {} by {}, {}\n", probe::to_string(before.outcome()),
                         way_text(opened.lab, *before.out), verdict_words(opened.lab, before));
}

namespace {

// One line for each way that pings may go, by equal next hops.
Outcome ask_every_way(const Style& style, const Opened& opened, const PlanOptions& options,
                      const routing::Settled& settled, const probe::PingQuestion& question) {
    std::vector<probe::PingAnswer> answers = probe::ping_every_way(settled, question);
    bool all = std::ranges::all_of(answers, &probe::PingAnswer::reaches);
    auto answers_of = [&](const routing::Settled& asked) {
        return &asked == &settled ? answers : probe::ping_every_way(asked, question);
    };
    if (options.json())
        return {json_of(opened, options, settled,
                        [&](const routing::Settled& asked) {
                            return exports::ways_of_ping_json(asked, answers_of(asked));
                        }),
                all ? status_well : status_no};
    std::vector<std::string> lines; // each once
    for (const probe::PingAnswer& answer : answers) {
        std::string_view outcome = probe::to_string(answer.outcome());
        std::string line =
            fmt::format("  {}  {}\n", answer.diagnosis ? style.bad(outcome) : style.good(outcome),
                        verdict_words(opened.lab, answer));
        for (const auto& [heading, journey] :
             {std::pair("there", &answer.out), {"back", &answer.back}})
            if (*journey)
                line += fmt::format("    {:5}  {}\n", style.faint(heading),
                                    way_text(opened.lab, **journey));
        if (std::ranges::find(lines, line) == lines.end())
            lines.push_back(std::move(line));
    }
    std::string out = ends_text(style, settled.lab(), answers.front()) + "\n";
    for (const std::string& line : lines)
        out += line;
    Rows rows{{"there", "back", "", ""}, 2, [&](const routing::Settled& asked) {
                  std::vector<std::vector<std::string>> ways;
                  for (const probe::PingAnswer& answer : answers_of(asked))
                      ways.push_back({answer.out ? way_text(opened.lab, *answer.out) : "",
                                      answer.back ? way_text(opened.lab, *answer.back) : "",
                                      std::string(probe::to_string(answer.outcome())),
                                      verdict_words(opened.lab, answer)});
                  sort_unique(ways);
                  return ways;
              }};
    return {out + fmt::format("\n  {}\n", counted(lines.size(), "way"))
                + changes_text(style, opened, options, settled, rows),
            all ? status_well : status_no};
}

} // namespace

std::string way_text(const lab::Lab& lab, const packet::Journey& journey) {
    std::string text;
    for (const packet::Step& step : journey.steps)
        text += (text.empty() ? "" : " > ") + lab.machines[step.machine].name;
    return text;
}

Outcome ask(const Style& style, QuestionOptions& question) {
    Opened opened = open_plan(question.plan);
    routing::Settled settled = settle(opened, question.plan);
    probe::PingQuestion asked = question_of(opened, question);
    Capturing capturing(opened.lab, question.capture);
    if (question.every_way && !question.capture.file.empty())
        throw NotAsked("--capture is of one way; leave --every-way out");
    if (question.every_way)
        return ask_every_way(style, opened, question.plan, settled, asked);
    probe::PingAnswer answer = probe::ping(settled, asked);
    capturing.add(settled, answer);
    const std::string captured = capturing.write(style);
    auto mending = mending_of(opened, question, answer);
    const mend::Mending* mend = mending ? &*mending : nullptr;
    int status = answer.diagnosis ? status_no : status_well;
    if (question.plan.json())
        return {json_of(opened, question.plan, settled,
                        [&](const routing::Settled& where) {
                            return &where == &settled
                                       ? exports::ping_json(settled, answer, mend)
                                       : exports::ping_json(where, probe::ping(where, asked),
                                                            nullptr);
                        }),
                status};
    return {ping_text(style, opened, settled, answer, mend)
                + uncut_text(style, opened, question.plan, answer) + captured,
            status};
}

std::string verdict_text(const Style& style, const Opened& opened, const probe::PingAnswer& answer,
                         const mend::Mending* mending) {
    const auto& service = answer.question.service;
    if (!answer.diagnosis) {
        const bool is_datagram = service && service->protocol == net::Protocol::udp;
        return fmt::format(
            "  {}  {} of {} {}, TTL {}, round trip {:.3f} / {:.3f} / {:.3f} ms (min / mean / "
            "max)\n",
            style.good(probe::to_string(answer.outcome())), answer.received, answer.sent,
            is_datagram ? "arrive where something listens; an answer, if it sends one, comes back"
                        : "came back",
            answer.reply_ttl, milliseconds(answer.round_trip.min),
            milliseconds(answer.round_trip.mean), milliseconds(answer.round_trip.max));
    }
    const probe::Diagnosis& d = *answer.diagnosis;
    std::string out =
        fmt::format("  {}  {} at {}  {}\n    {}\n",
                    style.bad(service ? probe::to_string(answer.outcome()) : "no reply"),
                    style.strong(plan::slug(d.cause)), opened.lab.machines[d.where].name,
                    style.faint(plan::to_string(d.at, opened.lab.source)), d.explanation);
    if (answer.out && answer.outcome() != probe::Outcome::refused)
        out += fmt::format("    {}\n", error_text(opened.lab, answer));
    return out + remedy_text(style, d.remedy, mending, service.has_value());
}

std::string remedy_text(const Style& style, lab::Remedy remedy, const mend::Mending* mending,
                        bool is_service) {
    std::string out;
    if (mending != nullptr)
        remedy = {mending->edits, mending->advice};
    for (const std::string& line : lab::to_lines(remedy))
        out += fmt::format("  {}  {}\n", style.good("remedy"), line);
    if (mending != nullptr && !mending->edits.empty())
        out += fmt::format("    {}\n", mending->mends
                                           ? fmt::format("tried on a copy of the plan: {}",
                                                         is_service ? "the service answers"
                                                                    : "the ping gets its reply")
                                           : "more is needed behind that");
    return out;
}

std::string ping_text(const Style& style, const Opened& opened, const routing::Settled& settled,
                      const probe::PingAnswer& answer, const mend::Mending* mending) {
    std::string out = ends_text(style, settled.lab(), answer) + "\n";
    Table table({"", "", "", ""});
    if (answer.out)
        add_journey(table, style, settled, "there", *answer.out);
    if (answer.back)
        add_journey(table, style, settled, "back", *answer.back);
    return out + table.text(style, 4) + (answer.out ? "\n" : "")
           + verdict_text(style, opened, answer, mending);
}

void add_ping(CLI::App& app, Run& run) {
    auto question = std::make_shared<QuestionOptions>();
    CLI::App* entry =
        app.add_subcommand("ping", "one ping: the way there and back, and why it fails");
    add_question_options(*entry, *question);
    add_sampling_options(*entry, *question, "echo requests to send; default 4");
    entry->add_flag("--every-way", question->every_way,
                    "by each of equal next hops, there and back");
    auto timeline = std::make_shared<TimelineOptions>();
    add_timeline_options(*entry, *timeline);
    entry->footer("Examples:\n"
                  "  jackal ping skerry.yaml chart-desk kettle\n"
                  "  jackal ping skerry.yaml helm quay-r1/eth1 --family 6\n"
                  "  jackal ping skerry.yaml helm kettle --cut lamp-r1--vessel-r1\n"
                  "  jackal ping skerry.yaml helm kettle --count 1000 --interval 20ms \\\n"
                  "      --cut-at 3s=lamp-r1--vessel-r1 --mend-at 9s=lamp-r1--vessel-r1\n"
                  "\n"
                  "With --cut-at or --mend-at the answer is a timeline. Exit status 1 if no reply\n"
                  "comes.");
    entry->callback([&run, question, timeline] {
        run = [question, timeline](const Style& style) {
            sort_words(*question);
            return timeline->asked() ? ask_timeline(style, *question, *timeline)
                                     : ask(style, *question);
        };
    });
}

} // namespace jackal::cli
