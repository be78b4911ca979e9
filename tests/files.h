// Texts of files.
#pragma once

#include "jackal/plan/read.h"

#include <filesystem>
#include <fstream>
#include <string>

inline std::string text_of(const std::filesystem::path& file) {
    std::ifstream stream(file, std::ios::binary);
    return jackal::plan::text_of(stream);
}
