// Every answer that the program gives, asked of one plan; and how often each part was reached.
#pragma once

#include "jackal/plan/complete.h"

#include <string>

namespace fuzz {

/// Asks all of it of a plan that the text was read as, if the lab is small: a text of a few
/// hundred bytes can ask for 10,000 machines, and the time is better spent on many small labs.
void ask_everything(const std::string& text, const jackal::plan::Complete& plan);

/// Counts a thing that was reached; all counts are printed when the program ends, as `reached: …`.
void reached(const char* what);

} // namespace fuzz
