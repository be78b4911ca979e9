#include "child.h"

#include "descriptor.h"
#include "process.h"

#include <algorithm>
#include <array>
#include <cerrno>
#include <chrono>
#include <csignal>
#include <cstdint>
#include <fcntl.h>
#include <poll.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/wait.h>
#include <system_error>
#include <unistd.h>

namespace jackal::cli {

namespace {

// A child that only waits, for whatever, is not waited for longer.
constexpr std::chrono::minutes longest{2};

// What stands before each text.
struct Head {
    enum class Kind : std::uint64_t { said, thrown, done }; // no padding is sent
    Kind kind = Kind::said;
    std::uint64_t size = 0;
};

[[noreturn]] void fail() {
    throw std::system_error(errno, std::generic_category(), "no process for an answer");
}

void write_all(int file, const void* data, std::size_t size) {
    for (const char* at = static_cast<const char*>(data); size > 0;) {
        const ssize_t n = write(file, at, size);
        if (n < 0 && errno != EINTR)
            _exit(1); // nobody listens
        at += std::max<ssize_t>(n, 0);
        size -= static_cast<std::size_t>(std::max<ssize_t>(n, 0));
    }
}

void send(int file, Head::Kind kind, std::string_view text) {
    const Head head{kind, text.size()};
    write_all(file, &head, sizeof head);
    write_all(file, text.data(), text.size());
}

[[noreturn]] void be_child(const std::function<void(const Say&)>& work, int out, int complaints) {
    prctl(PR_SET_PDEATHSIG, SIGKILL);
    for (int signal : {SIGINT, SIGTERM, SIGHUP})
        std::signal(signal, SIG_DFL);
    dup2(complaints, STDERR_FILENO);
    // Others' pipes would stay open as long as this.
    close_range(STDERR_FILENO + 1, static_cast<unsigned>(out) - 1, 0);
    close_range(static_cast<unsigned>(out) + 1, ~0U, 0);
    be_for_one_answer();
    try {
        work([&](std::string_view text) { send(out, Head::Kind::said, text); });
        send(out, Head::Kind::done, "");
    } catch (const std::exception& e) {
        send(out, Head::Kind::thrown, e.what());
    }
    _exit(0);
}

// Ends a process, and waits for that.
class Ended {
  public:
    explicit Ended(pid_t child) : child_(child) {}
    Ended(const Ended&) = delete;
    Ended& operator=(const Ended&) = delete;
    ~Ended() {
        kill(child_, SIGKILL);
        waitpid(child_, nullptr, 0);
    }

  private:
    pid_t child_;
};

// Reads all of something; false if it ends before, or takes too long.
class Listener {
  public:
    explicit Listener(int file) : file_(file), end_(std::chrono::steady_clock::now() + longest) {}

    bool read_all(void* data, std::size_t size) const {
        for (char* at = static_cast<char*>(data); size > 0;) {
            pollfd waits{file_, POLLIN, 0};
            const auto left = std::chrono::duration_cast<std::chrono::milliseconds>(
                end_ - std::chrono::steady_clock::now());
            if (left.count() <= 0 || poll(&waits, 1, static_cast<int>(left.count())) == 0)
                return false;
            const ssize_t n = read(file_, at, size);
            if (n == 0 || (n < 0 && errno != EINTR))
                return false;
            at += std::max<ssize_t>(n, 0);
            size -= static_cast<std::size_t>(std::max<ssize_t>(n, 0));
        }
        return true;
    }

  private:
    int file_;
    std::chrono::steady_clock::time_point end_;
};

// The last line that the child wrote to its standard error: the limit that it met.
std::string complaint_of(int file) {
    constexpr std::string_view mark = "jackal: ";
    std::array<char, 4096> buffer{};
    const ssize_t size = pread(file, buffer.data(), buffer.size(), 0);
    std::string text(buffer.data(), static_cast<std::size_t>(std::max<ssize_t>(size, 0)));
    text.erase(text.find_last_not_of('\n') + 1);
    text.erase(0, text.rfind('\n') + 1);
    return text.starts_with(mark) ? text.substr(mark.size()) : text;
}

} // namespace

Ending in_child(const std::function<void(const Say&)>& work,
                const std::function<void(std::string)>& take) {
    std::array<int, 2> ends{-1, -1};
    if (pipe2(ends.data(), O_CLOEXEC) != 0)
        fail();
    const Descriptor in(ends[0]);
    Descriptor out(ends[1]);
    const Descriptor complaints(memfd_create("complaints", MFD_CLOEXEC));
    const pid_t child = complaints ? fork() : -1;
    if (child < 0)
        fail();
    if (child == 0)
        be_child(work, out.get(), complaints.get());
    out = Descriptor(); // so that the child's end is the end
    const Ended ended(child);
    const Listener listener(in.get());
    for (Head head; listener.read_all(&head, sizeof head);) {
        std::string text(head.size, '\0');
        if (!listener.read_all(text.data(), text.size()))
            break;
        switch (head.kind) {
        case Head::Kind::done: return {};
        case Head::Kind::thrown: return {Ending::How::thrown, std::move(text)};
        case Head::Kind::said: take(std::move(text));
        }
    }
    const std::string complaint = complaint_of(complaints.get());
    return {Ending::How::stopped, complaint.empty()
                                      ? "not answered: the process that was to answer has ended"
                                      : complaint};
}

} // namespace jackal::cli
