#include "jackal/reach/verify.h"

#include "reach/apart.h"
#include "reach/foreseen.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::reach {

namespace {

using probe::Diagnoser;
using probe::Endpoint;
using probe::Exchange;
using probe::PingAnswer;

std::string outcome(const PingAnswer& answer, const lab::Lab& lab) {
    if (!answer.diagnosis)
        return answer.question.service ? "the service answers" : "a reply came";
    return fmt::format("{} at {}: {}", plan::slug(answer.diagnosis->cause),
                       lab.machines[answer.diagnosis->where].name, answer.diagnosis->explanation);
}

// Whether an exchange gets what it should, however long that takes.
bool is_as_wanted(const Exchange& exchange, const plan::Expectation& wanted, Diagnoser& diagnoser) {
    const std::string& gets = wanted.gets.value;
    if (gets == "reply" || gets == "open")
        return exchange.replied();
    if (gets == "no-reply" || gets == "closed")
        return !exchange.replied();
    return !exchange.replied() && plan::slug(diagnoser.of(exchange).cause) == gets;
}

bool is_in_time(const Exchange& exchange, const plan::Expectation& wanted) {
    return !wanted.within || !exchange.replied() || exchange.round_trip.mean <= *wanted.within;
}

// What is wrong with an answer.
std::string complaint(const PingAnswer& answer, bool as_wanted, const plan::Expectation& wanted,
                      const lab::Lab& lab) {
    if (!as_wanted)
        return outcome(answer, lab);
    return fmt::format("the round trip takes {:.3f} ms, more than {:g} ms",
                       answer.round_trip.mean.count() / 1000,
                       static_cast<double>(wanted.within->count()) / 1000);
}

// True if a matrix tells whether the expectation is met, and it is worth one.
bool is_foreseen(const lab::Lab& lab, const plan::Expectation& wanted, std::size_t pairs) {
    constexpr std::size_t few = 1000; // are walked sooner
    const std::string& gets = wanted.gets.value;
    bool is_plain = gets == "reply" || gets == "no-reply" || gets == "open" || gets == "closed";
    return pairs > few && is_plain && !wanted.within && Foreseen::is_possible(lab);
}

// Under the condition of `settled` alone.
Verdict verify_here(const routing::Settled& settled, std::size_t expectation) {
    const lab::Lab& lab = settled.lab();
    const plan::Expectation& wanted = lab.expectations.at(expectation);
    Verdict verdict{.expectation = expectation};
    auto senders = probe::endpoints(lab, wanted.from.value);
    auto targets = probe::endpoints(lab, wanted.to.value);
    if (senders.size() > most_expected_pairs / std::max<std::size_t>(targets.size(), 1)) {
        verdict.explanation = fmt::format("it covers {} times {} machines, more than {} pairs",
                                          senders.size(), targets.size(), most_expected_pairs);
        return verdict;
    }
    if (wanted.apart) {
        verify_apart(settled, senders, targets, verdict);
        return verdict;
    }
    Diagnoser diagnoser(settled);
    std::optional<Foreseen> foreseen;
    if (is_foreseen(lab, wanted, senders.size() * targets.size()))
        foreseen.emplace(settled, senders, targets, wanted.service, 1);
    const bool wants_reply = wanted.gets.value == "reply" || wanted.gets.value == "open";
    for (const Endpoint& from : senders)
        for (const Endpoint& to : targets) {
            if (from.machine == to.machine && senders.size() * targets.size() > 1)
                continue;
            ++verdict.pairs;
            const probe::PingQuestion question{
                .from = from, .to = to, .service = wanted.service, .family = wanted.family};
            bool passes = foreseen && foreseen->reaches(question) == wants_reply;
            if (passes && verdict.answer)
                continue;
            Exchange found = probe::exchange(settled, question);
            bool as_wanted = passes || is_as_wanted(found, wanted, diagnoser);
            passes = as_wanted && is_in_time(found, wanted);
            bool is_first_failure = !passes && verdict.failed++ == 0;
            if (verdict.answer && !is_first_failure)
                continue;
            auto diagnosis = probe::diagnose(settled, found);
            verdict.answer = PingAnswer{std::move(found), std::move(diagnosis)};
            if (is_first_failure)
                verdict.explanation =
                    fmt::format("{} to {}: {}", from.name, to.name,
                                complaint(*verdict.answer, as_wanted, wanted, lab));
        }
    verdict.passed = verdict.pairs != 0 && verdict.failed == 0;
    if (verdict.pairs == 0)
        verdict.explanation = "no pair of machines to ask";
    return verdict;
}

Verdict verify_under(const routing::Settled& without, std::size_t expectation,
                     const std::string& cuts) {
    Verdict verdict = verify_here(without, expectation);
    if (!verdict.passed)
        verdict.explanation = fmt::format("with {} cut: {}", cuts, verdict.explanation);
    return verdict;
}

} // namespace

Verdict verify(const routing::Settled& settled, std::size_t expectation) {
    const lab::Lab& lab = settled.lab();
    const plan::Expectation& wanted = lab.expectations.at(expectation);
    routing::Condition condition = settled.condition();
    std::string names;
    for (const auto& cut : wanted.cuts) {
        auto parsed = routing::parse_cut(lab, cut.value);
        if (!parsed)
            return {.expectation = expectation,
                    .explanation = fmt::format("the lab has no {} to cut", cut.value),
                    .answer = {}};
        condition.apply(*parsed);
        names += (names.empty() ? "" : " and ") + cut.value;
    }
    if (!wanted.cuts.empty())
        return verify_under(routing::resettle(settled, std::move(condition)), expectation, names);
    Verdict verdict = verify_here(settled, expectation);
    const std::vector<routing::Cut> cuts =
        wanted.any_cuts == 0 ? std::vector<routing::Cut>{} : routing::single_cuts(lab);
    for (std::size_t one = 0; one < cuts.size() && verdict.passed; ++one) {
        condition = settled.condition();
        condition.apply(cuts[one]);
        const routing::Settled without = routing::resettle(settled, condition);
        verdict = verify_under(without, expectation, to_string(lab, cuts[one]));
        for (std::size_t other = one + 1;
             other < cuts.size() && verdict.passed && wanted.any_cuts == 2; ++other) {
            routing::Condition both = condition;
            both.apply(cuts[other]);
            verdict =
                verify_under(routing::resettle(without, std::move(both)), expectation,
                             to_string(lab, cuts[one]) + " and " + to_string(lab, cuts[other]));
        }
    }
    return verdict;
}

std::vector<Verdict> verify(const routing::Settled& settled) {
    std::vector<Verdict> verdicts;
    for (std::size_t i = 0; i < settled.lab().expectations.size(); ++i)
        verdicts.push_back(verify(settled, i));
    return verdicts;
}

} // namespace jackal::reach
