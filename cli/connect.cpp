#include "command.h"

#include <fmt/format.h>

namespace jackal::cli {

namespace {

// FROM TO SERVICE, behind the plan if there is one.
void sort_connect_words(QuestionOptions& options) {
    auto service = net::parse_service(options.words.back());
    if (!service)
        throw NotAsked(fmt::format("{} is no service; write [PLAN] FROM TO SERVICE, the service "
                                   "such as tcp/22 or udp/53",
                                   options.words.back()));
    options.ping.service = service;
    options.words.pop_back();
    sort_words(options);
}

} // namespace

void add_connect(CLI::App& app, Run& run) {
    auto question = std::make_shared<QuestionOptions>();
    CLI::App* entry = app.add_subcommand(
        "connect", "one connection to a service: open, refused, dropped or unreachable");
    add_question_options(*entry, *question, true);
    add_sampling_options(*entry, *question, "attempts to make; default 4");
    entry->footer(
        "Examples:\n"
        "  jackal connect skerry.yaml helm chart-desk tcp/443\n"
        "  jackal connect skerry.yaml kettle 10.40.8.138 udp/123 --format json\n"
        "\n"
        "open: something listens there (`listens` in the plan) and its answer comes back.\n"
        "refused: the machine says that nothing listens. dropped: a filter is in the way.\n"
        "unreachable: anything else. Exit status 1 if it is not open.");
    entry->callback([&run, question] {
        run = [question](const Style& style) {
            sort_connect_words(*question);
            return ask(style, *question);
        };
    });
}

} // namespace jackal::cli
