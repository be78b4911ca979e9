#include "jackal/probe/trace.h"

namespace jackal::probe {

namespace {

TraceHop hop(const routing::Settled& settled, const PingQuestion& question, int ttl,
             packet::Ending& ending, const std::function<void(const Exchange&)>& each) {
    PingQuestion probe = question;
    probe.ttl = ttl;
    probe.count = 1;
    PingAnswer answer = ping(settled, probe);
    if (each)
        each(answer);
    const packet::Journey& out = *answer.out;
    ending = out.ending;
    TraceHop result{.ttl = ttl, .machine = out.last_machine()};
    if (answer.reaches) {
        result.address = answer.destination;
        result.round_trip =
            travel_time(settled.lab(), out) + travel_time(settled.lab(), *answer.back);
    } else if (answer.error.heard) {
        result.address = answer.error.from;
        result.error = answer.error.error;
        result.round_trip = 2.0 * travel_time(settled.lab(), out);
    }
    return result;
}

} // namespace

TraceAnswer trace(const routing::Settled& settled, const PingQuestion& question,
                  const std::function<void(const Exchange&)>& each) {
    TraceAnswer answer;
    answer.ping = ping(settled, question);
    if (!answer.ping.out) // there is nothing to send, or nowhere to send it
        return answer;
    packet::Ending ending = packet::Ending::ttl_expired;
    for (int ttl = 1; ttl <= question.ttl && ending == packet::Ending::ttl_expired; ++ttl)
        answer.hops.push_back(hop(settled, question, ttl, ending, each));
    return answer;
}

} // namespace jackal::probe
