// The program and the system around it: its streams, and how much of the machine it takes.
#pragma once

#include <string>

namespace jackal::cli {

/// What one answer takes at most; beyond, the program says so and ends with status_not_asked.
/// The environment may set another most.
constexpr unsigned most_seconds = 10;     ///< of processor time; JACKAL_SECONDS
constexpr unsigned most_mebibytes = 1024; ///< of memory; JACKAL_MEBIBYTES

/// Opens standard streams that the caller has closed on nothing, so that no file that is opened
/// later takes their place, and sets the limits above.
void prepare_process();

/// Starts the time of an answer anew: for a program that gives many.
void start_answer();

/// True when most of the processor time of the answer is used up, or would be after a few more
/// steps as long as the longest from one time that this was asked to the next, and what is sure
/// to take `to_come_s` seconds.
bool is_time_short(double to_come_s = 0);

/// The most processor time for one answer: JACKAL_SECONDS, or most_seconds.
unsigned seconds_of_answer();

/// Why an answer is not given once is_time_short(): the limit, and what allows more.
std::string out_of_time();

/// For a program that gives answers as long as it is let, each in a process of its own: nothing
/// limits it any more, and where memory is not to be had std::bad_alloc is thrown.
void be_for_long();
/// For such a process, once it was forked: all limits hold as for a program of one answer.
void be_for_one_answer();

/// While there is one, an interrupt (Ctrl-C) lets the program end with the best that it has, if
/// that takes it no more than 150 ms; a second one ends it at once.
class Stoppable {
  public:
    Stoppable();
    ~Stoppable();
    Stoppable(const Stoppable&) = delete;
    Stoppable& operator=(const Stoppable&) = delete;

    bool was_interrupted() const;
    /// True after an interrupt, and when most of the processor time is used up.
    bool is_to_stop() const;
};

/// Writes `jackal: MESSAGE` and a line break to standard error. Control characters in it, but for
/// line breaks, are shown and not sent; nothing happens if nobody listens.
void complain(const std::string& message);

} // namespace jackal::cli
