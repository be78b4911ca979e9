// A lab while things are cut and mended: what works at a moment, and what each machine knows then,
// which is what it knew before until the news of the change reach it (routing/convergence.h).
#pragma once

#include "jackal/api.h"
#include "jackal/probe/exchange.h"
#include "jackal/routing/convergence.h"

#include <memory>

namespace jackal::probe {

/// Something is cut, or mended.
struct TimelineEvent {
    Microseconds at{0};
    bool mends = false; ///< undoes all cuts of `what` so far
    routing::Cut what;
};

/// A machine that goes by new tables.
struct Turn {
    Microseconds at{0};
    lab::MachineId machine;
    std::size_t event = 0; ///< which told it something new, in their order
};

/// Refers to its lab, which must outlive it.
class JACKAL_API Course {
  public:
    explicit Course(const lab::Lab& lab);
    explicit Course(const lab::Lab&& lab) = delete;

    /// One more event, not before the last one.
    void happen(const TimelineEvent& event);

    /// Lets go of what no moment from this one on depends on: the first events, if all machines
    /// that they tell something new have turned by then. Those left are counted from 0 again.
    void forget_before(Microseconds moment);

    const std::vector<TimelineEvent>& events() const { return events_; }
    const std::vector<Turn>& turns() const { return turns_; }       ///< by time
    const std::vector<routing::Cut>& cuts() const { return cuts_; } ///< that are not mended

    /// The lab at a moment, not before one that was forgotten.
    routing::Settled at(Microseconds moment) const;

  private:
    const lab::Lab* lab_;
    routing::Tables tables_;
    std::vector<TimelineEvent> events_;
    std::vector<Turn> turns_;
    std::vector<routing::Cut> cuts_;
    std::vector<routing::Condition> conditions_;                   // before, and after each event
    std::vector<std::shared_ptr<const routing::Learned>> learned_; // the same
};

} // namespace jackal::probe
