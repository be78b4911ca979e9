#include "command.h"
#include "file.h"

#include <fmt/format.h>

namespace jackal::cli {

namespace {

struct ExportOptions {
    PlanOptions plan;
    std::string form;
    std::string output;
    bool replace = false;
    exports::ScriptOptions script;
};

Outcome export_lab(const ExportOptions& options) {
    Opened opened = open_plan(options.plan);
    std::string script = exports::namespaces_script(settle(opened, options.plan), options.script);
    if (options.output.empty() || options.output == "-")
        return {script};
    write_whole(options.output, script, options.replace);
    return {
        fmt::format("{} is written; next, as root: sh {} start\n", options.output, options.output)};
}

} // namespace

void add_export(CLI::App& app, Run& run) {
    auto options = std::make_shared<ExportOptions>();
    CLI::App* command = app.add_subcommand("export", "write the lab for real machines");
    add_plan_argument(*command, options->plan);
    add_cuts(*command, options->plan);
    command
        ->add_option("--as", options->form,
                     "namespaces: a shell script that brings the lab up on this computer, each "
                     "machine a network namespace of Linux")
        ->required()
        ->check(CLI::IsMember({"namespaces"}).description(""))
        ->type_name("FORM");
    command
        ->add_option("-o,--output", options->output,
                     "the file to write; default, or -: standard output")
        ->type_name("FILE");
    command->add_flag("--replace", options->replace, "write over a file that is there already");
    command->add_flag("--with-dhcp", options->script.with_dhcp,
                      "leases come from real servers and clients; needs dnsmasq and udhcpc");
    command->add_flag("--with-routing", options->script.with_routing,
                      "machines that speak OSPF, RIP or BGP run a real daemon, instead of having "
                      "the routes that they would learn; needs bird2");
    command->footer("Examples:\n"
                    "  jackal export skerry.yaml --as namespaces -o lab.sh\n"
                    "  sudo sh lab.sh start\n"
                    "  sudo sh lab.sh enter helm ping -c 1 10.41.0.34\n"
                    "  sudo sh lab.sh check\n"
                    "  sudo sh lab.sh stop");
    command->callback([&run, options] {
        run = [options](const Style&) -> Outcome { return export_lab(*options); };
    });
}

} // namespace jackal::cli
