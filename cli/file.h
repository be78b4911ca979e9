// Writing files, whole or not at all.
#pragma once

#include <string>

namespace jackal::cli {

/// What stands in a regular file. Throws NotAsked if it is none, cannot be read, is empty, or is
/// larger than a plan may be; waits for nobody.
std::string regular_text(const std::string& path);

/// Throws NotAsked if something stands at a path where write_whole() or write_folder() are to put
/// something new, unless they may replace it: before the work, not after it. An empty path and `-`
/// are none.
void refuse_existing(const std::string& path, bool replace);

/// Writes `text` to `path` by way of a new file in the same folder, which takes the name once it
/// is complete on disk. Throws NotAsked, and leaves what was there, if any of that fails, or if the
/// file exists and `replace` is false.
void write_whole(const std::string& path, const std::string& text, bool replace);

/// Puts `after` in the place of a file that held `before`, whole or not at all, by the same way;
/// its owner, group and permissions stay, and a symbolic link goes on pointing at it. Of several
/// writers at a time one writes; throws NotAsked if the file holds something else by now.
void rewrite_whole(const std::string& path, const std::string& before, const std::string& after);

} // namespace jackal::cli
