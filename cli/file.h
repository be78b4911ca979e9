// Writing files, whole or not at all.
#pragma once

#include <string>

namespace jackal::cli {

/// Writes `text` to `path` by way of a new file beside it, which takes the name once it is
/// complete on disk. Throws NotAsked, and leaves what was there, if any of that fails, or if the
/// file exists and `replace` is false.
void write_whole(const std::string& path, const std::string& text, bool replace);

} // namespace jackal::cli
