#include "jackal/editor/view.h"

#include "editor/lab_words.h"
#include "editor/text.h"
#include "jackal/lab/build.h"
#include "jackal/mend/search.h"
#include "jackal/plan/read.h"
#include "jackal/plan/rewrite.h"

#include <algorithm>
#include <fmt/format.h>
#include <stdexcept>

namespace jackal::editor {

View::View(std::string text, std::string source)
    : text_(std::move(text)), source_(std::move(source)), outline_(Outline::read(text_)) {
    plan::Reading reading = plan::read(text_, source_);
    problems_ = std::move(reading.problems);
    if (!reading.plan)
        return;
    lab_ = std::make_unique<const lab::Lab>(lab::build(*reading.plan));
    settled_ = std::make_unique<const routing::Settled>(routing::settle(*lab_));
    plan_ = reading.plan->written();
}

View::~View() = default;

namespace {

Note note_of(const lab::Finding& finding, const Text& text) {
    return {text.word(finding.at),
            finding.severity,
            std::string(plan::slug(finding.cause)),
            finding.message,
            {}};
}

// Where those stand that a finding is about, and what it follows from.
std::vector<std::pair<Span, std::string>> related(const View& view, const reach::Check& check,
                                                  const lab::Finding& finding, const Text& text) {
    std::vector<std::pair<Span, std::string>> places;
    for (const auto& [name, does] :
         {std::pair(finding.from, "asks"), std::pair(finding.to, "is asked")})
        if (auto machine = view.lab()->machine(name.substr(0, name.find('/'))))
            if (const lab::Machine& row = view.lab()->machines[*machine]; row.at)
                places.emplace_back(text.word(row.at), fmt::format("{} {}", name, does));
    if (finding.follows) {
        const lab::Finding& root = check.findings[*finding.follows];
        places.emplace_back(text.word(root.at),
                            fmt::format("mended with this: {}", plan::slug(root.cause)));
    }
    return places;
}

// Those that are not met.
std::vector<const reach::Verdict*> failed(const reach::Check& check) {
    std::vector<const reach::Verdict*> verdicts;
    for (const reach::Verdict& verdict : check.verdicts)
        if (!verdict.passed)
            verdicts.push_back(&verdict);
    return verdicts;
}

Note note_of(const View& view, const reach::Verdict& verdict, const Text& text) {
    const plan::Expectation& wanted = view.lab()->expectations[verdict.expectation];
    const bool is_diagnosed = verdict.answer && verdict.answer->diagnosis;
    return {text.word(wanted.at),
            lab::Severity::error,
            is_diagnosed ? std::string(plan::slug(verdict.answer->diagnosis->cause)) : "unmet",
            fmt::format("not met: {}", verdict.explanation),
            {}};
}

} // namespace

std::vector<Note> notes(const View& view, const reach::Check* check) {
    const Text text(view.text());
    std::vector<Note> notes;
    for (const plan::Problem& problem : view.problems())
        notes.push_back({text.word(problem.at ? problem.at : plan::Mark{1, 1}),
                         lab::Severity::error,
                         "unreadable",
                         problem.message,
                         {}});
    if (check == nullptr || view.lab() == nullptr)
        return notes;
    for (const lab::Finding& finding : check->findings) {
        notes.push_back(note_of(finding, text));
        notes.back().related = related(view, *check, finding, text);
    }
    for (const reach::Verdict* verdict : failed(*check))
        notes.push_back(note_of(view, *verdict, text));
    return notes;
}

std::vector<Hint> hints(const View& view) {
    std::vector<Hint> hints;
    if (view.lab() == nullptr)
        return hints;
    const lab::Lab& lab = *view.lab();
    const Text text(view.text());
    auto add = [&](plan::Mark at, std::string_view what) {
        if (at && !what.empty())
            hints.push_back({text.word(at).end, std::string(what)});
    };
    auto addresses = [&](lab::NicId nic) {
        std::string words;
        for (lab::AddressId id : lab.addresses_of(nic))
            if (lab.addresses[id].origin != lab::AddressOrigin::given)
                words += (words.empty() ? "" : " ") + net::to_string(lab.addresses[id].address);
        return words;
    };
    for (const lab::Subnet& subnet : lab.subnets) {
        if (subnet.outside || subnet.prefix_written)
            continue;
        add(subnet.at, prefixes_text(lab, subnet.segment));
    }
    for (const lab::Machine& machine : lab.machines) {
        if (machine.plan_index >= view.plan()->machines.size() || machine.outside
            || machine.is_core)
            continue;
        const plan::Machine& written = view.plan()->machines[machine.plan_index];
        for (lab::NicId id : lab::Table<lab::Nic>::ids(machine.first_nic, machine.nic_count))
            if (const lab::Nic& nic = lab.nics[id]; nic.plan_index < written.nics.size())
                add(written.nics[nic.plan_index].subnet.at, addresses(id));
    }
    for (std::size_t i = 0; i < view.plan()->links.size(); ++i) {
        const plan::Link& written = view.plan()->links[i];
        const lab::Link& link = lab.links[lab::LinkId(static_cast<std::uint32_t>(i))];
        add(written.first.at, addresses(link.first));
        add(written.second.at, addresses(link.second));
    }
    std::ranges::stable_sort(
        hints, {}, [](const Hint& hint) { return std::pair(hint.at.line, hint.at.column); });
    // Of machines that an entry stands for the first.
    const auto same = std::ranges::unique(
        hints, {}, [](const Hint& hint) { return std::pair(hint.at.line, hint.at.column); });
    hints.erase(same.begin(), same.end());
    return hints;
}

std::vector<Action> actions(const View& view, const reach::Check& check, std::uint32_t first_line,
                            std::uint32_t last_line) {
    std::vector<Action> actions;
    if (view.plan() == nullptr)
        return actions;
    const Text text(view.text());
    auto is_meant = [&](plan::Mark at) { return at.line >= first_line && at.line <= last_line; };
    for (std::size_t i = 0; i < check.findings.size(); ++i) {
        const lab::Finding& finding = check.findings[i];
        if (!is_meant(finding.at) || finding.remedy.edits.empty()
            || finding.remedy.proof != lab::Remedy::Proof::mends)
            continue;
        const std::vector<std::string> lines = lab::to_lines(finding.remedy);
        actions.push_back({Action::Sort::remedy,
                           lines.size() == 1
                               ? lines.front()
                               : fmt::format("{} (and {} more)", lines.front(), lines.size() - 1),
                           i, finding.at.line, note_of(finding, text)});
    }
    for (const reach::Verdict* verdict : failed(check)) {
        const plan::Expectation& wanted = view.lab()->expectations[verdict->expectation];
        if (is_meant(wanted.at))
            actions.push_back({Action::Sort::line, "find the smallest change that meets this", 0,
                               wanted.at.line, note_of(view, *verdict, text)});
    }
    if (!check.is_healthy())
        actions.push_back({Action::Sort::everything, "mend everything in this plan"});
    return actions;
}

namespace {

std::vector<plan::Edit> edits_of(const View& view, const reach::Check& check, const Action& action,
                                 unsigned threads, const std::function<bool()>& goes_on) {
    if (action.sort == Action::Sort::remedy)
        return check.findings.at(action.finding).remedy.edits;
    mend::Goals goals;
    goals.lines = {action.line};
    const mend::Limits limits{.threads = threads};
    const mend::Outcome outcome = action.sort == Action::Sort::line
                                      ? mend::search(*view.plan(), goals, limits, goes_on)
                                      : mend::search(*view.plan(), {}, limits, goes_on);
    if (!outcome.is_healthy())
        throw std::runtime_error(fmt::format("no change was found that mends it; in the way is: {}",
                                             outcome.left.front().message));
    return outcome.edits();
}

} // namespace

std::vector<TextChange> changes(const View& view, const reach::Check& check, const Action& action,
                                unsigned threads, const std::function<bool()>& goes_on) {
    if (view.plan() == nullptr)
        throw std::runtime_error("the plan does not read");
    const plan::Writing written =
        plan::write(view.text(), edits_of(view, check, action, threads, goes_on));
    if (!written.text)
        throw std::runtime_error(
            fmt::format("{}: {}", plan::to_string(written.problems.front().at, view.source()),
                        written.problems.front().message));
    return difference(view.text(), *written.text);
}

} // namespace jackal::editor
