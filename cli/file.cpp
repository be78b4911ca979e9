#include "file.h"

#include "command.h"

#include <cerrno>
#include <cstdio>
#include <cstring>
#include <fcntl.h>
#include <filesystem>
#include <fmt/format.h>
#include <fstream>
#include <sys/stat.h>
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

// A new file beside the one that is to be written, gone again unless it takes the other's name.
class Beside {
  public:
    Beside(const std::string& path, const std::string& text, mode_t mode)
        : path_(path), beside_(fmt::format("{}.{}.part", path, getpid())) {
        int file = open(beside_.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, mode);
        if (file < 0)
            fail(path, std::strerror(errno));
        bool written = write_all(file, text);
        int error = errno;
        close(file);
        if (!written) {
            unlink(beside_.c_str());
            fail(path, std::strerror(error));
        }
    }
    Beside(const Beside&) = delete;
    Beside& operator=(const Beside&) = delete;
    ~Beside() { unlink(beside_.c_str()); }

    const char* name() const { return beside_.c_str(); }
    void replace() const {
        if (std::rename(name(), path_.c_str()) != 0)
            fail(path_, std::strerror(errno));
    }

  private:
    std::string path_;
    std::string beside_;
};

constexpr mode_t by_umask = 0666;

} // namespace

void write_whole(const std::string& path, const std::string& text, bool replace) {
    Beside beside(path, text, by_umask);
    if (replace)
        return beside.replace();
    // A link refuses to take a name that exists, and cannot be overtaken by another writer.
    if (link(beside.name(), path.c_str()) != 0)
        fail(path, errno == EEXIST ? "it exists already; --replace takes its place"
                                   : std::strerror(errno));
}

void rewrite_whole(const std::string& path, const std::string& before, const std::string& after) {
    std::error_code error;
    std::string target = std::filesystem::canonical(path, error);
    struct stat status {};
    if (error || stat(target.c_str(), &status) != 0)
        fail(path, "it is not there any more");
    Beside beside(target, after, by_umask);
    if (chmod(beside.name(), status.st_mode & 07777) != 0)
        fail(path, std::strerror(errno));
    std::ifstream file(target, std::ios::binary);
    std::string now(std::istreambuf_iterator<char>(file), {});
    if (now != before)
        fail(path, "it has changed since it was read; nothing was written, ask again");
    beside.replace();
}

} // namespace jackal::cli
