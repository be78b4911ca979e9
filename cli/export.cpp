#include "command.h"
#include "file.h"
#include "folder.h"

#include <filesystem>
#include <fmt/format.h>

namespace jackal::cli {

namespace fs = std::filesystem;

namespace {

struct ExportOptions {
    PlanOptions plan;
    std::string form;
    std::string output;
    bool replace = false;
    exports::ScriptOptions script;
};

void write_files(const ExportOptions& options, const std::vector<exports::File>& files) {
    if (options.output.empty() || options.output == "-")
        throw NotAsked(
            fmt::format("{} are a folder of files; name it with -o FOLDER", options.form));
    write_folder(options.output, files, options.replace);
}

Outcome export_settings(const ExportOptions& options, const routing::Settled& settled) {
    const std::vector<exports::File> files = exports::settings_files(settled);
    write_files(options, files);
    return {fmt::format("{} is written: {} files; {}/README says what is where\n", options.output,
                        files.size(), options.output)};
}

Outcome export_machines(const ExportOptions& options, const routing::Settled& settled) {
    const lab::Lab& lab = settled.lab();
    if (const auto lacking = exports::without_image(lab); !lacking.empty()) {
        const lab::Machine& first = lab.machines[lacking.front()];
        throw NotAsked(fmt::format(
            "{}: {} has no image to start from{}; write `image: FILE`, or `runs-as: namespace`",
            plan::to_string(first.at, lab.source), first.name,
            lacking.size() > 1 ? fmt::format(", like {} others", lacking.size() - 1) : ""));
    }
    const fs::path folder = fs::absolute(options.plan.path).parent_path();
    write_files(options,
                exports::machines_files(settled, folder.string(), options.script.attached));
    return {fmt::format("{0} is written; next, as root: sh {0}/lab.sh start\n", options.output)};
}

Outcome export_lab(const ExportOptions& options) {
    if (options.script.attached && (options.form == "settings" || options.form == "gather"))
        throw NotAsked("--attach is for a live lab: namespaces or machines");
    refuse_existing(options.output, options.replace);
    Opened opened = open_plan(options.plan);
    const routing::Settled settled = settle(opened, options.plan);
    if (options.form == "settings")
        return export_settings(options, settled);
    if (options.form == "machines")
        return export_machines(options, settled);
    const bool gathers = options.form == "gather";
    std::string script = gathers ? exports::gather_script(opened.lab)
                                 : exports::namespaces_script(settled, options.script);
    if (options.output.empty() || options.output == "-")
        return {script};
    write_whole(options.output, script, options.replace);
    return {
        fmt::format("{} is written; next{}\n", options.output,
                    fmt::format(fmt::runtime(gathers ? ": sh {} FOLDER" : ", as root: sh {} start"),
                                options.output))};
}

} // namespace

void add_export(CLI::App& app, Run& run) {
    auto options = std::make_shared<ExportOptions>();
    CLI::App* command = app.add_subcommand("export", "write the lab for real machines");
    add_plan_argument(*command, options->plan);
    add_cuts(*command, options->plan);
    take_words(
        command->add_option(
            "--as", options->form,
            "namespaces: a shell script that brings the lab up on this computer, each "
            "machine a network namespace of Linux; machines: a folder with such a script "
            "that runs them as virtual machines in QEMU; settings: a folder for each machine "
            "with the files of its own system; gather: a shell script that asks machines "
            "what they are, for `jackal drift`"),
        {"namespaces", "machines", "settings", "gather"})
        ->required();
    command
        ->add_option("-o,--output", options->output,
                     "the script, or the folder, to write; default of a script, or -: standard "
                     "output")
        ->type_name("PATH");
    command->add_flag("--replace", options->replace,
                      "take the place of a file that is there, or of a folder that an export has "
                      "written");
    command->add_flag("--with-dhcp", options->script.with_dhcp,
                      "leases come from real servers and clients; needs dnsmasq and udhcpc");
    command->add_flag("--with-routing", options->script.with_routing,
                      "machines that speak OSPF, RIP or BGP run a real daemon, instead of having "
                      "the routes that they would learn; needs bird2");
    command->add_flag("--attach", options->script.attached,
                      "the outside of the plan is this computer and its network: it stands on "
                      "subnets with `uplink: host`, gives those with nat their way outside, and "
                      "joins one of its NICs to that with bridge");
    command->footer("Examples:\n"
                    "  jackal export skerry.yaml --as namespaces -o lab.sh\n"
                    "  sudo sh lab.sh start\n"
                    "  sudo sh lab.sh enter helm ping -c 1 10.41.0.34\n"
                    "  sudo sh lab.sh check\n"
                    "  sudo sh lab.sh stop\n"
                    "  jackal export skerry.yaml --as machines -o machines\n"
                    "  sudo sh machines/lab.sh start\n"
                    "  jackal export skerry.yaml --as settings -o settings\n"
                    "  scp -r settings/machines/helm/system/etc helm:/");
    command->callback([&run, options] {
        run = [options](const Style&) -> Outcome { return export_lab(*options); };
    });
}

} // namespace jackal::cli
