#include "serve/live.h"

#include "child.h"
#include "file.h"
#include "process.h"

#include <sys/stat.h>

namespace jackal::cli::serve {

namespace {

// How often the file is looked at.
constexpr std::chrono::milliseconds pause{40};
constexpr std::chrono::seconds longest_wait{10};

Stamp stamp_of(const std::string& path) {
    struct stat is {};
    if (stat(path.c_str(), &is) != 0)
        return std::nullopt;
    return std::tuple(is.st_ino, is.st_size, is.st_mtim.tv_sec, is.st_mtim.tv_nsec);
}

// What came after it was begun to be worked out is read instead.
struct Outdated {};

} // namespace

Loaded::Loaded(const PlanText& text, const PlanOptions& options)
    : file(text), opened(open_plan(file, options)), settled(settle(opened, options)) {}

Live::Live(PlanOptions options) : options_(std::move(options)) {
    if (options_.path.empty())
        options_.path = plan_here();
    seen_ = stamp_of(options_.path);
    read();
    watcher_ = std::thread([this] { watch(); });
}

Live::~Live() {
    {
        std::lock_guard lock(shown_mutex_);
        is_over_ = true;
    }
    changed_.notify_all();
    watcher_.join();
}

std::shared_ptr<const Shown> Live::now() const {
    std::lock_guard lock(shown_mutex_);
    return shown_;
}

std::shared_ptr<const Shown> Live::after(std::uint64_t version) const {
    std::unique_lock lock(shown_mutex_);
    changed_.wait_for(lock, longest_wait, [&] { return is_over_ || shown_->version > version; });
    return shown_;
}

void Live::show(Shown shown) {
    {
        std::lock_guard lock(shown_mutex_);
        shown.version = shown_ ? shown_->version + 1 : 1;
        shown.reading = reading_;
        shown_ = std::make_shared<const Shown>(std::move(shown));
    }
    changed_.notify_all();
}

bool Live::is_newer() const {
    const Stamp now = stamp_of(options_.path);
    return now && now != seen_;
}

void Live::read() {
    ++reading_;
    try {
        work_out({options_.path, regular_text(options_.path)});
    } catch (const Outdated&) {
        return;
    } catch (const std::exception& e) {
        const std::shared_ptr<const Shown> last = now();
        Shown shown = last ? *last : Shown();
        shown.problems = e.what();
        show(std::move(shown));
    }
}

// First what is quickly known, then the page with its cuts and remedies. What the child process
// could read takes no more of this one.
void Live::work_out(const PlanText& file) {
    auto tell = [&](const Say& say, const Loaded& loaded, const reach::Check& check,
                    bool is_whole) {
        say(exports::check_json(loaded.opened.lab, check));
        say(exports::page(loaded.opened.plan, loaded.settled, check,
                          {.is_live = true, .with_cuts = is_whole}));
    };
    std::shared_ptr<const Loaded> loaded;
    std::string check;
    bool has_check = false;
    const Ending ending = in_child(
        [&](const Say& say) {
            const Loaded own(file, options_);
            reach::Check found = reach::check(own.settled);
            tell(say, own, found, false);
            start_answer();
            mend::try_remedies(own.opened.plan, own.opened.lab, found,
                               [] { return !is_time_short(); });
            tell(say, own, found, true);
        },
        [&](std::string text) {
            has_check = !has_check;
            if (has_check) {
                check = std::move(text);
                return;
            }
            if (loaded == nullptr)
                loaded = std::make_shared<const Loaded>(file, options_);
            show({.loaded = loaded, .check = check, .page = std::move(text)});
            if (is_newer())
                throw Outdated();
        });
    if (ending.how != Ending::How::done)
        throw NotAsked(ending.why);
}

void Live::watch() {
    std::unique_lock lock(shown_mutex_);
    while (!changed_.wait_for(lock, pause, [&] { return is_over_; })) {
        lock.unlock();
        if (is_newer()) {
            seen_ = stamp_of(options_.path);
            read();
        }
        lock.lock();
    }
}

} // namespace jackal::cli::serve
