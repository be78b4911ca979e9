#include "process.h"
#include "run.h"
#include "serve/server.h"

#include <fmt/format.h>

namespace jackal::cli {

void add_serve(CLI::App& app, Run& run) {
    struct ServeOptions {
        PlanOptions plan;
        int port = 0;
    };
    auto options = std::make_shared<ServeOptions>();
    CLI::App* command = app.add_subcommand(
        "serve", "the page of the lab, live while the plan is written, for a browser here");
    add_plan_argument(*command, options->plan);
    command->add_option("--port", options->port, "of 127.0.0.1; default: any that is free")
        ->type_name("PORT");
    command->footer("Example:\n"
                    "  jackal serve skerry.yaml\n"
                    "\n"
                    "Open the address that it prints; Ctrl-C ends it. Only this computer is "
                    "answered, and only who\nknows the whole address. docs/api.md tells what else "
                    "can be asked there.");
    command->callback([&run, options] {
        run = [options](const Style&) -> Outcome {
            if (options->port < 0 || options->port > 65535)
                throw NotAsked(fmt::format("--port {}: write 1 to 65535", options->port));
            if (options->plan.path == "-")
                throw NotAsked("serve watches a file; standard input cannot be watched");
            be_for_long();
            serve::Live live(options->plan);
            if (!live.now()->loaded)
                throw NotAsked(live.now()->problems);
            serve::Server server(live, options->port);
            // Nobody could ask who does not know it.
            if (const int status = print({server.url() + "\n"}); status != status_well)
                return {"", status};
            server.run();
            return {""};
        };
    });
}

} // namespace jackal::cli
