// What may be tried to mend something.
#pragma once

#include "jackal/lab/lab.h"
#include "jackal/mend/search.h"
#include "mend/state.h"

namespace jackal::mend {

/// How far a candidate is fetched: others are asked for where those before them do not do.
enum class Reach : std::uint8_t {
    remedies,     ///< what findings and diagnoses propose
    switches,     ///< what is switched off, too
    alternatives, ///< to all that, at the machines that it is about
};

/// A change to try, and how much it disturbs.
struct Candidate {
    Change change;
    int disturbance = 0;
};

/// How much an edit for that disturbs what is planned: a state less than a route, that less than an
/// address, a range or a new machine.
int disturbance(plan::Move move);

/// All changes of the plan that may mend something of its state, each once, those that disturb
/// least first.
std::vector<Candidate> candidates(const plan::Plan& plan, const lab::Lab& lab, const State& state,
                                  Reach reach);

/// These edits as a change for something that fails.
Candidate candidate(const Failing& failing, const std::vector<plan::Edit>& edits);

/// The same for what is told of the same place, as one text: what tells one change from another.
/// Empty if the plan does not have what one of the edits is about.
std::string key_of(const std::vector<plan::Edit>& edits);

} // namespace jackal::mend
