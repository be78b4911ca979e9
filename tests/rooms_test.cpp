// Each room may include only itself and the rooms before it.
#include <algorithm>
#include <doctest/doctest.h>
#include <filesystem>
#include <fstream>
#include <regex>
#include <string>
#include <vector>

namespace {

const std::vector<std::string> rooms = {"net",   "plan",  "lab",  "routing", "packet",
                                        "probe", "reach", "mend", "export",  "editor"};

std::ptrdiff_t position(const std::string& room) {
    return std::ranges::find(rooms, room) - rooms.begin();
}

// `net|plan|…`
std::string names_of_rooms() {
    std::string names;
    for (const std::string& room : rooms)
        names += (names.empty() ? "" : "|") + room;
    return names;
}

// Lines of the file that include a later room, or an interface library in the core.
std::vector<std::string> trespasses(const std::filesystem::path& file, const std::string& room) {
    static const std::regex own("#include \"(?:jackal/)?(" + names_of_rooms() + ")/.*\"");
    static const std::regex interface("#include <(iostream|cstdio|CLI/|nlohmann/).*");
    std::vector<std::string> found;
    std::ifstream stream(file);
    for (std::string line; std::getline(stream, line);) {
        std::smatch match;
        bool later = std::regex_match(line, match, own) && position(match[1]) > position(room);
        bool printing = position(room) < position("export") && std::regex_match(line, interface);
        if (later || printing)
            found.push_back(file.string() + ": " + line);
    }
    return found;
}

} // namespace

TEST_CASE("each room includes only rooms before it") {
    std::size_t files = 0;
    for (const char* top : {SOURCE_DIR "/include/jackal", SOURCE_DIR "/src"})
        for (const auto& folder : std::filesystem::directory_iterator(top)) {
            if (!folder.is_directory())
                continue;
            std::string room = folder.path().filename();
            CAPTURE(room);
            REQUIRE(position(room) < std::ssize(rooms));
            for (const auto& file : std::filesystem::recursive_directory_iterator(folder)) {
                if (file.is_directory())
                    continue;
                ++files;
                for (const std::string& line : trespasses(file.path(), room))
                    FAIL_CHECK(line);
            }
        }
    CHECK(files > 40);
}

TEST_CASE("a trespass would be seen") {
    auto file = std::filesystem::temp_directory_path() / "jackal_rooms_test.h";
    std::ofstream(file) << "#include \"jackal/probe/ping.h\"\n#include \"net/hash.h\"\n"
                           "#include \"probe/explain/paths.h\"\n"
                           "#include <iostream>\n";
    CHECK(trespasses(file, "lab").size() == 3);
    CHECK(trespasses(file, "reach").size() == 1);
    std::filesystem::remove(file);
}
