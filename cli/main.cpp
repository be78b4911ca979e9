#include "command.h"
#include "process.h"
#include "run.h"

#include <fmt/format.h>
#include <new>
#include <sstream>

namespace {

using namespace jackal::cli;

// The message for a command that does not exist, with the nearest one; empty if it does.
std::string unknown_command(const CLI::App& app, const std::string& word) {
    std::vector<std::string> names;
    for (const CLI::App* command : app.get_subcommands({}))
        names.push_back(command->get_name());
    std::vector<std::string_view> known(names.begin(), names.end());
    if (word.empty() || word.front() == '-' || std::ranges::find(known, word) != known.end())
        return "";
    std::string_view near = jackal::plan::nearest_word(word, known);
    return fmt::format("there is no command \"{}\"{}", word, jackal::plan::did_you_mean(near));
}

// The message for an option that the command does not have, with the nearest one; empty if it has
// all. The parser counts words that follow one before it looks at its name.
std::string unknown_option(const CLI::App& app, int argc, char** argv) {
    const CLI::App* command = nullptr;
    for (const CLI::App* known : app.get_subcommands({}))
        if (known->get_name() == argv[1])
            command = known;
    for (int i = 2; command != nullptr && i < argc && std::string_view(argv[i]) != "--"; ++i) {
        std::string name(argv[i]);
        name.resize(std::min(name.find('='), name.size()));
        if (!name.starts_with("--") || command->get_option_no_throw(name) != nullptr)
            continue;
        std::vector<std::string> names;
        for (const CLI::Option* option : command->get_options())
            for (const std::string& known : option->get_lnames())
                names.push_back("--" + known);
        std::vector<std::string_view> known(names.begin(), names.end());
        return fmt::format("{} has no option {}{}", argv[1], name,
                           jackal::plan::did_you_mean(jackal::plan::nearest_word(name, known)));
    }
    return "";
}

int usage_error(const std::string& message) {
    complain(message + "\nTry: jackal --help, or jackal COMMAND --help");
    return status_not_asked;
}

} // namespace

int main(int argc, char** argv) try {
    prepare_process();
    CLI::App app{"Jackal plans a network lab and answers its pings before a machine boots."};
    app.name("jackal");
    app.footer("A plan is one YAML file with subnets, guests, routers and links. Start with:\n"
               "  jackal demo\n"
               "  jackal demo --print-plan > skerry.yaml\n"
               "  jackal check skerry.yaml\n"
               "  jackal ping skerry.yaml chart-desk kettle\n\n"
               "Exit status: 0 all well; 1 the answer is no (an error found, an expectation not\n"
               "met, no reply); 2 the question could not be asked.\n\n"
               "An answer takes at most 10 s of processor time and 1 GiB of memory; the\n"
               "environment variables JACKAL_SECONDS and JACKAL_MEBIBYTES allow more.");
    app.set_version_flag("--version", fmt::format("jackal {}", jackal::version()));
    set_help(app);
    app.require_subcommand(1);

    Run run;
    add_check(app, run);
    add_addresses(app, run);
    add_machines(app, run);
    add_routes(app, run);
    add_neighbours(app, run);
    add_ping(app, run);
    add_trace(app, run);
    add_connect(app, run);
    add_watch(app, run);
    add_live(app, run);
    add_verify(app, run);
    add_peerings(app, run);
    add_reach(app, run);
    add_sweep(app, run);
    add_compare(app, run);
    add_mend(app, run);
    add_edit(app, run);
    add_draw(app, run);
    add_report(app, run);
    add_serve(app, run);
    add_lsp(app, run);
    add_sites(app, run);
    add_ways(app, run);
    add_export(app, run);
    add_drift(app, run);
    add_adopt(app, run);
    add_new(app, run);
    add_names(app, run);
    add_demo(app, run);

    try {
        if (argc > 1)
            for (const std::string& message :
                 {unknown_command(app, argv[1]), unknown_option(app, argc, argv)})
                if (!message.empty())
                    return usage_error(message);
        app.parse(argc, argv);
        return print(run(Style::for_standard_output()));
    } catch (const CLI::Success& e) { // --help, --version
        std::ostringstream text;
        const int status = app.exit(e, text, text);
        return print({text.str(), status});
    } catch (const CLI::ParseError& e) {
        return usage_error(e.what());
    }
} catch (const std::bad_alloc&) {
    if (std::new_handler handler = std::get_new_handler())
        handler();
    complain("out of memory");
    return status_not_asked;
} catch (const std::exception& e) {
    complain(e.what());
    return status_not_asked;
}

#ifdef JACKAL_SANITIZED
// Graphviz keeps some of what it reads from a graph's tables, and Fontconfig what it knows of
// fonts.
extern "C" const char* __lsan_default_suppressions() {
    return "leak:libgvc\nleak:libfontconfig";
}
#endif
