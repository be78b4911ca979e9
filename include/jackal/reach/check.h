// Everything that is wrong with a lab: what can be told from its tables, and what only shows
// when packets are sent between all its machines.
#pragma once

#include "jackal/api.h"
#include "jackal/limits.h"
#include "jackal/reach/verify.h"

#include <functional>

namespace jackal::reach {

struct JACKAL_API Check {
    /// Those to mend first come first, as far as mend::try_remedies() has found out; else by line.
    std::vector<lab::Finding> findings;
    std::size_t pairs = 0;         ///< a machine that asks, and a NIC that is to answer
    std::size_t pairs_asked = 0;   ///< how many of them were asked
    std::size_t answered = 0;      ///< of those: got a reply
    std::size_t stated = 0;        ///< got none, and an expectation says so
    std::size_t outside = 0;       ///< got none from outside the lab, which nobody has to reach
    std::size_t explained = 0;     ///< got none, and a finding tells why
    std::size_t unexplained = 0;   ///< got none, beyond limits::explained_gaps
    std::vector<Verdict> verdicts; ///< of the plan's expectations
    /// Sites of which each reaches each other one, by some pair there and some back, side by side;
    /// one list for a lab without sites.
    std::vector<std::vector<lab::SiteId>> islands;
    /// Sites of different islands that reach each other all the same.
    std::vector<std::pair<lab::SiteId, lab::SiteId>> joined;

    bool has_errors() const;
    /// No finding is an error, and every expectation is met.
    bool is_healthy() const { return !has_errors() && expectations_met() == verdicts.size(); }
    std::size_t expectations_met() const;
};

/// The findings of the lab (lab::findings), and a finding for every cause and place of pings
/// between its machines that get no reply, unless a finding tells of it already or an expectation
/// wants it. What an unmet expectation runs into is an error, and told of the pair that it names;
/// that nobody asked for is a warning, but for packets that circle. What the tables call an error
/// about packets is a warning if no ping from, to or at what it is about fails, and so is something
/// that the plan has down, unless an expectation runs into it. Machines ask
/// as they would by themselves, from the address that their route chooses. What is outside the lab
/// is asked too; there only lost replies are told. In a lab of more than limits::checked_ends
/// addresses all guests ask one another, and every machine asks and is asked a little besides.
/// `progress(done, total)` is called now and then, if given.
JACKAL_API Check check(const routing::Settled& settled,
                       const std::function<void(std::size_t, std::size_t)>& progress = {});

} // namespace jackal::reach
