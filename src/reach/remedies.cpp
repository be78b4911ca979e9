#include "jackal/lab/build.h"
#include "jackal/plan/validate.h"
#include "jackal/probe/mend.h"
#include "jackal/reach/check.h"
#include "lab/mistakes/inspection.h"
#include "reach/tables.h"

#include <algorithm>
#include <memory>
#include <set>
#include <span>

namespace jackal::reach {

using lab::Finding;
using Proof = lab::Remedy::Proof;

namespace {

// The lab of a changed plan.
struct Changed {
    explicit Changed(const plan::Complete& plan)
        : lab(lab::build(plan)), settled(routing::settle(lab)), found(table_findings(settled)) {
        std::ranges::move(tunnel_findings(settled), std::back_inserter(found));
    }
    Changed(const Changed&) = delete;
    Changed& operator=(const Changed&) = delete;

    // What is still told of the same thing, or null.
    const Finding* same(const Finding& finding) const {
        auto same = std::ranges::find_if(found, [&](const Finding& other) {
            return other.cause == finding.cause && other.subject == finding.subject
                   && other.at == finding.at;
        });
        return same == found.end() ? nullptr : &*same;
    }
    bool has(const Finding& finding) const {
        if (finding.from.empty())
            return same(finding) != nullptr;
        auto question = probe::question(lab, finding.from, finding.to);
        return !question || !probe::exchange(settled, *question).replied();
    }

    const lab::Lab lab;
    const routing::Settled settled;
    std::vector<Finding> found;
};

// Null if the plan does not read.
std::unique_ptr<const Changed> after(const plan::Plan& plan) {
    std::vector<plan::Problem> problems;
    auto complete = plan::Complete::of(plan, problems);
    return complete ? std::make_unique<const Changed>(*complete) : nullptr;
}

class Trial {
  public:
    Trial(const plan::Plan& plan, std::size_t rows, const std::function<bool()>& goes_on)
        : plan_(plan), rows_(rows), goes_on_(goes_on) {}

    void run(Finding& finding) {
        if (finding.remedy.edits.empty())
            return;
        if (finding.from.empty())
            try_changes(finding);
        else
            try_pair(finding);
    }

    // Once more, after the remedy was changed so that it proposes nothing that another does.
    void run_again(Finding& finding) {
        finding.remedy.proof = Proof::untried;
        if (finding.from.empty())
            return try_changes(finding);
        if (!can_build())
            return;
        auto changed = after(plan::apply(plan_, finding.remedy.edits));
        if (changed)
            finding.remedy.proof = changed->has(finding) ? Proof::more_is_needed : Proof::mends;
    }

    // Which of the findings are gone once one of them is mended.
    std::vector<bool> mended_by(const Finding& finding, std::span<const Finding> all) {
        std::vector<bool> gone(all.size());
        if (finding.remedy.proof != Proof::mends || !can_build())
            return gone;
        auto changed = after(plan::apply(plan_, finding.remedy.edits));
        for (std::size_t i = 0; i < all.size() && changed; ++i)
            gone[i] = &all[i] != &finding && !changed->has(all[i]);
        return gone;
    }

    static std::set<std::string> words(const std::vector<plan::Edit>& edits,
                                       const plan::Plan& plan) {
        std::set<std::string> lines;
        for (const plan::EditText& text : plan::to_texts(edits, plan))
            lines.insert(plan::to_line(text));
        return lines;
    }

  private:
    bool can_build() {
        if (left_ < rows_ || (goes_on_ && !goes_on_()))
            return false;
        left_ -= rows_;
        return true;
    }

    void try_pair(Finding& finding) {
        if (left_ < rows_ * probe::most_mending_rounds || (goes_on_ && !goes_on_()))
            return;
        probe::Mending mending = probe::mend(plan_, finding.from, finding.to);
        left_ -=
            rows_ * std::min<std::size_t>(mending.edits.size() + 1, probe::most_mending_rounds);
        finding.remedy.proof = mending.mends ? Proof::mends : Proof::more_is_needed;
        if (mending.mends)
            finding.remedy.edits = std::move(mending.edits);
    }

    // Change by change, as each time the same thing is told of for another reason.
    void try_changes(Finding& finding) {
        constexpr int most_rounds = 4;
        std::vector<plan::Edit> edits = finding.remedy.edits;
        std::set<std::string> made = words(edits, plan_);
        for (int round = 0; round < most_rounds; ++round) {
            if (!can_build())
                return;
            plan::Plan changed = plan::apply(plan_, edits);
            auto again = after(changed);
            finding.remedy.proof = Proof::more_is_needed;
            if (!again)
                return;
            const Finding* same = again->same(finding);
            if (same == nullptr) {
                finding.remedy.edits = std::move(edits);
                finding.remedy.proof = Proof::mends;
                return;
            }
            std::set<std::string> next = words(same->remedy.edits, changed);
            if (next.empty() || std::ranges::includes(made, next))
                return;
            made.merge(next);
            edits.insert(edits.end(), same->remedy.edits.begin(), same->remedy.edits.end());
        }
    }

    const plan::Plan& plan_;
    const std::size_t rows_; // of the lab, about
    const std::function<bool()>& goes_on_;
    std::size_t left_ = limits::tried_rows;
};

} // namespace

namespace {

// Puts findings that a remedy mends besides its own behind that one.
void sort_by_consequence(Trial& trial, std::vector<Finding>& findings, std::size_t tried) {
    const std::size_t count = findings.size();
    if (count < 2)
        return;
    std::vector<std::vector<bool>> mended;
    std::vector<std::size_t> order; // those that mend most others first
    for (std::size_t i = 0; i < tried; ++i) {
        mended.push_back(trial.mended_by(findings[i], findings));
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

} // namespace

void try_remedies(const plan::Plan& plan, const lab::Lab& lab, Check& check,
                  const std::function<bool()>& goes_on) {
    constexpr std::size_t rows_of_speaker = 10; // what it learns is worked out, too
    std::size_t rows =
        lab.machines.size() + lab.nics.size() + rows_of_speaker * lab.speakers.size() + 1;
    Trial trial(plan, rows, goes_on);
    std::span<Finding> first(check.findings);
    first = first.first(std::min(first.size(), limits::tried_rows / rows));
    std::vector<std::set<std::string>> tried;
    for (Finding& finding : first) {
        trial.run(finding);
        tried.push_back(Trial::words(finding.remedy.edits, plan));
    }
    lab::part_proposals(lab, check.findings);
    for (std::size_t i = 0; i < tried.size(); ++i)
        if (tried[i] != Trial::words(first[i].remedy.edits, plan))
            trial.run_again(first[i]);
    sort_by_consequence(trial, check.findings, first.size());
}

} // namespace jackal::reach
