// What writing a file and writing a folder share.
#pragma once

#include "command.h"

#include <csignal>
#include <fmt/format.h>
#include <string>
#include <string_view>
#include <sys/stat.h>

namespace jackal::cli {

/// Why nothing is written over what is there.
inline constexpr std::string_view already_there = "it exists already; --replace takes its place";

[[noreturn]] inline void fail_to_write(const std::string& path, std::string_view why) {
    throw NotAsked(fmt::format("{}: cannot be written: {}", path, why));
}

/// While it lives no signal but SIGKILL comes in between.
class Undisturbed {
  public:
    Undisturbed() {
        sigset_t all;
        sigfillset(&all);
        sigprocmask(SIG_BLOCK, &all, &before_);
    }
    Undisturbed(const Undisturbed&) = delete;
    Undisturbed& operator=(const Undisturbed&) = delete;
    ~Undisturbed() { sigprocmask(SIG_SETMASK, &before_, nullptr); }

    /// True if a signal waits that is to end the program.
    static bool is_asked_to_stop() {
        sigset_t waiting;
        sigpending(&waiting);
        for (int signal : {SIGINT, SIGTERM, SIGHUP, SIGPROF})
            if (sigismember(&waiting, signal) == 1)
                return true;
        return false;
    }

  private:
    sigset_t before_{};
};

/// The permissions that a new file or folder has by itself, of those asked for.
inline mode_t unmasked(mode_t mode) {
    const mode_t mask = umask(0);
    umask(mask);
    return mode & ~mask;
}

} // namespace jackal::cli
