// A plan's own expectations, asked one by one.
#pragma once

#include "jackal/api.h"
#include "jackal/limits.h"
#include "jackal/probe/ping.h"

#include <functional>

namespace jackal::reach {

struct Verdict {
    std::size_t expectation = 0; ///< position in Lab::expectations
    bool passed = false;
    std::size_t pairs = 0;                   ///< how many pairs of machines it covers
    std::size_t failed = 0;                  ///< how many of them did not go as expected
    std::string explanation;                 ///< of the first that failed; empty if all passed
    std::optional<probe::PingAnswer> answer; ///< of the first that failed, else of the first
};

/// An expectation that covers more pairs than this is not met: it has to be split.
constexpr std::size_t most_expected_pairs = limits::expected_pairs;

/// What became of one expectation. Chance is left out: a way that works counts as a reply unless
/// all of it is lost.
JACKAL_API Verdict verify(const routing::Settled& settled, std::size_t expectation);

/// The verdicts of all expectations of the lab, in their order. What the machines know under a cut
/// is worked out once for all that have to hold under any. `progress(done, total)` is called now
/// and then, if given.
JACKAL_API std::vector<Verdict>
verify(const routing::Settled& settled,
       const std::function<void(std::size_t, std::size_t)>& progress = {});

} // namespace jackal::reach
