#include "lsp/worker.h"

#include "command.h"
#include "process.h"

namespace jackal::cli::lsp {

namespace {

struct Outdated {};
struct TooLarge {};

} // namespace

Worker::Worker(std::function<void(Known)> tell, std::function<void(Done)> finish)
    : tell_(std::move(tell)), finish_(std::move(finish)), thread_([this] { run(); }) {}

Worker::~Worker() {
    {
        std::lock_guard lock(mutex_);
        is_ending_ = true;
    }
    changed_.notify_all();
    thread_.join();
}

void Worker::look(Text text, std::chrono::milliseconds quiet) {
    {
        std::lock_guard lock(mutex_);
        const std::string uri = text.uri;
        waiting_[uri] = {std::move(text), std::chrono::steady_clock::now() + quiet};
    }
    changed_.notify_all();
}

void Worker::forget(const std::string& uri) {
    std::lock_guard lock(mutex_);
    waiting_.erase(uri);
}

void Worker::act(Task task) {
    {
        std::lock_guard lock(mutex_);
        tasks_.push_back(std::move(task));
    }
    changed_.notify_all();
}

void Worker::cancel(std::uint64_t number) {
    std::lock_guard lock(mutex_);
    std::erase_if(tasks_, [&](const Task& task) { return task.number == number; });
    cancelled_ = number;
}

bool Worker::is_outdated(const std::string& uri) {
    std::lock_guard lock(mutex_);
    return is_ending_ || waiting_.contains(uri) || !tasks_.empty();
}

void Worker::run() {
    std::unique_lock lock(mutex_);
    while (!is_ending_) {
        if (!tasks_.empty()) {
            const Task task = std::move(tasks_.front());
            tasks_.pop_front();
            lock.unlock();
            carry_out(task);
            lock.lock();
            continue;
        }
        auto next = waiting_.begin();
        for (auto other = waiting_.begin(); other != waiting_.end(); ++other)
            if (other->second.due < next->second.due)
                next = other;
        if (next == waiting_.end()) {
            changed_.wait(lock);
        } else if (const auto due = next->second.due; due > std::chrono::steady_clock::now()) {
            changed_.wait_until(lock, due);
        } else {
            const Text text = std::move(next->second.text);
            waiting_.erase(next);
            lock.unlock();
            look_at(text);
            lock.lock();
        }
    }
}

void Worker::look_at(const Text& text) {
    start_answer();
    Known known{text.uri, text.version, std::make_shared<editor::View>(text.text, text.source),
                nullptr};
    tell_(known);
    if (known.view->settled() == nullptr)
        return;
    auto stop = [&](std::size_t done, std::size_t) {
        constexpr std::size_t pairs = 1024; // after which it is worth asking
        if (done % pairs != 0)
            return;
        if (is_outdated(text.uri))
            throw Outdated();
        if (is_time_short())
            throw TooLarge();
    };
    try {
        auto check = std::make_shared<reach::Check>(reach::check(*known.view->settled(), stop));
        known.check = check;
        tell_(known);
        auto tried = std::make_shared<reach::Check>(*check);
        mend::try_remedies(*known.view->plan(), *known.view->lab(), *tried,
                           [&] { return !is_outdated(text.uri) && !is_time_short(); });
        known.check = tried;
        tell_(known);
    } catch (const TooLarge&) {
        known.is_too_large = true;
        tell_(known);
    } catch (const Outdated&) {
        // A task may have come between: the text is looked at again behind it, unless it is old.
        std::lock_guard lock(mutex_);
        if (!tasks_.empty() && !is_ending_)
            waiting_.try_emplace(text.uri, Waiting{text, std::chrono::steady_clock::now()});
    }
}

void Worker::carry_out(const Task& task) {
    start_answer();
    constexpr auto most = std::chrono::seconds(10);
    const auto end = std::chrono::steady_clock::now() + most;
    auto is_cancelled = [&] {
        std::lock_guard lock(mutex_);
        return is_ending_ || cancelled_ == task.number;
    };
    auto goes_on = [&] {
        return !is_cancelled() && !is_time_short() && std::chrono::steady_clock::now() < end;
    };
    Done done{task.number, {}, ""};
    try {
        done.changes =
            editor::changes(*task.about.view, *task.about.check, task.action, threads(), goes_on);
    } catch (const std::exception& e) {
        done.problem = e.what();
    }
    finish_(std::move(done));
}

} // namespace jackal::cli::lsp
