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
    /// Sites that reach each other, at least by some pair, side by side; one list for a lab
    /// without sites.
    std::vector<std::vector<lab::SiteId>> islands;

    bool has_errors() const;
    std::size_t expectations_met() const;
};

/// The findings of the lab (lab::findings), and a finding for every cause and place of pings
/// between its machines that get no reply, unless a finding tells of it already or an expectation
/// wants it: an error where the reply is lost on its way, else a warning. What the tables call an
/// error about packets is a warning if no ping from, to or at what it is about fails. Machines ask
/// as they would by themselves, from the address that their route chooses. What is outside the lab
/// is asked too; there only lost replies are told. In a lab of more than limits::checked_ends
/// addresses all guests ask one another, and every machine asks and is asked a little besides.
/// `progress(done, total)` is called now and then, if given.
JACKAL_API Check check(const routing::Settled& settled,
                       const std::function<void(std::size_t, std::size_t)>& progress = {});

} // namespace jackal::reach
