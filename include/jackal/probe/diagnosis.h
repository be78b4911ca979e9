// Why an exchange got no reply, and what would mend it.
#pragma once

#include "jackal/api.h"
#include "jackal/lab/finding.h"
#include "jackal/probe/exchange.h"

#include <map>
#include <memory>

namespace jackal::probe {

class Ground;

/// Why a ping gets no reply.
struct Diagnosis {
    plan::Cause cause = plan::Cause::no_route;
    lab::MachineId where; ///< the machine that must change, or where the packet was lost
    std::string explanation;
    /// The first change that mends it; more may be needed behind it, see mend.h.
    lab::Remedy remedy;
    plan::Mark at;
};

/// Why nothing was received; nothing if something was. `settled` is that of the exchange.
JACKAL_API std::optional<Diagnosis> diagnose(const routing::Settled& settled,
                                             const Exchange& exchange);

/// What exchanges that fail alike have in common: where and how the packet ended, on its way to
/// which NIC, and what it had passed that a cause may lie in.
struct GapKind {
    Gap gap = Gap::none;
    packet::Ending ending = packet::Ending::delivered;
    net::Family family = net::Family::ipv4;
    lab::MachineId where;           ///< the machine that it ended at
    lab::NicId target;              ///< that has the destination, or none
    lab::SiteId from;               ///< of its sender
    lab::MachineId circle;          ///< the first machine that it came to again, or none
    lab::MachineId left_by;         ///< the last machine of the lab before the outside, or none
    lab::MachineId request_left_by; ///< the same of the request that it answers
    lab::MachineId by_default;      ///< that it left by one of several default routes, or none
    lab::MachineId sender;          ///< where a lease's route may have led it astray; else none

    friend auto operator<=>(const GapKind&, const GapKind&) = default;
};

/// The kind of an exchange that was answered (Gap::none), or of the gap in it.
JACKAL_API GapKind kind_of(const routing::Settled& settled, const Exchange& exchange);

/// Diagnoses one exchange of each kind, for who asks many. Refers to what it is made from, which
/// must outlive it. Not to be shared by threads.
class JACKAL_API Diagnoser {
  public:
    explicit Diagnoser(const routing::Settled& settled);
    explicit Diagnoser(const routing::Settled&& settled) = delete;

    /// True if an exchange of that kind was diagnosed before.
    bool knows(const Exchange& exchange) const;

    /// The diagnosis of the first exchange of that kind, which must have a gap. The words are that
    /// one's.
    const Diagnosis& of(const Exchange& exchange);

  private:
    std::shared_ptr<Ground> ground_;
    std::map<GapKind, Diagnosis> known_;
};

/// Why nothing that enters a tunnel at `end` comes out of it; nothing if it works, or is switched
/// off.
JACKAL_API std::optional<Diagnosis> explain_tunnel(const routing::Settled& settled, lab::NicId end);

} // namespace jackal::probe
