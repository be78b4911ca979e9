// A folder that goes with the test that made it.
#pragma once

#include <doctest/doctest.h>
#include <filesystem>
#include <fstream>
#include <stdlib.h>
#include <string>

class Scratch {
  public:
    Scratch() {
        std::string name = (std::filesystem::temp_directory_path() / "jackal-XXXXXX").string();
        REQUIRE(mkdtemp(name.data()) != nullptr);
        path_ = name;
    }
    Scratch(const Scratch&) = delete;
    Scratch& operator=(const Scratch&) = delete;
    ~Scratch() { std::filesystem::remove_all(path_); }

    std::filesystem::path operator/(const std::string& name) const { return path_ / name; }
    std::filesystem::path file(const std::string& name, const std::string& text) const {
        std::ofstream(path_ / name) << text;
        return path_ / name;
    }

  private:
    std::filesystem::path path_;
};
