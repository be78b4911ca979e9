// Writing a folder of files, whole or not at all.
#pragma once

#include "jackal/export/settings.h"

#include <string>
#include <vector>

namespace jackal::cli {

/// Writes the files to a new folder `path`, by way of one beside it that takes the name once it is
/// complete. With `replace` it takes the place of a folder that was written so before, and holds
/// nothing else. Throws NotAsked, and leaves what was there, if any of that fails.
void write_folder(const std::string& path, const std::vector<exports::File>& files, bool replace);

} // namespace jackal::cli
