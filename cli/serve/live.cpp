#include "serve/live.h"

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

Shown shown_of(std::shared_ptr<const Loaded> loaded, reach::Check check, bool is_whole) {
    std::string page = exports::page(loaded->opened.plan, loaded->settled, check,
                                     {.is_live = true, .with_cuts = is_whole});
    return {.loaded = std::move(loaded),
            .check = std::make_shared<const reach::Check>(std::move(check)),
            .page = std::move(page)};
}

} // namespace

Loaded::Loaded(const PlanOptions& options)
    : file(plan_text(options)), opened(open_plan(options)), settled(settle(opened, options)) {}

Live::Live(PlanOptions options) : options_(std::move(options)) {
    options_.path = plan_text(options_).source;
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

// First what is quickly known, then the page with its cuts and remedies.
void Live::read() {
    std::shared_ptr<const Shown> before = now();
    ++reading_;
    try {
        std::shared_ptr<const Loaded> loaded;
        reach::Check check;
        {
            std::lock_guard lock(turn_);
            start_answer();
            loaded = std::make_shared<const Loaded>(options_);
            check = reach::check(loaded->settled);
            show(shown_of(loaded, check, false));
        }
        if (is_newer())
            return; // it changed meanwhile, and is read again
        std::lock_guard lock(turn_);
        start_answer();
        mend::try_remedies(loaded->opened.plan, loaded->opened.lab, check,
                           [] { return !is_time_short(); });
        show(shown_of(loaded, std::move(check), true));
    } catch (const std::exception& e) {
        show({.problems = e.what(),
              .loaded = before ? before->loaded : nullptr,
              .check = before ? before->check : nullptr,
              .page = before ? before->page : std::string()});
    }
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
