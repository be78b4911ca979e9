#include "command.h"
#include "file.h"
#include "jackal/export/difference.h"

#include <fmt/format.h>

namespace jackal::cli {

namespace {

struct EditOptions {
    PlanOptions plan;
    std::vector<std::string> words;
    bool difference = false;
};

Outcome answer(const Style&, EditOptions options) {
    if (!options.words.empty() && names_a_plan(options.words.front())) {
        options.plan.path = options.words.front();
        options.words.erase(options.words.begin());
    }
    if (options.words.empty())
        throw NotAsked("there is no change: write one, such as "
                       "guests.desk.nics[0].subnet=quay");
    std::vector<plan::PlaceChange> changes;
    for (const std::string& word : options.words) {
        auto change = plan::parse_change(word);
        if (!change)
            throw NotAsked(fmt::format("{} is no change; write PLACE=VALUE, PLACE+=ITEM, "
                                       "PLACE-=ITEM or PLACE-, such as "
                                       "guests.desk.nics[0].subnet=quay",
                                       word));
        changes.push_back(std::move(*change));
    }
    const PlanText file = plan_text(options.plan);
    plan::Writing written = plan::write(file.text, changes, settings_of(options.plan));
    if (!written.text)
        refuse(written.problems, file.source, "nothing was written");
    if (options.difference)
        return {exports::difference(file.text, *written.text, plan::printable(file.source))};
    if (options.plan.path == "-")
        return {*written.text};
    if (*written.text != file.text)
        rewrite_whole(file.source, file.text, *written.text);
    std::string text;
    for (const plan::Problem& note : written.notes)
        text += fmt::format("{}: {}\n", plan::to_string(note.at, file.source), note.message);
    return {text};
}

} // namespace

void add_edit(CLI::App& app, Run& run) {
    auto options = std::make_shared<EditOptions>();
    CLI::App* command =
        app.add_subcommand("edit", "change single values of a plan file, and leave all the rest");
    command->add_option("words", options->words, "[PLAN] and the changes, made in their order")
        ->type_name("[PLAN] CHANGE...");
    command
        ->add_option("--set", options->plan.settings,
                     "give a parameter of the plan another value while it is read")
        ->type_name("NAME=VALUE")
        ->allow_extra_args(false);
    command->add_flag("--diff", options->difference, "show the difference, and write nothing");
    command->footer(
        "Examples:\n"
        "  jackal edit skerry.yaml 'guests.desk.nics[0].subnet=quay'\n"
        "  jackal edit skerry.yaml sites.skerry.space+=10.42.0.0/16 --diff\n"
        "  jackal edit skerry.yaml 'guests.bell={nics: [{subnet: quay}]}'\n"
        "  jackal edit skerry.yaml 'routers.quay-r1.routes[0]-'\n"
        "\n"
        "A change is PLACE=VALUE to set a value or to add an entry, PLACE+=ITEM to add to a "
        "list,\nPLACE-=ITEM to take an item out, PLACE- to take away what stands there. A value is "
        "YAML in flow\nstyle. Comments stay, and nothing is written that does not read; the "
        "changed plan goes to standard\noutput if the plan came by standard input.");
    command->callback([&run, options] {
        run = [options](const Style& style) -> Outcome { return answer(style, *options); };
    });
}

} // namespace jackal::cli
