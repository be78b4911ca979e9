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
#include <fstream>
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

// Only what may be called when a signal has come, or memory is gone.
[[noreturn]] void end_with(std::string_view message) {
    [[maybe_unused]] ssize_t written = write(STDERR_FILENO, message.data(), message.size());
    _exit(status_not_asked);
}

// The sanitizers' own memory and time are not the program's.
#ifndef JACKAL_SANITIZED

std::string time_message;
std::string memory_message;
timer_t timer; // by the clock of clock(): one of the kernel's ticks would go before or after it

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
    const std::clock_t used = std::clock();
    itimerspec end{};
    end.it_value.tv_sec = static_cast<time_t>(time_limit - 1) + used / CLOCKS_PER_SEC;
    end.it_value.tv_nsec = 700'000'000 + used % CLOCKS_PER_SEC * (1'000'000'000 / CLOCKS_PER_SEC);
    end.it_value.tv_sec += end.it_value.tv_nsec / 1'000'000'000;
    end.it_value.tv_nsec %= 1'000'000'000;
    timer_settime(timer, TIMER_ABSTIME, &end, nullptr);
}

// Each process has its own.
void make_timer() {
    sigevent event{};
    event.sigev_notify = SIGEV_SIGNAL;
    event.sigev_signo = SIGPROF;
    timer_create(CLOCK_PROCESS_CPUTIME_ID, &event, &timer);
}

void stop_timer() {
    const itimerspec never{};
    timer_settime(timer, 0, &never, nullptr);
}

void limit_time() {
    unsigned seconds = limit_of("JACKAL_SECONDS", most_seconds);
    time_limit = seconds;
    time_message = fmt::format("jackal: not answered: {}\n", out_of_time());
    std::signal(SIGPROF, [](int) { end_with(time_message); });
    make_timer();
    start_timer();
}

rlim_t most_bytes = 0; // of data

void set_memory(rlim_t bytes) {
    rlimit limit{};
    getrlimit(RLIMIT_DATA, &limit);
    limit.rlim_cur = std::min(bytes, limit.rlim_max);
    setrlimit(RLIMIT_DATA, &limit);
}

void heed_memory() {
    set_memory(most_bytes);
    std::set_new_handler([] { end_with(memory_message); });
}

void let_go_of_limits() {
    stop_timer();
    set_memory(RLIM_INFINITY);
    std::set_new_handler(nullptr);
}

// What the process has already, with the stacks of all the threads before it, is not the answer's.
void take_on_limits() {
    std::ifstream sizes("/proc/self/statm"); // in pages; the sixth is that of data and stacks
    rlim_t pages = 0;
    for (int i = 0; i < 6; ++i)
        sizes >> pages;
    make_timer();
    heed_memory();
    set_memory(most_bytes + pages * static_cast<rlim_t>(sysconf(_SC_PAGESIZE)));
}

void limit_memory() {
    unsigned mebibytes = limit_of("JACKAL_MEBIBYTES", most_mebibytes);
    memory_message =
        fmt::format("jackal: not answered: this takes more than {} MiB of memory, the most for one "
                    "answer; JACKAL_MEBIBYTES={} allows more\n",
                    mebibytes, 4 * mebibytes);
    most_bytes = (rlim_t{mebibytes} << 20) / 32 * 31; // the rest is the program itself
    heed_memory();
}

#else

void start_timer() {}
void limit_time() {}
void limit_memory() {}
void let_go_of_limits() {}
void take_on_limits() {}

#endif

} // namespace

void prepare_process() {
    open_closed_streams();
    std::signal(SIGXFSZ, SIG_IGN); // what is too large a file is an error of who writes it
    limit_time();
    limit_memory();
}

namespace {

volatile std::sig_atomic_t interrupted = 0;
std::atomic<std::clock_t> answer_start = 0;
std::atomic<std::clock_t> last_asked = 0;
std::atomic<std::clock_t> longest_step = 0;

} // namespace

void start_answer() {
    answer_start = std::clock();
    last_asked = answer_start.load();
    longest_step = 0;
    start_timer();
}

void be_for_long() {
    let_go_of_limits();
}

void be_for_one_answer() {
    take_on_limits();
    start_answer();
}

bool is_time_short(double to_come_s) {
    constexpr double share = 0.8;
    constexpr double step_share = 0.95;
    constexpr std::clock_t steps_to_come = 2; // one under way, and to lay down what was found
    const std::clock_t now = std::clock();
    const std::clock_t step = now - last_asked.exchange(now);
    if (step > longest_step)
        longest_step = step;
    const double spoken_for = static_cast<double>(now - answer_start) / CLOCKS_PER_SEC + to_come_s;
    const double steps = static_cast<double>(steps_to_come * longest_step.load()) / CLOCKS_PER_SEC;
    return time_limit != 0
           && (spoken_for > share * time_limit || spoken_for + steps > step_share * time_limit);
}

namespace {

void end_interrupted(int) {
    end_with("jackal: not answered: it was interrupted\n");
}

} // namespace

unsigned seconds_of_answer() {
    return time_limit == 0 ? most_seconds : time_limit;
}

std::string out_of_time() {
    return fmt::format("this takes more than {} s of processor time, the most for one answer; "
                       "JACKAL_SECONDS={} allows more",
                       time_limit, 10 * time_limit);
}

Stoppable::Stoppable() {
    std::signal(SIGALRM, end_interrupted);
    std::signal(SIGINT, [](int) {
        interrupted = 1;
        std::signal(SIGINT, end_interrupted);
        constexpr itimerval patience{{0, 0}, {0, 150'000}};
        setitimer(ITIMER_REAL, &patience, nullptr);
    });
}

Stoppable::~Stoppable() {
    std::signal(SIGINT, SIG_DFL);
    std::signal(SIGALRM, SIG_IGN);
}

bool Stoppable::was_interrupted() const {
    return interrupted != 0;
}

bool Stoppable::is_to_stop() const {
    return was_interrupted() || is_time_short();
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
