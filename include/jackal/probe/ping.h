// One ping, or one connection to a service: does the far end answer, by which way there and back,
// and if not, why not.
//
//     probe::PingQuestion question{.from = *probe::endpoint(lab, "chart-desk-1"),
//                                  .to = *probe::endpoint(lab, "tide-gauge")};
//     probe::PingAnswer answer = probe::ping(settled, question);
//     if (!answer.reaches)
//         std::cout << plan::slug(answer.diagnosis->cause) << ": "
//                   << answer.diagnosis->explanation << '\n';
#pragma once

#include "jackal/api.h"
#include "jackal/probe/diagnosis.h"
#include "jackal/probe/exchange.h"

namespace jackal::probe {

/// An exchange with its diagnosis.
struct PingAnswer : Exchange {
    std::optional<Diagnosis> diagnosis; ///< unset if and only if something was received
};

/// The answer to `question` in the lab and condition of `settled`, which must outlive it.
JACKAL_API PingAnswer ping(const routing::Settled& settled, const PingQuestion& question);

/// The answers by all combinations of equal next hops, that of ping() first; at most `most`.
JACKAL_API std::vector<PingAnswer> ping_every_way(const routing::Settled& settled,
                                                  const PingQuestion& question,
                                                  std::size_t most = 256);

} // namespace jackal::probe
