#include "file.h"

#include "command.h"

#include <cerrno>
#include <cstdio>
#include <cstring>
#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

namespace jackal::cli {

namespace {

bool write_all(int file, const std::string& text) {
    std::size_t done = 0;
    while (done < text.size()) {
        ssize_t n = write(file, text.data() + done, text.size() - done);
        if (n < 0 && errno != EINTR)
            return false;
        done += n < 0 ? 0 : static_cast<std::size_t>(n);
    }
    return fsync(file) == 0;
}

[[noreturn]] void fail(const std::string& path, const char* why) {
    throw NotAsked(fmt::format("{}: cannot be written: {}", path, why));
}

} // namespace

void write_whole(const std::string& path, const std::string& text, bool replace) {
    std::string beside = fmt::format("{}.{}.part", path, getpid());
    int file = open(beside.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0666);
    if (file < 0)
        fail(path, std::strerror(errno));
    bool written = write_all(file, text);
    int error = errno;
    close(file);
    if (written) {
        // A link refuses to take a name that exists, and cannot be overtaken by another writer.
        bool taken = replace ? std::rename(beside.c_str(), path.c_str()) == 0
                             : link(beside.c_str(), path.c_str()) == 0;
        error = taken ? 0 : errno;
    }
    unlink(beside.c_str());
    if (error == EEXIST && !replace)
        fail(path, "it exists already; --replace takes its place");
    if (error != 0)
        fail(path, std::strerror(error));
}

} // namespace jackal::cli
