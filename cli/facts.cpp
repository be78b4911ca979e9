#include "facts.h"

#include "command.h"

#include <filesystem>
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <fstream>

namespace jackal::cli {

namespace fs = std::filesystem;

namespace {

constexpr std::uintmax_t largest_file = 16U << 20U;

std::map<std::string, std::string> files_in(const fs::path& folder) {
    std::map<std::string, std::string> files;
    for (const auto& entry : fs::directory_iterator(folder)) {
        if (!entry.is_regular_file())
            continue;
        if (entry.file_size() > largest_file)
            throw NotAsked(fmt::format("{}: more than {} MiB are no facts of one machine",
                                       entry.path().string(), largest_file >> 20U));
        std::ifstream stream(entry.path(), std::ios::binary);
        files[entry.path().filename()] = plan::text_of(stream);
    }
    return files;
}

} // namespace

reach::Facts read_facts(const std::string& folder) {
    std::error_code error;
    std::map<std::string, fs::path> machines; // in one order, whatever the file system's
    for (const auto& entry : fs::directory_iterator(folder, error))
        if (entry.is_directory())
            machines.emplace(entry.path().filename(), entry.path());
    if (error)
        throw NotAsked(fmt::format("{}: cannot be read: {}", folder, error.message()));
    if (machines.empty())
        throw NotAsked(
            fmt::format("{}: there are no folders of machines in it; `jackal export --as "
                        "gather` writes a script that makes them",
                        folder));
    reach::Facts facts;
    std::vector<std::string> problems;
    for (const auto& [name, path] : machines)
        if (!plan::is_name(name))
            throw NotAsked(
                fmt::format("{}: no machine of a lab can be called that", path.string()));
    for (const auto& [name, path] : machines)
        facts.push_back(exports::found_machine(name, files_in(path), problems));
    if (!problems.empty())
        throw NotAsked(fmt::format("{}/{}", folder,
                                   fmt::join(problems, fmt::format("\njackal: {}/", folder))));
    return facts;
}

} // namespace jackal::cli
