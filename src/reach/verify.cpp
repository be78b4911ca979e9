#include "jackal/reach/verify.h"

#include "reach/apart.h"
#include "reach/foreseen.h"

#include <algorithm>
#include <fmt/format.h>
#include <numeric>

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
    const probe::Asked asked = probe::asked(lab, wanted.from.value, wanted.to.value);
    if (asked.most_pairs() > most_expected_pairs) {
        verdict.explanation = fmt::format("it covers {} times {} machines, more than {} pairs",
                                          asked.from.size(), asked.to.size(), most_expected_pairs);
        return verdict;
    }
    if (wanted.apart) {
        verify_apart(settled, probe::endpoints(lab, wanted.from.value), asked.to, verdict);
        return verdict;
    }
    Diagnoser diagnoser(settled);
    std::optional<Foreseen> foreseen;
    if (is_foreseen(lab, wanted, asked.most_pairs()))
        foreseen.emplace(settled, asked.from, asked.to, wanted.service, 1);
    const bool wants_reply = wanted.gets.value == "reply" || wanted.gets.value == "open";
    asked.each([&](const Endpoint& from, const Endpoint& to) {
        ++verdict.pairs;
        const probe::PingQuestion question{
            .from = from, .to = to, .service = wanted.service, .family = wanted.family};
        bool passes = foreseen && foreseen->reaches(question) == wants_reply;
        if (passes && verdict.answer)
            return;
        Exchange found = probe::exchange(settled, question);
        bool as_wanted = passes || is_as_wanted(found, wanted, diagnoser);
        passes = as_wanted && is_in_time(found, wanted);
        bool is_first_failure = !passes && verdict.failed++ == 0;
        if (verdict.answer && !is_first_failure)
            return;
        auto diagnosis = probe::diagnose(settled, found);
        verdict.answer = PingAnswer{std::move(found), std::move(diagnosis)};
        if (is_first_failure)
            verdict.explanation = fmt::format("{} to {}: {}", from.name, to.name,
                                              complaint(*verdict.answer, as_wanted, wanted, lab));
    });
    const bool is_anyone = !asked.from.empty() && !asked.to.empty();
    verdict.passed = is_anyone && verdict.failed == 0; // of one machine alone, whatever it says
    if (!is_anyone)
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

// Apart from `cut: any` and `any-two`.
Verdict verify_once(const routing::Settled& settled, std::size_t expectation) {
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
    if (wanted.cuts.empty())
        return verify_here(settled, expectation);
    return verify_under(routing::resettle(settled, std::move(condition)), expectation, names);
}

// Asks those again that hold and have to under any cut, or any two, until they fail: what the
// machines know under a cut is worked out once for all of them. Calls progress(cuts done).
template <class Progress>
void verify_under_any(const routing::Settled& settled, const std::vector<routing::Cut>& cuts,
                      std::vector<Verdict>& verdicts, Progress progress) {
    const lab::Lab& lab = settled.lab();
    auto any_cuts = [&](const Verdict* verdict) {
        return lab.expectations[verdict->expectation].any_cuts;
    };
    auto drop_failed = [](std::vector<Verdict*>& all) {
        std::erase_if(all, [](const Verdict* verdict) { return !verdict->passed; });
    };
    auto ask = [&](std::vector<Verdict*>& all, const routing::Settled& without,
                   const std::string& names) {
        for (Verdict* verdict : all)
            *verdict = verify_under(without, verdict->expectation, names);
        drop_failed(all);
    };
    std::vector<Verdict*> asked;
    for (Verdict& verdict : verdicts)
        if (verdict.passed && any_cuts(&verdict) != 0)
            asked.push_back(&verdict);
    for (std::size_t one = 0; one < cuts.size() && !asked.empty(); ++one) {
        routing::Condition condition = settled.condition();
        condition.apply(cuts[one]);
        const routing::Settled without = routing::resettle(settled, condition);
        const std::string name = to_string(lab, cuts[one]);
        ask(asked, without, name);
        std::vector<Verdict*> of_two = asked;
        std::erase_if(of_two, [&](const Verdict* verdict) { return any_cuts(verdict) != 2; });
        for (std::size_t other = one + 1; other < cuts.size() && !of_two.empty(); ++other) {
            routing::Condition both = condition;
            both.apply(cuts[other]);
            ask(of_two, routing::resettle(without, std::move(both)),
                name + " and " + to_string(lab, cuts[other]));
        }
        drop_failed(asked);
        progress(one + 1);
    }
}

template <class Progress>
std::vector<Verdict> verify_all(const routing::Settled& settled,
                                const std::vector<std::size_t>& expectations, Progress progress) {
    std::vector<Verdict> verdicts;
    std::vector<routing::Cut> cuts;
    for (std::size_t i : expectations)
        if (cuts.empty() && settled.lab().expectations.at(i).any_cuts != 0)
            cuts = routing::single_cuts(settled.lab());
    const std::size_t total = expectations.size() + cuts.size();
    for (std::size_t i : expectations) {
        verdicts.push_back(verify_once(settled, i));
        progress(verdicts.size(), total);
    }
    verify_under_any(settled, cuts, verdicts,
                     [&](std::size_t done) { progress(verdicts.size() + done, total); });
    return verdicts;
}

} // namespace

Verdict verify(const routing::Settled& settled, std::size_t expectation) {
    return std::move(verify_all(settled, {expectation}, [](auto, auto) {}).front());
}

std::vector<Verdict> verify(const routing::Settled& settled,
                            const std::function<void(std::size_t, std::size_t)>& progress) {
    std::vector<std::size_t> all(settled.lab().expectations.size());
    std::iota(all.begin(), all.end(), std::size_t{0});
    return verify_all(settled, all, [&](std::size_t done, std::size_t total) {
        if (progress)
            progress(done, total);
    });
}

} // namespace jackal::reach
