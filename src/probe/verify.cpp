#include "jackal/probe/verify.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::probe {

namespace {

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

// Under the condition of `settled` alone.
Verdict verify_here(const routing::Settled& settled, std::size_t expectation) {
    const lab::Lab& lab = settled.lab();
    const plan::Expectation& wanted = lab.expectations.at(expectation);
    Verdict verdict{.expectation = expectation};
    auto senders = endpoints(lab, wanted.from.value);
    auto targets = endpoints(lab, wanted.to.value);
    if (senders.size() > most_expected_pairs / std::max<std::size_t>(targets.size(), 1)) {
        verdict.explanation = fmt::format("it covers {} times {} machines, more than {} pairs",
                                          senders.size(), targets.size(), most_expected_pairs);
        return verdict;
    }
    Diagnoser diagnoser(settled);
    for (const Endpoint& from : senders)
        for (const Endpoint& to : targets) {
            if (from.machine == to.machine && senders.size() * targets.size() > 1)
                continue;
            ++verdict.pairs;
            Exchange found = exchange(
                settled,
                {.from = from, .to = to, .service = wanted.service, .family = wanted.family});
            bool as_wanted = is_as_wanted(found, wanted, diagnoser);
            bool passes = as_wanted && is_in_time(found, wanted);
            bool is_first_failure = !passes && verdict.failed++ == 0;
            if (verdict.answer && !is_first_failure)
                continue;
            auto diagnosis = diagnose(settled, found);
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

Verdict verify_under(const routing::Settled& settled, std::size_t expectation,
                     routing::Condition condition, const std::string& cuts) {
    routing::Settled without = routing::resettle(settled, std::move(condition));
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
        return verify_under(settled, expectation, std::move(condition), names);
    Verdict verdict = verify_here(settled, expectation);
    if (wanted.any_cut)
        for (const routing::Cut& cut : routing::single_cuts(lab)) {
            if (!verdict.passed)
                break;
            condition = settled.condition();
            condition.apply(cut);
            verdict = verify_under(settled, expectation, std::move(condition), to_string(lab, cut));
        }
    return verdict;
}

std::vector<Verdict> verify(const routing::Settled& settled) {
    std::vector<Verdict> verdicts;
    for (std::size_t i = 0; i < settled.lab().expectations.size(); ++i)
        verdicts.push_back(verify(settled, i));
    return verdicts;
}

} // namespace jackal::probe
