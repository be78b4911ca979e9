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

/// True when most of the processor time of the answer is used up.
bool is_time_short();

/// While there is one, an interrupt (Ctrl-C) does not end the program.
class Stoppable {
  public:
    Stoppable();
    ~Stoppable();
    Stoppable(const Stoppable&) = delete;
    Stoppable& operator=(const Stoppable&) = delete;

    /// True after an interrupt, and when most of the processor time is used up.
    bool is_to_stop() const;
};

/// Writes `jackal: MESSAGE` and a line break to standard error. Control characters in it, but for
/// line breaks, are shown and not sent; nothing happens if nobody listens.
void complain(const std::string& message);

} // namespace jackal::cli
