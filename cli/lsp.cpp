#include "command.h"
#include "lsp/server.h"

#include <cstdio>

namespace jackal::cli {

void add_lsp(CLI::App& app, Run& run) {
    CLI::App* command = app.add_subcommand(
        "lsp", "answer an editor: what is wrong as one types, completion, mending");
    auto by_streams = std::make_shared<bool>(false); // some clients say so; it is so anyway
    command->add_flag("--stdio", *by_streams,
                      "by standard input and output; there is no other way");
    command->footer("Started by an editor, it speaks the Language Server Protocol 3.17; "
                    "docs/editor.md says how to\nset editors up. A plan that takes more than 10 s "
                    "to read ends it, and editors start it again.");
    command->callback([&run, by_streams] {
        run = [](const Style&) -> Outcome {
            lsp::Server server(stdin, stdout);
            return {"", server.run() ? status_well : status_no};
        };
    });
}

} // namespace jackal::cli
