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

// What is wrong with an answer, or nothing.
std::string complaint(const PingAnswer& answer, const plan::Expectation& wanted,
                      const lab::Lab& lab) {
    const std::string& gets = wanted.gets.value;
    bool as_wanted = gets == "reply" || gets == "open" ? !answer.diagnosis
                     : gets == "no-reply" || gets == "closed"
                         ? answer.diagnosis.has_value()
                         : answer.diagnosis && plan::slug(answer.diagnosis->cause) == gets;
    if (!as_wanted)
        return outcome(answer, lab);
    if (!wanted.within || answer.diagnosis || answer.round_trip.mean <= *wanted.within)
        return "";
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
    for (const Endpoint& from : senders)
        for (const Endpoint& to : targets) {
            if (from.machine == to.machine && senders.size() * targets.size() > 1)
                continue;
            ++verdict.pairs;
            PingAnswer answer =
                ping(settled,
                     {.from = from, .to = to, .service = wanted.service, .family = wanted.family});
            std::string wrong = complaint(answer, wanted, lab);
            if (!wrong.empty() && verdict.failed++ == 0) {
                verdict.explanation = fmt::format("{} to {}: {}", from.name, to.name, wrong);
                verdict.answer = std::move(answer);
            } else if (!verdict.answer) {
                verdict.answer = std::move(answer);
            }
        }
    verdict.passed = verdict.pairs != 0 && verdict.failed == 0;
    if (verdict.pairs == 0)
        verdict.explanation = "no pair of machines to ask";
    return verdict;
}

// Links that can be cut one at a time: not what stands for peerings or for what is outside.
std::vector<std::string> single_cuts(const lab::Lab& lab) {
    std::vector<std::string> cuts;
    auto add = [&](const std::string& one, const std::string& other) {
        std::string cut = one + "--" + other;
        if (std::ranges::find(cuts, cut) == cuts.end())
            cuts.push_back(std::move(cut));
    };
    for (const lab::Link& link : lab.links)
        if (!link.peering && link.up && !lab.machines[lab.nics[link.first].machine].outside
            && !lab.machines[lab.nics[link.second].machine].outside)
            add(lab.machine_name(link.first), lab.machine_name(link.second));
    for (const lab::Cable& cable : lab.cables)
        add(lab.switches[lab.ports[cable.first].owner].name,
            lab.switches[lab.ports[cable.second].owner].name);
    return cuts;
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
        if (!condition.cut(lab, cut.value))
            return {.expectation = expectation,
                    .explanation = fmt::format("the lab has no {} to cut", cut.value),
                    .answer = {}};
        names += (names.empty() ? "" : " and ") + cut.value;
    }
    if (!wanted.cuts.empty())
        return verify_under(settled, expectation, std::move(condition), names);
    Verdict verdict = verify_here(settled, expectation);
    if (wanted.any_cut)
        for (const std::string& cut : single_cuts(lab)) {
            if (!verdict.passed)
                break;
            condition = settled.condition();
            condition.cut(lab, cut);
            verdict = verify_under(settled, expectation, std::move(condition), cut);
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
