#include "command.h"

#include <fmt/format.h>

namespace jackal::cli {

namespace {

struct NamesOptions {
    PlanOptions plan;
    std::string sort;
};

Outcome names(const NamesOptions& options) {
    Opened opened = open_plan(options.plan);
    std::string text;
    auto add = [&](std::string_view sort, const auto& entries) {
        if (options.sort.empty() || options.sort == sort)
            for (const auto& entry : entries)
                text += entry.name + '\n';
    };
    add("machines", opened.lab.machines);
    add("subnets", opened.lab.subnets);
    add("sites", opened.lab.sites);
    return {text};
}

} // namespace

void add_names(CLI::App& app, Run& run) {
    auto options = std::make_shared<NamesOptions>();
    CLI::App* command =
        app.add_subcommand("names", "the names in a plan, one a line, for scripts and completion");
    add_plan_argument(*command, options->plan);
    take_words(command->add_option("--only", options->sort, "names of one sort alone"),
               {"machines", "subnets", "sites"});
    command->footer("Example:\n"
                    "  jackal names skerry.yaml --only machines");
    command->callback(
        [&run, options] { run = [options](const Style&) { return names(*options); }; });
}

} // namespace jackal::cli
