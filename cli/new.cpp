#include "command.h"
#include "file.h"

#include <fmt/format.h>

namespace jackal::cli {

namespace {

struct NewOptions {
    std::string shape;
    exports::Starter starter;
    std::string output;
    bool replace = false;
};

Outcome new_plan(NewOptions& options) {
    auto shape = exports::shape_from_name(options.shape);
    if (!shape)
        throw NotAsked(fmt::format("there is no shape \"{}\"; write chain, ring, star, tree or "
                                   "leaf-spine",
                                   options.shape));
    options.starter.shape = *shape;
    unsigned least = exports::least_size(*shape);
    if (options.starter.size < least || options.starter.size > exports::most_size)
        throw NotAsked(fmt::format("--size {}: a {} has {} to {} rooms", options.starter.size,
                                   options.shape, least, exports::most_size));
    if (!options.starter.lab.empty() && !plan::is_name(options.starter.lab))
        throw NotAsked(fmt::format("--name {}: write a-z, 0-9 and inner hyphens, at most 63",
                                   options.starter.lab));
    refuse_existing(options.output, options.replace);
    std::string text = exports::starter_plan(options.starter);
    if (options.output.empty() || options.output == "-")
        return {text};
    write_whole(options.output, text, options.replace);
    return {fmt::format("{} is written; next: jackal check {}\n", options.output, options.output)};
}

} // namespace

void add_new(CLI::App& app, Run& run) {
    auto options = std::make_shared<NewOptions>();
    CLI::App* command =
        app.add_subcommand("new", "a starter plan that works, to be changed by hand");
    command->add_option("SHAPE", options->shape, "chain, ring, star, tree or leaf-spine")
        ->required();
    command
        ->add_option("--size", options->starter.size,
                     "rooms, each with a router, a subnet and a guest; default 4")
        ->type_name("N");
    command->add_option("--name", options->starter.lab, "name of the lab")->type_name("LAB");
    command->add_flag("--ipv6", options->starter.with_ipv6, "an IPv6 prefix for every subnet too");
    command
        ->add_option("-o,--output", options->output,
                     "the file to write; default, or -: standard output")
        ->type_name("FILE");
    command->add_flag("--replace", options->replace, "write over a file that exists");
    command->footer("Example:\n"
                    "  jackal new ring --size 5 -o ring.jackal.yaml");
    command->callback(
        [&run, options] { run = [options](const Style&) { return new_plan(*options); }; });
}

} // namespace jackal::cli
