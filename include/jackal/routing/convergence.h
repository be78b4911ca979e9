// How long it takes until every machine goes by what protocols teach after a change.
//
// Worked out from the protocols' own timers. Who loses the carrier of a NIC knows at once; where
// the break is silent, the dead interval (RFC 2328 appendix C.3), the route timeout (RFC 2453
// section 3.8) or the hold time (RFC 4271 section 4.2) must run out, counted from the last message,
// which is taken to have come half an interval before. The news then travel from neighbour to
// neighbour.
#pragma once

#include "jackal/routing/condition.h"
#include "jackal/routing/learned.h"

#include <chrono>
#include <memory>
#include <optional>
#include <set>

namespace jackal::routing {

using Duration = std::chrono::duration<double, std::micro>;

/// What OSPF waits between a change of its database and the new shortest paths; a value of ours, as
/// the RFC leaves it open.
constexpr Duration spf_delay = std::chrono::milliseconds(200);
/// What a router needs to flood a link state on, besides the link's delay; ours, too.
constexpr Duration flooding_time = std::chrono::milliseconds(1);
/// Triggered updates wait for 1 to 5 seconds (RFC 2453 section 3.10.1).
constexpr Duration triggered_update_time = std::chrono::seconds(3);
/// What a router needs to pass a path on; ours.
constexpr Duration path_time = std::chrono::milliseconds(100);
/// Half of the suggested ConnectRetryTime (RFC 4271 section 10).
constexpr Duration session_time = std::chrono::seconds(60);
/// What an end of a session waits with connecting once its NIC has a carrier again; ours.
constexpr Duration reconnect_time = std::chrono::seconds(5);

class Neighbourhood;

/// Daemons announce, and work out routes, at the next tick of a second; two of those.
constexpr Duration daemon_ticks = std::chrono::seconds(2);
/// By how much it may take real daemons longer, or not so long: the longest hello or update
/// interval between neighbours that are both among `machines`, as it is luck when the last message
/// came, and daemon_ticks. Of all neighbours without that.
JACKAL_API Duration play(const lab::Lab& lab, const Learned& learned,
                         const std::optional<std::set<lab::MachineId>>& machines = {});

/// Counts from the moment that one condition of the lab became another. Refers to the lab and to
/// what was learned before; threads may share one.
class JACKAL_API Convergence {
  public:
    /// From what was learned in a condition.
    Convergence(const lab::Lab& lab, const Learned& before, const Condition& condition);
    ~Convergence();

    /// By machine: when it goes by what it learned `after` that. Nothing for machines that the news
    /// never reach.
    std::vector<std::optional<Duration>> to(const Learned& after, const Condition& now) const;

  private:
    const lab::Lab* lab_;
    const Learned* before_;
    std::unique_ptr<const Neighbourhood> neighbours_; // before
    Condition condition_;
};

} // namespace jackal::routing
