// The smallest set of changes after which a plan is as it should be.
//
//     mend::Outcome outcome = mend::search(plan, {});
//     for (const mend::Change& change : outcome.changes)
//         …                                            // in the order to make them
//     plan::Writing written = plan::write(text, outcome.edits());
//
// Not one remedy after another: sets of changes are looked for, from those of one change on. What
// is tried are the remedies of all findings and failed expectations of the plan and of what becomes
// of it on the way, and alternatives to them: what is switched off, and the like of a NIC on the
// wrong subnet, a route too many, the other side of a translation. Every set is tried on the whole
// lab; one that leaves or brings an error, an unmet expectation or a new warning is no answer. Of
// sets with as few changes the one is taken that gives least reach that nobody asked for, and of
// those the one that disturbs least: a state set up goes before a route, that before an address, a
// new subnet range or a new machine. A change that takes back what the plan says on purpose counts
// as two. Warnings are left alone unless they are asked for: they may be meant.
#pragma once

#include "jackal/api.h"
#include "jackal/probe/question.h"
#include "jackal/reach/check.h"

#include <functional>
#include <set>

namespace jackal::mend {

/// Machines of a lab in which a change for one question is seen to make nothing else worse; in a
/// larger one nothing else is asked.
constexpr std::size_t most_machines_beside = 200;

/// A ping or connection that shall get its reply.
struct Question {
    std::string from; ///< a machine or MACHINE/NIC
    std::string to;   ///< the same, or an address
    probe::PingOptions options;
};

/// What shall hold afterwards; by itself what makes a plan healthy. Nothing else gets worse either
/// way: no new finding, no expectation that held before and does not.
struct Goals {
    bool expectations = true; ///< every one is met
    bool errors = true;       ///< no finding is an error
    bool warnings = false;    ///< nor a warning
    std::vector<Question> questions;
    /// Unless all are empty only findings of these causes, findings and expectations that stand on
    /// these lines of the plan, and these findings.
    std::set<plan::Cause> causes;
    std::set<std::uint32_t> lines;
    std::vector<lab::Finding> findings;
};

struct Limits {
    std::size_t changes = 12; ///< in one set
    unsigned threads = 1;
    bool is_quick = false; ///< the first set found is taken, unless it disturbs much
};

using plan::Decision;

/// One change: a single edit, all that moves with a renumbered subnet, or the same edit of all
/// machines of a `count`.
struct Change {
    std::vector<plan::Edit> edits;             ///< as the plan stands after the changes before it
    plan::Cause cause = plan::Cause::no_route; ///< of what it was proposed for,
    std::string reason;                        ///< and what that says
    plan::Mark at;                             ///< of that
    std::size_t count = 1; ///< of changes, as a builder counts: more only where several belong
                           ///< together
    /// What the plan says on purpose and the change takes back, such as `state: down`.
    std::vector<Decision> against;
};

/// Something that still fails: a finding, an expectation or a question.
struct Obstacle {
    plan::Cause cause = plan::Cause::no_route;
    std::string message;
    std::string advice; ///< what is left to do by hand; may be empty
    plan::Mark at;
    bool is_warning = false;
};

struct JACKAL_API Outcome {
    enum class Proof : std::uint8_t {
        nothing_to_do,
        smallest,   ///< all sets of fewer changes were tried
        best_found, ///< not all were, before it was stopped
        none,       ///< no set was found
    };
    Proof proof = Proof::none;
    std::vector<Change> changes; ///< with none found: those that get furthest without harm
    std::vector<Obstacle> left;  ///< what they leave undone
    /// New warnings, where no set was found that brings none: mostly of what could not be seen
    /// while something was off.
    std::vector<Obstacle> brought;
    std::size_t proposed = 0; ///< different changes that sets were made of
    std::size_t tried = 0;    ///< labs that were built

    bool is_healthy() const { return left.empty(); }
    std::vector<plan::Edit> edits() const;
    /// Changes as a builder counts them: what moves with a subnet is one, and what all machines of
    /// a `count` have in common.
    std::size_t count() const;
};

/// See above. `plan` has no problems (plan::problems). `goes_on` is asked before each lab that is
/// built, if given, by one thread at a time; where it returns false the search ends with the best
/// so far. Throws std::invalid_argument if a question names no machine of the lab.
JACKAL_API Outcome search(const plan::Plan& plan, const Goals& goals, const Limits& limits = {},
                          const std::function<bool()>& goes_on = {});

} // namespace jackal::mend
