// What the programs share: how their help looks, and how they print an answer.
#pragma once

#include "command.h"

namespace jackal::cli {

/// Help as CLI11 makes it, but for words of which the first may be left out.
void set_help(CLI::App& app);

/// Writes the answer to standard output: the exit status, which is status_not_asked if that failed.
int print(const Outcome& outcome);

} // namespace jackal::cli
