#include "jackal/probe/ping.h"

#include <algorithm>

namespace jackal::probe {

using packet::Journey;

PingAnswer ping(const routing::Settled& settled, const PingQuestion& question) {
    PingAnswer answer{exchange(settled, question), std::nullopt};
    answer.diagnosis = diagnose(settled, answer);
    return answer;
}

std::vector<PingAnswer> ping_every_way(const routing::Settled& settled,
                                       const PingQuestion& question, std::size_t most) {
    static constexpr std::size_t most_forks = 64;
    // Counts through the combinations: the last fork of a journey that can turn, turns, and those
    // behind it start again. False, and back to the start, when all have been.
    auto advance = [](const std::optional<Journey>& journey, std::vector<std::uint32_t>& shares) {
        shares.assign(most_forks, 0);
        if (!journey)
            return false;
        const auto& forks = journey->forks;
        for (std::size_t i = std::min(forks.size(), most_forks); i-- > 0;)
            if (forks[i].taken + 1 < forks[i].ways) {
                for (std::size_t j = 0; j < i; ++j)
                    shares[j] = forks[j].taken;
                shares[i] = forks[i].taken + 1;
                return true;
            }
        return false;
    };
    auto forks = [](const std::optional<Journey>& journey) {
        return journey && !journey->forks.empty();
    };
    std::vector<PingAnswer> answers{ping(settled, question)};
    if (!forks(answers[0].out) && !forks(answers[0].back))
        return answers;
    PingQuestion next = question;
    next.shares[0].assign(most_forks, 0);
    next.shares[1].assign(most_forks, 0);
    while (answers.size() < most) {
        answers.push_back(ping(settled, next));
        const PingAnswer& last = answers.back();
        if (!advance(last.back, next.shares[1]) && !advance(last.out, next.shares[0]))
            break;
    }
    return answers;
}

} // namespace jackal::probe
