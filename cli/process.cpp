#include "process.h"

#include "command.h"

#include <atomic>
#include <charconv>
#include <csignal>
#include <cstdlib>
#include <cstring>
#include <ctime>
#include <fcntl.h>
#include <fmt/format.h>
#include <new>
#include <sys/resource.h>
#include <sys/time.h>
#include <unistd.h>

namespace jackal::cli {

namespace {

void open_closed_streams() {
    for (int stream : {STDIN_FILENO, STDOUT_FILENO, STDERR_FILENO})
        if (fcntl(stream, F_GETFD) == -1 && open("/dev/null", O_RDWR) != stream)
            _exit(status_not_asked);
}

unsigned time_limit = 0; // in seconds; 0: none

// The sanitizers' own memory and time are not the program's.
#ifndef JACKAL_SANITIZED

std::string time_message;
std::string memory_message;

// Only what may be called when a signal has come, or memory is gone.
[[noreturn]] void end_with(const std::string& message) {
    [[maybe_unused]] ssize_t written = write(STDERR_FILENO, message.data(), message.size());
    _exit(status_not_asked);
}

unsigned limit_of(const char* variable, unsigned otherwise) {
    constexpr unsigned most = 1'000'000;
    const char* text = std::getenv(variable);
    if (text == nullptr)
        return otherwise;
    unsigned value = 0;
    auto [end, error] = std::from_chars(text, text + std::strlen(text), value);
    if (error != std::errc{} || *end != '\0' || value == 0 || value > most)
        throw NotAsked(
            fmt::format("{}={}: write a whole number from 1 to {}", variable, text, most));
    return value;
}

// A little before, as ending takes its time too.
void start_timer() {
    itimerval timer{{0, 0}, {static_cast<time_t>(time_limit - 1), 700'000}};
    setitimer(ITIMER_PROF, &timer, nullptr);
}

void limit_time() {
    unsigned seconds = limit_of("JACKAL_SECONDS", most_seconds);
    time_limit = seconds;
    time_message = fmt::format(
        "jackal: not answered: this takes more than {} s of processor time, the most for one "
        "answer; JACKAL_SECONDS={} allows more\n",
        seconds, 10 * seconds);
    std::signal(SIGPROF, [](int) { end_with(time_message); });
    start_timer();
}

void limit_memory() {
    unsigned mebibytes = limit_of("JACKAL_MEBIBYTES", most_mebibytes);
    memory_message =
        fmt::format("jackal: not answered: this takes more than {} MiB of memory, the most for one "
                    "answer; JACKAL_MEBIBYTES={} allows more\n",
                    mebibytes, 4 * mebibytes);
    rlim_t bytes = (rlim_t{mebibytes} << 20) / 32 * 31; // the rest is the program itself
    rlimit limit{};
    getrlimit(RLIMIT_DATA, &limit);
    limit.rlim_cur = std::min(bytes, limit.rlim_max);
    setrlimit(RLIMIT_DATA, &limit);
    std::set_new_handler([] { end_with(memory_message); });
}

#else

void start_timer() {}
void limit_time() {}
void limit_memory() {}

#endif

} // namespace

void prepare_process() {
    open_closed_streams();
    limit_time();
    limit_memory();
}

namespace {

volatile std::sig_atomic_t interrupted = 0;
std::atomic<std::clock_t> answer_start = 0;

} // namespace

void start_answer() {
    answer_start = std::clock();
    start_timer();
}

bool is_time_short() {
    constexpr double share = 0.85;
    double used = static_cast<double>(std::clock() - answer_start) / CLOCKS_PER_SEC;
    return time_limit != 0 && used > share * time_limit;
}

Stoppable::Stoppable() {
    std::signal(SIGINT, [](int) { interrupted = 1; });
}

Stoppable::~Stoppable() {
    std::signal(SIGINT, SIG_DFL);
}

bool Stoppable::is_to_stop() const {
    return interrupted != 0 || is_time_short();
}

void complain(const std::string& message) {
    std::string text = "jackal: ";
    for (std::size_t at = 0; at <= message.size();) {
        std::size_t end = std::min(message.find('\n', at), message.size());
        text += plan::printable(std::string_view(message).substr(at, end - at)) + "\n";
        at = end + 1;
    }
    std::fwrite(text.data(), 1, text.size(), stderr);
}

} // namespace jackal::cli
