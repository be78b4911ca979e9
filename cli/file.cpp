#include "file.h"

#include "descriptor.h"
#include "jackal/limits.h"
#include "writing.h"

#include <array>
#include <cerrno>
#include <cstdio>
#include <cstring>
#include <fcntl.h>
#include <filesystem>
#include <fmt/format.h>
#include <random>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

namespace jackal::cli {

namespace {

[[noreturn]] void fail(const std::string& path) {
    fail_to_write(path, std::strerror(errno));
}

std::string folder_of(const std::string& path) {
    std::string folder = std::filesystem::path(path).parent_path();
    return folder.empty() ? "." : folder;
}

void write_all(int file, const std::string& text, const std::string& path) {
    for (std::size_t done = 0; done < text.size();) {
        ssize_t n = write(file, text.data() + done, text.size() - done);
        if (n < 0 && errno != EINTR)
            fail(path);
        done += n < 0 ? 0 : static_cast<std::size_t>(n);
    }
    if (fsync(file) != 0)
        fail(path);
}

std::string content_of(int file) {
    std::string text;
    std::array<char, 1 << 16> part{};
    lseek(file, 0, SEEK_SET);
    for (ssize_t n = 0; (n = read(file, part.data(), part.size())) > 0;)
        text.append(part.data(), static_cast<std::size_t>(n));
    return text;
}

// What is to stand at a path, in the same folder. It has no name before it is whole, where the
// file system can do that; whoever is killed leaves nothing.
class Beside {
  public:
    /// Removes what a writer of the path left that was killed; what one at work has is locked.
    static void tidy(const std::string& path) {
        std::error_code error;
        const std::string stem = stem_of(path);
        for (const auto& entry : std::filesystem::directory_iterator(folder_of(path), error)) {
            std::string name = entry.path().filename();
            if (!name.starts_with(stem) || !name.ends_with(".part"))
                continue;
            Descriptor left(open(entry.path().c_str(), O_RDONLY | O_NOFOLLOW | O_CLOEXEC));
            if (left && flock(left.get(), LOCK_EX | LOCK_NB) == 0)
                unlink(entry.path().c_str());
        }
    }

    Beside(const std::string& path, const std::string& text)
        : path_(path),
          file_(open(folder_of(path).c_str(), O_TMPFILE | O_WRONLY | O_CLOEXEC, 0666)) {
        if (!file_)
            open_named();
        write_all(file_.get(), text, path_);
    }
    Beside(const Beside&) = delete;
    Beside& operator=(const Beside&) = delete;
    ~Beside() {
        if (!name_.empty())
            unlink(name_.c_str());
    }

    int number() const { return file_.get(); }

    /// Gives the file the path, if that is free.
    void place() {
        if (!give_name(path_))
            fail_to_write(path_, errno == EEXIST ? already_there : std::strerror(errno));
    }

    /// Takes the path from what stands there.
    void replace() {
        Undisturbed undisturbed;
        take_name();
        if (std::rename(name_.c_str(), path_.c_str()) != 0)
            fail(path_);
        name_.clear();
    }

    /// The same, but only from a file that says `before`.
    void replace(const std::string& before) {
        constexpr const char* changed =
            "it has changed since it was read; nothing was written, ask again";
        Undisturbed undisturbed;
        if (flock(file_.get(), LOCK_EX | LOCK_NB) != 0) // stays locked once it has the path
            fail(path_);
        take_name();
        if (renameat2(AT_FDCWD, name_.c_str(), AT_FDCWD, path_.c_str(), RENAME_EXCHANGE) != 0) {
            if (errno != EINVAL && errno != ENOSYS)
                fail(path_);
            Descriptor there(open(path_.c_str(), O_RDONLY | O_NONBLOCK | O_CLOEXEC));
            if (content_of(there.get()) != before)
                fail_to_write(path_, changed);
            return replace();
        }
        Descriptor there(open(name_.c_str(), O_RDONLY | O_NONBLOCK | O_CLOEXEC));
        if (content_of(there.get()) == before)
            return; // and the file that was there goes with its new name
        renameat2(AT_FDCWD, name_.c_str(), AT_FDCWD, path_.c_str(), RENAME_EXCHANGE);
        fail_to_write(path_, changed);
    }

