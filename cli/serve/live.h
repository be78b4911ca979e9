// The plan that is served, as it stands in its file: read anew whenever that changes.
#pragma once

#include "command.h"

#include <condition_variable>
#include <memory>
#include <mutex>
#include <optional>
#include <sys/types.h>
#include <thread>
#include <tuple>

namespace jackal::cli::serve {

/// A plan that was read, and what is known of it. It never moves, as its parts refer to each other.
struct Loaded {
    Loaded(const PlanText& text, const PlanOptions& options);
    Loaded(const Loaded&) = delete;
    Loaded& operator=(const Loaded&) = delete;

    PlanText file;
    Opened opened;
    routing::Settled settled;
};

/// What is shown at one time.
struct Shown {
    std::uint64_t version = 0;            ///< one more with each change
    std::string problems;                 ///< why the file cannot be read now; empty if it can
    std::uint64_t reading = 0;            ///< one more with each time that the file is read
    std::shared_ptr<const Loaded> loaded; ///< the last that could be read; null if none ever could
    std::string check;                    ///< of that, as JSON
    std::string page;
};

/// What is otherwise after a file was written or replaced; nothing if it is gone.
using Stamp = std::optional<std::tuple<ino_t, off_t, time_t, long>>;

/// Watches the plan file. What it says is worked out by a child process with the limits of an
/// answer: a file that takes more is a problem, which is over when the file is good again.
class Live {
  public:
    explicit Live(PlanOptions options);
    ~Live();
    Live(const Live&) = delete;
    Live& operator=(const Live&) = delete;

    std::shared_ptr<const Shown> now() const;
    /// As soon as there is something newer than `version`, or after ten seconds.
    std::shared_ptr<const Shown> after(std::uint64_t version) const;

  private:
    void watch();
    void read();
    void show(Shown shown);
    void work_out(const PlanText& file);
    bool is_newer() const; ///< the file, than what was read last

    PlanOptions options_;
    Stamp seen_;
    std::uint64_t reading_ = 0;
    mutable std::mutex shown_mutex_;
    mutable std::condition_variable changed_;
    std::shared_ptr<const Shown> shown_;
    bool is_over_ = false;
    std::thread watcher_;
};

} // namespace jackal::cli::serve
