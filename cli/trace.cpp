#include "command.h"

#include <fmt/format.h>

namespace jackal::cli {

namespace {

std::string trace_text(const Style& style, const Opened& opened, const probe::TraceAnswer& answer,
                       const mend::Mending* mending) {
    Table table({"TTL", "machine", "address", "says", "ms"});
    table.right(0);
    table.right(4);
    for (const probe::TraceHop& hop : answer.hops) {
        std::string_view said = packet::to_string(hop.error);
        table.add({fmt::format("{}", hop.ttl), opened.lab.machines[hop.machine].name,
                   hop.address ? net::to_string(*hop.address) : "-",
                   !hop.address   ? style.bad("nothing is heard")
                   : said.empty() ? style.good("reply")
                                  : std::string(said),
                   hop.address ? fmt::format("{:.3f}", hop.round_trip.count() / 1000) : ""});
    }
    return table.text(style) + "\n" + verdict_text(style, opened, answer.ping, mending);
}

struct TraceCommand {
    QuestionOptions question;

    Outcome operator()(const Style& style) {
        sort_words(question);
        Opened opened = open_plan(question.plan);
        routing::Settled settled = settle(opened, question.plan);
        probe::PingQuestion asked = question_of(opened, question);
        Capturing capturing(opened.lab, question.capture);
        int ttl = 0;
        probe::TraceAnswer answer =
            probe::trace(settled, asked, [&](const probe::Exchange& exchange) {
                capturing.add(settled, exchange, std::chrono::seconds(ttl), std::chrono::seconds(1),
                              ttl + 1);
                ++ttl;
            });
        const std::string captured = capturing.write(style);
        auto mending = mending_of(opened, question, answer.ping);
        const mend::Mending* mend = mending ? &*mending : nullptr;
        int status = answer.ping.diagnosis ? status_no : status_well;
        if (question.plan.json())
            return {json_of(opened, question.plan, settled,
                            [&](const routing::Settled& where) {
                                return &where == &settled
                                           ? exports::trace_json(settled, answer, mend)
                                           : exports::trace_json(where, probe::trace(where, asked),
                                                                 nullptr);
                            }),
                    status};
        return {trace_text(style, opened, answer, mend)
                    + uncut_text(style, opened, question.plan, answer.ping) + captured,
                status};
    }
};

} // namespace

void add_trace(CLI::App& app, Run& run) {
    auto command = std::make_shared<TraceCommand>();
    CLI::App* entry = app.add_subcommand("trace", "the machines on the way, found by rising TTL");
    add_question_options(*entry, command->question);
    entry->footer("Example:\n"
                  "  jackal trace skerry.yaml weather-mast helm\n"
                  "\n"
                  "Exit status 1 if the far end does not reply.");
    entry->callback([&run, command] { run = [command](const Style& s) { return (*command)(s); }; });
}

} // namespace jackal::cli
