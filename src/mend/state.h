// A plan on its way to be mended: what it is after some changes, and what fails then.
#pragma once

#include "jackal/lab/build.h"
#include "jackal/mend/search.h"

#include <memory>

namespace jackal::mend {

/// One thing that fails, with what is proposed for it.
struct Failing {
    plan::Cause cause = plan::Cause::no_route;
    std::string key; ///< the same as long as it is the same thing
    std::string message;
    lab::Remedy remedy;
    plan::Mark at;
    std::vector<std::string> machines; ///< that it is about
    std::vector<std::string> groups;   ///< subnets that an expectation names
    std::vector<std::string> ends; ///< the machines of a question that fails: who asks, and whom
    bool is_asked = false;         ///< an expectation or a question, and no finding
    bool is_warning = false;
};

/// What a finding is about, whatever else becomes of the plan; others may be of the same kind.
std::string key_of(plan::Cause cause, const std::string& subject);
/// The same with its place, which tells it from others.
std::string key_at(const lab::Finding& finding);

/// What the plan had before any change: told of again, it is nothing new.
struct Before {
    std::set<std::string> findings;            ///< their keys
    std::set<std::string> places;              ///< and those with the places
    std::set<std::size_t> unmet;               ///< expectations
    const routing::Settled* settled = nullptr; ///< to ask whether a ping got its reply then

    bool failed(const std::string& from, const std::string& to) const;
};

/// What fails in a plan after some changes.
class State {
  public:
    /// Null if the plan does not read.
    static std::shared_ptr<const State> of(const plan::Plan& plan, const Goals& goals,
                                           const Before* before);
    static std::shared_ptr<const State> of(const routing::Settled& settled, const Goals& goals,
                                           const Before* before);
    /// That of a lab as it was checked, before any change.
    static std::shared_ptr<const State> of_check(const routing::Settled& settled,
                                                 const reach::Check& check, const Goals& goals);

    /// What was asked for and fails, root causes first.
    const std::vector<Failing>& failing() const { return failing_; }
    /// What is worse than before.
    const std::vector<Failing>& harm() const { return harm_; }
    /// How many places in the plan fail or are worse; several things that do in one count once.
    std::size_t places() const { return places_; }
    /// Findings of all sorts.
    std::size_t findings() const { return as_before_.findings.size(); }
    /// Pairs that get a reply; not counted while a question fails.
    std::size_t answered() const { return answered_; }
    /// How far the packets get of expectations and questions that fail.
    std::size_t progress() const { return progress_; }
    /// All that is told of it, for what comes after it to be held against.
    const Before& as_before() const { return as_before_; }

  private:
    void ask(const routing::Settled& settled, const Goals& goals, const Before* before);
    void take(const lab::Lab& lab, const reach::Check& check, const Goals& goals,
              const Before* before);
    void take(const lab::Finding& finding, const Goals& goals, const Before* before);
    void take(const lab::Lab& lab, const reach::Verdict& verdict, const Goals& goals,
              const Before* before);
    void take_questions(const routing::Settled& settled, const Goals& goals);

    std::size_t answered_ = 0;
    std::size_t places_ = 0;
    std::size_t progress_ = 0;
    Before as_before_;
    std::vector<Failing> failing_;
    std::vector<Failing> harm_;
};

} // namespace jackal::mend
