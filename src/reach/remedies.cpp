#include "jackal/lab/build.h"
#include "jackal/plan/validate.h"
#include "jackal/probe/mend.h"
#include "jackal/reach/check.h"
#include "lab/mistakes/inspection.h"
#include "reach/tables.h"

#include <algorithm>
#include <set>
#include <span>

namespace jackal::reach {

using lab::Finding;
using Proof = lab::Remedy::Proof;

namespace {

// What is still told of the same thing once a plan is changed; nothing if that does not read.
std::optional<std::vector<Finding>> after(const plan::Plan& plan) {
    std::vector<plan::Problem> problems;
    auto complete = plan::Complete::of(plan, problems);
    if (!complete)
        return std::nullopt;
    lab::Lab lab = lab::build(*complete);
    routing::Settled settled = routing::settle(lab);
    std::vector<Finding> found = table_findings(settled);
    std::ranges::move(tunnel_findings(settled), std::back_inserter(found));
    return found;
}

class Trial {
  public:
    Trial(const plan::Plan& plan, std::size_t rows) : plan_(plan), rows_(rows) {}

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
        plan::Plan changed = plan::apply(plan_, finding.remedy.edits);
        if (!can_build() || !plan::problems(changed).empty())
            return;
        lab::Lab lab = lab::build(std::move(changed));
        auto question = probe::question(lab, finding.from, finding.to);
        bool replies = question && probe::exchange(routing::settle(lab), *question).replied();
        finding.remedy.proof = replies ? Proof::mends : Proof::more_is_needed;
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
        if (left_ < rows_)
            return false;
        left_ -= rows_;
        return true;
    }

    void try_pair(Finding& finding) {
        if (left_ < rows_ * probe::most_mending_rounds)
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
            auto found = after(changed);
            finding.remedy.proof = Proof::more_is_needed;
            if (!found)
                return;
            auto same = std::ranges::find_if(*found, [&](const Finding& other) {
                return other.cause == finding.cause && other.subject == finding.subject
                       && other.at == finding.at;
            });
            if (same == found->end()) {
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
    std::size_t left_ = limits::tried_rows;
};

} // namespace

void try_remedies(const plan::Plan& plan, const lab::Lab& lab, Check& check) {
    constexpr std::size_t rows_of_speaker = 10; // what it learns is worked out, too
    std::size_t rows =
        lab.machines.size() + lab.nics.size() + rows_of_speaker * lab.speakers.size() + 1;
    Trial trial(plan, rows);
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
}

} // namespace jackal::reach
