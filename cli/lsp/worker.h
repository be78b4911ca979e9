// The thread that reads plans, checks them and looks for changes, while the server answers.
#pragma once

#include "jackal/editor/view.h"

#include <chrono>
#include <condition_variable>
#include <deque>
#include <functional>
#include <map>
#include <mutex>
#include <thread>

namespace jackal::cli::lsp {

/// What is known of a text.
struct Known {
    std::string uri;
    std::int64_t version = 0;
    std::shared_ptr<const editor::View> view;
    std::shared_ptr<const reach::Check> check; ///< null if the text has problems, or until then
    bool is_too_large = false;                 ///< it takes too long to check
};

/// What came of an action.
struct Done {
    std::uint64_t number = 0;
    std::vector<editor::TextChange> changes;
    std::string problem; ///< why there are none; else empty
};

class Worker {
  public:
    struct Text {
        std::string uri;
        std::string source;
        std::int64_t version = 0;
        std::string text;
    };
    struct Task {
        std::uint64_t number = 0;
        Known about; ///< whose text it changes
        editor::Action action;
    };

    /// They are called by the worker's thread.
    Worker(std::function<void(Known)> tell, std::function<void(Done)> finish);
    ~Worker();
    Worker(const Worker&) = delete;
    Worker& operator=(const Worker&) = delete;

    /// Has the text looked at once no other of its URI has come for `quiet`; what is done for an
    /// earlier one ends.
    void look(Text text, std::chrono::milliseconds quiet);
    void forget(const std::string& uri);
    void act(Task task);
    /// Ends a task, whether it has begun or not.
    void cancel(std::uint64_t number);

  private:
    struct Waiting {
        Text text;
        std::chrono::steady_clock::time_point due;
    };

    void run();
    void look_at(const Text& text);
    void carry_out(const Task& task);
    bool is_outdated(const std::string& uri);

    std::function<void(Known)> tell_;
    std::function<void(Done)> finish_;
    std::mutex mutex_;
    std::condition_variable changed_;
    std::map<std::string, Waiting> waiting_; // by URI
    std::deque<Task> tasks_;
    std::uint64_t cancelled_ = 0; // the task that is being carried out, if it is to end
    bool is_ending_ = false;
    std::thread thread_;
};

} // namespace jackal::cli::lsp
