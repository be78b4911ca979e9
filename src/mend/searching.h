// The search from a state that is known, with what becomes of it.
#pragma once

#include "mend/state.h"

namespace jackal::mend {

struct Found {
    Outcome outcome;
    std::shared_ptr<const State> state; ///< after its changes
};

/// search(), where `root` is what fails in the plan as it is, and `settled` its lab.
Found search_from(const plan::Plan& plan, const routing::Settled& settled,
                  std::shared_ptr<const State> root, const Goals& goals, const Limits& limits,
                  const std::function<bool()>& goes_on);

} // namespace jackal::mend