  private:
    static constexpr int most_names = 100;

    // What the names of files beside the path start with.
    static std::string stem_of(const std::string& path) {
        return fmt::format(".{}.", std::filesystem::path(path).filename().string());
    }

    // Takes a name in the folder that `take` finds free.
    template <class Take>
    void take_free_name(Take take) {
        for (int i = 0; i < most_names; ++i) {
            std::string name = fmt::format("{}/{}{:08x}.part", folder_of(path_), stem_of(path_),
                                           std::random_device()());
            if (take(name)) {
                name_ = name;
                return;
            }
            if (errno != EEXIST)
                break;
        }
        fail(path_);
    }

    // On file systems where a file has a name from the start.
    void open_named() {
        take_free_name([&](const std::string& name) {
            file_ = Descriptor(open(name.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0600));
            return bool(file_);
        });
        fchmod(file_.get(), unmasked(0666));
    }

    bool give_name(const std::string& name) const {
        if (!name_.empty())
            return link(name_.c_str(), name.c_str()) == 0;
        std::string opened = fmt::format("/proc/self/fd/{}", file_.get());
        return linkat(AT_FDCWD, opened.c_str(), AT_FDCWD, name.c_str(), AT_SYMLINK_FOLLOW) == 0;
    }

    void take_name() {
        if (name_.empty())
            take_free_name([&](const std::string& name) { return give_name(name); });
    }

    std::string path_;
    Descriptor file_;
    std::string name_; // of its own, or none yet
};

// The file at the path, locked against others that write it in this way.
Descriptor lock(const std::string& path) {
    for (;;) {
        Descriptor file(open(path.c_str(), O_RDONLY | O_NONBLOCK | O_CLOEXEC));
        struct stat locked {};
        struct stat there {};
        if (!file || fstat(file.get(), &locked) != 0)
            fail(path);
        if (!S_ISREG(locked.st_mode))
            fail_to_write(path, "it is no regular file");
        if (flock(file.get(), LOCK_EX) != 0 || stat(path.c_str(), &there) != 0)
            fail(path);
        if (locked.st_ino == there.st_ino && locked.st_dev == there.st_dev)
            return file;
    }
}

} // namespace

std::string regular_text(const std::string& path) {
    Descriptor file(open(path.c_str(), O_RDONLY | O_NONBLOCK | O_CLOEXEC));
    struct stat status {};
    if (!file || fstat(file.get(), &status) != 0)
        throw NotAsked(fmt::format("{}: cannot be read: {}", path, std::strerror(errno)));
    if (!S_ISREG(status.st_mode))
        throw NotAsked(fmt::format("{}: cannot be read: it is no regular file", path));
    if (static_cast<std::uintmax_t>(status.st_size) > limits::plan_bytes)
        throw NotAsked(
            fmt::format("{}: a plan has at most {} MiB", path, limits::plan_bytes >> 20));
    std::string text = content_of(file.get());
    if (text.empty())
        throw NotAsked(fmt::format("{}: is empty", path));
    return text;
}

void refuse_existing(const std::string& path, bool replace) {
    struct stat status {};
    if (!replace && !path.empty() && path != "-" && lstat(path.c_str(), &status) == 0)
        fail_to_write(path, already_there);
}

void write_whole(const std::string& path, const std::string& text, bool replace) {
    Beside beside(path, text);
    if (replace)
        beside.replace();
    else
        beside.place();
}

void rewrite_whole(const std::string& path, const std::string& before, const std::string& after) {
    std::error_code error;
    std::string target = std::filesystem::canonical(path, error);
    if (error)
        fail_to_write(path, "it is not there any more");
    Descriptor locked = lock(target);
    struct stat status {};
    if (fstat(locked.get(), &status) != 0)
        fail(path);
    Beside::tidy(target);
    Beside beside(target, after);
    if (fchown(beside.number(), status.st_uid, status.st_gid) != 0)
        fail_to_write(path, "its owner and group cannot be kept");
    if (fchmod(beside.number(), status.st_mode & 07777) != 0)
        fail(path);
    beside.replace(before);
}

} // namespace jackal::cli
