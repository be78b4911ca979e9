// Writing files, whole or not at all.
#pragma once

#include <string>

namespace jackal::cli {

/// Writes `text` to `path` by way of a new file in the same folder, which takes the name once it
/// is complete on disk. Throws NotAsked, and leaves what was there, if any of that fails, or if the
/// file exists and `replace` is false.
void write_whole(const std::string& path, const std::string& text, bool replace);

/// Puts `after` in the place of a file that held `before`, whole or not at all, by the same way;
/// its owner, group and permissions stay, and a symbolic link goes on pointing at it. Of several
/// writers at a time one writes; throws NotAsked if the file holds something else by now.
void rewrite_whole(const std::string& path, const std::string& before, const std::string& after);

} // namespace jackal::cli
