// Everything that is wrong with a lab: what can be told from its tables, and what only shows
// when packets are sent between all its subnets.
#pragma once

#include "jackal/api.h"
#include "jackal/limits.h"
#include "jackal/probe/ping.h"

#include <functional>

namespace jackal::reach {

struct JACKAL_API Check {
    std::vector<lab::Finding> findings; ///< in the order of their lines
    std::size_t subnets = 0;            ///< subnets with a machine to ask from
    std::size_t pairs_asked = 0;        ///< ordered pairs of subnets, one machine for each

    bool has_errors() const;
};

/// Pairs of subnets are asked until this many; with more than 500 subnets the rest is left out.
constexpr std::size_t most_pairs = limits::checked_pairs;

/// The findings of the lab (lab::findings), and a finding for every place where packets from one
/// subnet arrive at another but their replies are lost.
/// `progress(done, total)` is called now and then, if given.
JACKAL_API Check check(const routing::Settled& settled,
                       const std::function<void(std::size_t, std::size_t)>& progress = {});

} // namespace jackal::reach
