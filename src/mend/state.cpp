#include "mend/state.h"

#include "jackal/plan/complete.h"
#include "jackal/plan/validate.h"

#include <algorithm>
#include <fmt/format.h>
#include <stdexcept>

namespace jackal::mend {

std::string key_of(plan::Cause cause, const std::string& subject) {
    return fmt::format("{} {}", plan::slug(cause), subject);
}

std::string key_at(const lab::Finding& finding) {
    return fmt::format("{} {} {}", key_of(finding.cause, finding.subject), finding.at.line,
                       finding.at.column);
}

bool Before::failed(const std::string& from, const std::string& to) const {
    if (settled == nullptr || from.empty())
        return false;
    auto asked = probe::question(settled->lab(), from, to);
    return asked && !probe::exchange(*settled, *asked).replied();
}

namespace {

void add_machine(std::vector<std::string>& machines, std::string_view name) {
    std::string word(plan::split_endpoint(name).first);
    if (!word.empty() && std::ranges::find(machines, word) == machines.end())
        machines.push_back(std::move(word));
}

// The machines that a failed exchange met.
void add_met(std::vector<std::string>& machines, const lab::Lab& lab,
             const probe::PingAnswer& answer) {
    add_machine(machines, lab.machines[answer.diagnosis->where].name);
    for (const auto* journey : {&answer.out, &answer.back})
        if (*journey)
            for (const packet::Step& step : (*journey)->steps)
                add_machine(machines, lab.machines[step.machine].name);
    if (answer.question.to.machine)
        add_machine(machines, lab.machines[answer.question.to.machine].name);
}

std::vector<std::string> ends_of(const lab::Lab& lab, const probe::PingAnswer& answer) {
    std::vector<std::string> ends{lab.machines[answer.question.from.machine].name};
    if (answer.question.to.machine)
        ends.push_back(lab.machines[answer.question.to.machine].name);
    return ends;
}

// The machines that the packets of a failed exchange come to; behind the far end those on the way
// back.
std::size_t progress_of(const probe::PingAnswer& answer) {
    std::set<std::pair<bool, lab::MachineId>> met;
    for (const auto* journey : {&answer.out, &answer.back})
        if (*journey)
            for (const packet::Step& step : (*journey)->steps)
                met.emplace(journey == &answer.back, step.machine);
    return met.size();
}

std::string message_of(const plan::Expectation& wanted, const reach::Verdict& verdict) {
    const bool is_diagnosed = verdict.answer && verdict.answer->diagnosis;
    return fmt::format("{} to {} {}: {}", wanted.from.value, wanted.to.value,
                       wanted.gets.value == "reply"
                           ? "gets no reply"
                           : fmt::format("does not get {}", wanted.gets.value),
                       is_diagnosed ? verdict.answer->diagnosis->explanation : verdict.explanation);
}

// `place` is that of a finding with its key, or empty.
bool is_asked(const Goals& goals, const Failing& failing, const std::string& place) {
    bool are_all = goals.causes.empty() && goals.lines.empty() && goals.findings.empty();
    return are_all || goals.causes.contains(failing.cause) || goals.lines.contains(failing.at.line)
           || std::ranges::any_of(goals.findings, [&](const lab::Finding& finding) {
                  return place == key_at(finding);
              });
}

} // namespace

std::shared_ptr<const State> State::of(const plan::Plan& plan, const Goals& goals,
                                       const Before* before) {
    std::vector<plan::Problem> problems;
    auto complete = plan::Complete::of(plan, problems);
    if (!complete)
        return nullptr;
    const lab::Lab lab = lab::build(*complete);
    return of(routing::settle(lab), goals, before);
}

std::shared_ptr<const State> State::of(const routing::Settled& settled, const Goals& goals,
                                       const Before* before) {
    auto state = std::make_shared<State>();
    state->ask(settled, goals, before);
    return state;
}

void State::ask(const routing::Settled& settled, const Goals& goals, const Before* before) {
    const lab::Lab& lab = settled.lab();
    take_questions(settled, goals);
    const bool is_large = lab.machines.size() > most_machines_beside;
    if (!goals.questions.empty() && (is_large || (!failing_.empty() && before != nullptr)))
        return; // whatever else becomes of it
    take(lab, reach::check(settled), goals, before);
}

std::shared_ptr<const State> State::of_check(const routing::Settled& settled,
                                             const reach::Check& check, const Goals& goals) {
    auto state = std::make_shared<State>();
    state->take_questions(settled, goals);
    state->take(settled.lab(), check, goals, nullptr);
    return state;
}

void State::take(const lab::Lab& lab, const reach::Check& check, const Goals& goals,
                 const Before* before) {
    answered_ = check.answered;
    for (const lab::Finding& finding : check.findings)
        take(finding, goals, before);
    for (const reach::Verdict& verdict : check.verdicts)
        if (!verdict.passed)
            take(lab, verdict, goals, before);
    std::set<std::pair<std::uint32_t, std::uint32_t>> places;
    for (const auto* list : {&failing_, &harm_})
        for (const Failing& failing : *list)
            places.emplace(failing.at.line, failing.at.column);
    places_ = places.size();
}

void State::take(const lab::Finding& finding, const Goals& goals, const Before* before) {
    Failing failing{finding.cause, key_of(finding.cause, finding.subject), finding.message,
                    finding.remedy, finding.at};
    add_machine(failing.machines, finding.subject);
    add_machine(failing.machines, finding.from);
    add_machine(failing.machines, finding.to);
    const std::string place = key_at(finding);
    as_before_.findings.insert(failing.key);
    as_before_.places.insert(place);
    const bool is_new = before != nullptr && !before->findings.contains(failing.key)
                        && !before->failed(finding.from, finding.to);
    failing.is_warning = finding.severity == lab::Severity::warning;
    if ((failing.is_warning ? goals.warnings : goals.errors) && is_asked(goals, failing, place))
        failing_.push_back(std::move(failing));
    else if (is_new)
        harm_.push_back(std::move(failing));
}

void State::take(const lab::Lab& lab, const reach::Verdict& verdict, const Goals& goals,
                 const Before* before) {
    const plan::Expectation& wanted = lab.expectations[verdict.expectation];
    Failing failing{.key = fmt::format("expectation {}", verdict.expectation),
                    .message = message_of(wanted, verdict),
                    .at = wanted.at};
    for (const std::string* end : {&wanted.from.value, &wanted.to.value})
        if (lab.subnet(*end))
            failing.groups.push_back(*end);
    as_before_.unmet.insert(verdict.expectation);
    add_machine(failing.machines, wanted.from.value);
    if (verdict.answer && verdict.answer->diagnosis) {
        failing.cause = verdict.answer->diagnosis->cause;
        failing.remedy = verdict.answer->diagnosis->remedy;
        add_met(failing.machines, lab, *verdict.answer);
        failing.ends = ends_of(lab, *verdict.answer);
        failing.is_asked = true;
        progress_ += progress_of(*verdict.answer);
    }
    if (goals.expectations && is_asked(goals, failing, ""))
        failing_.push_back(std::move(failing));
    else if (before != nullptr && !before->unmet.contains(verdict.expectation))
        harm_.push_back(std::move(failing));
}

void State::take_questions(const routing::Settled& settled, const Goals& goals) {
    const lab::Lab& lab = settled.lab();
    for (const Question& asked : goals.questions) {
        auto question = probe::question(lab, asked.from, asked.to, asked.options);
        if (!question)
            throw std::invalid_argument(
                fmt::format("the lab has no {} that could ask {}", asked.from, asked.to));
        probe::PingAnswer answer = probe::ping(settled, *question);
        if (!answer.diagnosis)
            continue;
        Failing failing{
            answer.diagnosis->cause, fmt::format("question {} {}", asked.from, asked.to),
            answer.diagnosis->explanation, answer.diagnosis->remedy, answer.diagnosis->at};
        add_met(failing.machines, lab, answer);
        failing.ends = ends_of(lab, answer);
        failing.is_asked = true;
        progress_ += progress_of(answer);
        failing_.push_back(std::move(failing));
    }
}

} // namespace jackal::mend
