#include "jackal/mend/remedies.h"

#include "jackal/limits.h"
#include "lab/mistakes/inspection.h"
#include "mend/candidates.h"
#include "mend/searching.h"

#include <algorithm>
#include <span>

namespace jackal::mend {

using lab::Finding;
using Proof = lab::Remedy::Proof;

Mending reply(const plan::Plan& plan, const Question& question,
              const std::function<bool()>& goes_on) {
    std::size_t labs = 0;
    Goals goals{.expectations = false, .errors = false};
    goals.questions.push_back(question);
    const Outcome outcome = search(plan, goals, {.changes = 16}, [&] {
        return ++labs < limits::mending_labs && (!goes_on || goes_on());
    });
    return {outcome.edits(), outcome.left.empty() ? "" : outcome.left.front().advice,
            outcome.is_healthy()};
}

namespace {

class Trial {
  public:
    Trial(const plan::Plan& plan, const lab::Lab& lab, reach::Check& check,
          const std::function<bool()>& goes_on)
        : plan_(plan), lab_(lab), settled_(routing::settle(lab)), check_(check), goes_on_(goes_on) {
        constexpr std::size_t rows_of_speaker = 10; // what it learns is worked out, too
        constexpr std::size_t pairs_of_row = 30; // with a reply, that are asked in the time of one
        const std::size_t rows =
            lab.machines.size() + lab.nics.size() + rows_of_speaker * lab.speakers.size()
            + check.answered / pairs_of_row + (check.pairs_asked - check.answered) + 1;
        left_ = limits::tried_rows / rows;
    }

    void run() {
        std::span<Finding> findings(check_.findings);
        findings = findings.first(std::min(findings.size(), left_));
        for (Finding& finding : findings)
            after_.push_back(finding.remedy.edits.empty() ? nullptr : mend(finding));
        std::vector<std::string> keys;
        for (const Finding& finding : findings)
            keys.push_back(key_of(finding.remedy.edits));
        lab::part_proposals(lab_, check_.findings);
        for (std::size_t i = 0; i < keys.size(); ++i)
            if (keys[i] != key_of(findings[i].remedy.edits))
                after_[i] = tried(findings[i]);
        sort_by_consequence();
    }

  private:
    bool goes_on() {
        if (left_ == 0 || (goes_on_ && !goes_on_()))
            return false;
        --left_;
        return true;
    }

    // That it is gone; of one about pairs first that the one that it names gets its reply.
    static Goals goals_of(const Finding& finding) {
        Goals goals{.expectations = false, .warnings = true, .findings = {finding}};
        if (!finding.from.empty())
            goals.questions.push_back({finding.from, finding.to});
        return goals;
    }

    // What becomes of the plan with the changes that mend the finding; null if there are none. What
    // is proposed for many pairs is tried as it is, then sets are searched for.
    std::shared_ptr<const State> mend(Finding& finding) {
        if (!finding.from.empty())
            if (auto state = tried(finding))
                return state;
        std::size_t labs = 0;
        const Goals goals = goals_of(finding);
        Found found = search_from(plan_, settled_, State::of_check(settled_, check_, goals), goals,
                                  {.changes = 8, .is_quick = true},
                                  [&] { return ++labs < limits::mending_labs && goes_on(); });
        if (found.outcome.is_healthy() && !found.outcome.changes.empty()) {
            finding.remedy.edits = found.outcome.edits();
            finding.remedy.proof = Proof::mends;
            return found.state;
        }
        if (labs != 0)
            finding.remedy.proof = Proof::more_is_needed;
        return nullptr;
    }

    // Null if what is proposed does not do, or nothing may be tried any more.
    std::shared_ptr<const State> tried(Finding& finding) {
        finding.remedy.proof = Proof::untried;
        if (!goes_on())
            return nullptr;
        const Goals goals = goals_of(finding);
        Before before = State::of_check(settled_, check_, goals)->as_before();
        before.settled = &settled_;
        const plan::Applied made = plan::apply(plan_, finding.remedy.edits);
        auto state = made.plan ? State::of(*made.plan, goals, &before) : nullptr;
        const bool mends = state != nullptr && state->failing().empty() && state->harm().empty();
        finding.remedy.proof = mends ? Proof::mends : Proof::more_is_needed;
        return mends ? state : nullptr;
    }

    // Puts findings that a remedy mends besides its own behind that one.
    void sort_by_consequence() {
        std::vector<Finding>& findings = check_.findings;
        const std::size_t count = findings.size();
        std::vector<std::vector<bool>> mended; // by finding that was tried, by other
        std::vector<std::size_t> order;        // those that mend most others first
        for (std::size_t i = 0; i < after_.size(); ++i) {
            mended.emplace_back(count);
            for (std::size_t j = 0; j < count && after_[i] != nullptr; ++j)
                mended[i][j] =
                    i != j && !after_[i]->as_before().places.contains(key_at(findings[j]));
            order.push_back(i);
        }
        auto mends = [&](std::size_t i) { return std::ranges::count(mended[i], true); };
        std::ranges::stable_sort(order, std::greater(), mends);
        std::vector<std::optional<std::size_t>> root(count);
        std::vector<std::vector<std::size_t>> followers(count);
        auto edits = [&](std::size_t i) { return findings[i].remedy.edits.size(); };
        for (std::size_t i : order)
            for (std::size_t j = 0; j < count && !root[i]; ++j)
                if (mended[i][j] && (edits(j) == 0 || edits(i) <= edits(j)) && !root[j]
                    && followers[j].empty()) {
                    root[j] = i;
                    followers[i].push_back(j);
                }
        std::vector<std::size_t> roots;
        for (std::size_t i = 0; i < count; ++i)
            if (!root[i])
                roots.push_back(i);
        std::ranges::stable_sort(roots, std::greater(),
                                 [&](std::size_t i) { return followers[i].size(); });
        std::vector<Finding> sorted;
        for (std::size_t i : roots) {
            const std::size_t place = sorted.size();
            sorted.push_back(std::move(findings[i]));
            for (std::size_t j : followers[i]) {
                sorted.push_back(std::move(findings[j]));
                sorted.back().follows = place;
            }
        }
        findings = std::move(sorted);
    }

    const plan::Plan& plan_;
    const lab::Lab& lab_;
    const routing::Settled settled_;
    reach::Check& check_;
    const std::function<bool()>& goes_on_;
    std::size_t left_ = 0;                            // labs
    std::vector<std::shared_ptr<const State>> after_; // by finding: null if it is not mended
};

} // namespace

void try_remedies(const plan::Plan& plan, const lab::Lab& lab, reach::Check& check,
                  const std::function<bool()>& goes_on) {
    Trial(plan, lab, check, goes_on).run();
}

} // namespace jackal::mend
