// Outages foretold, held against those of a real ping while a real NIC goes down and comes back.
#pragma once

#include "jackal/jackal.h"

namespace judge {

/// What a ping loses after a NIC went down, and after it came back: the longest time without a
/// reply, in seconds, until then or until the end; and the TTL of the last reply until then.
struct Losses {
    double cut_s = 0;
    double mended_s = 0;
    int ttl_while_cut = 0; ///< 0: it got no reply at the end
    int ttl_at_end = 0;
};

struct OutageHeld {
    std::string what; ///< which ping, and which NIC
    Losses foretold;
    Losses real;
    double tolerance_s = 0; ///< one hello or update interval, and what daemons take to act

    bool agrees() const;
};

/// Looks for a ping and a NIC whose loss costs replies for a while, starts the lab with daemons,
/// and tries it. Nothing if the lab has none, or never comes to rest. Throws std::runtime_error if
/// it does not start.
std::optional<OutageHeld> hold_outage(const jackal::routing::Settled& settled);

} // namespace judge
