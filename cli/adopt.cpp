#include "command.h"
#include "facts.h"
#include "file.h"

#include <fmt/format.h>

namespace jackal::cli {

namespace {

struct AdoptOptions {
    std::string facts;
    std::string name = "adopted";
    std::string output;
    bool replace = false;
};

Outcome answer(const AdoptOptions& options) {
    if (!plan::is_name(options.name))
        throw NotAsked(
            fmt::format("{} is no name of a lab: a-z, 0-9 and inner hyphens", options.name));
    refuse_existing(options.output, options.replace);
    const std::string text = exports::adopted_plan(options.name, read_facts(options.facts));
    if (const plan::Reading reading = plan::read(text, "the plan of these facts"); !reading.plan)
        refuse(reading.problems, "the plan of these facts", "nothing was written");
    if (options.output.empty() || options.output == "-")
        return {text};
    write_whole(options.output, text, options.replace);
    return {fmt::format("{0} is written; next: jackal check {0}\n", options.output)};
}

} // namespace

void add_adopt(CLI::App& app, Run& run) {
    auto options = std::make_shared<AdoptOptions>();
    CLI::App* command = app.add_subcommand("adopt", "a plan of machines that exist");
    command
        ->add_option("FACTS", options->facts,
                     "a folder with one for each machine, as the script of `jackal export --as "
                     "gather` writes it")
        ->required();
    command->add_option("--lab", options->name, "what the lab is called; default adopted")
        ->type_name("NAME");
    command
        ->add_option("-o,--output", options->output,
                     "the plan to write; default, or -: standard output")
        ->type_name("FILE");
    command->add_flag("--replace", options->replace, "write over a file that is there already");
    command->footer("Examples:\n"
                    "  jackal adopt facts --lab mill -o mill.yaml\n"
                    "  jackal check mill.yaml\n\n"
                    "Subnets are read from addresses, links from pairs of NICs, routers from what "
                    "forwards; routes\nof protocols are written as static ones. Filters and "
                    "translations are those of nftables;\nwhat has no place in a plan stands in "
                    "a comment.");
    command->callback(
        [&run, options] { run = [options](const Style&) -> Outcome { return answer(*options); }; });
}

} // namespace jackal::cli
