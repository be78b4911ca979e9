// Runs a program as a user would, and gives back what it printed.
#pragma once

#include <array>
#include <cstdio>
#include <stdexcept>
#include <string>
#include <sys/wait.h>

struct Printed {
    int status = 0;
    std::string text; ///< standard output; with " 2>&1" in the command, both streams
};

/// Runs a shell command line to its end.
inline Printed run(const std::string& command) {
    FILE* pipe = popen(command.c_str(), "r");
    if (pipe == nullptr)
        throw std::runtime_error("cannot run " + command);
    Printed printed;
    std::array<char, 4096> buffer{};
    while (std::size_t n = std::fread(buffer.data(), 1, buffer.size(), pipe))
        printed.text.append(buffer.data(), n);
    printed.status = WEXITSTATUS(pclose(pipe));
    return printed;
}

inline bool has(const std::string& text, const std::string& part) {
    return text.find(part) != text.npos;
}
