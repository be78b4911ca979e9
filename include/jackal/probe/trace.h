// The machines that a packet passes, as a sender finds them out by raising the TTL one by one.
#pragma once

#include "jackal/api.h"
#include "jackal/probe/ping.h"

#include <functional>

namespace jackal::probe {

struct TraceHop {
    int ttl = 0;
    lab::MachineId machine;                            ///< where the packet got to
    std::optional<net::Address> address;               ///< who says so; unset: nothing is heard
    packet::IcmpError error = packet::IcmpError::none; ///< none: the far end replied
    Microseconds round_trip{0};                        ///< without jitter; 0 if not heard
};

struct TraceAnswer {
    std::vector<TraceHop> hops; ///< up to the far end, or to where the packet is lost for good
    PingAnswer ping;            ///< of the same question, with its cause and remedy
};

/// Sends packets with TTL 1, 2, … up to question.ttl and tells who answers each. `each` is told of
/// what comes of every one.
JACKAL_API TraceAnswer trace(const routing::Settled& settled, const PingQuestion& question,
                             const std::function<void(const Exchange&)>& each = {});

} // namespace jackal::probe
