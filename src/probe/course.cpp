#include "jackal/probe/course.h"

#include <algorithm>

namespace jackal::probe {

Course::Course(const lab::Lab& lab) : lab_(&lab), tables_(lab) {
    conditions_.emplace_back(lab);
    learned_.push_back(tables_.learn(conditions_.front()));
}

void Course::happen(const TimelineEvent& event) {
    if (event.mends)
        std::erase(cuts_, event.what);
    else
        cuts_.push_back(event.what);
    routing::Condition now(*lab_);
    for (const routing::Cut& cut : cuts_)
        now.apply(cut);
    learned_.push_back(tables_.learn(now));
    const auto times = routing::Convergence(*lab_, *learned_[events_.size()], conditions_.back())
                           .to(*learned_.back(), now);
    for (lab::MachineId id : lab_->machines.ids())
        if (times[id.row])
            turns_.push_back({event.at + *times[id.row], id, events_.size()});
    std::ranges::stable_sort(turns_, {}, &Turn::at);
    conditions_.push_back(std::move(now));
    events_.push_back(event);
}

void Course::forget_before(Microseconds moment) {
    std::size_t over = 0;
    while (over < events_.size() && events_[over].at <= moment)
        ++over;
    for (const Turn& turn : turns_)
        if (turn.at > moment)
            over = std::min(over, turn.event);
    const auto count = static_cast<std::ptrdiff_t>(over);
    events_.erase(events_.begin(), events_.begin() + count);
    conditions_.erase(conditions_.begin(), conditions_.begin() + count);
    learned_.erase(learned_.begin(), learned_.begin() + count);
    std::erase_if(turns_, [&](const Turn& turn) { return turn.event < over; });
    for (Turn& turn : turns_)
        turn.event -= over;
}

routing::Settled Course::at(Microseconds moment) const {
    std::size_t happened = 0;
    while (happened < events_.size() && events_[happened].at <= moment)
        ++happened;
    std::vector<std::uint32_t> knows(lab_->machines.size(), 0);
    for (const Turn& turn : turns_)
        if (turn.at <= moment)
            knows[turn.machine.row] =
                std::max(knows[turn.machine.row], static_cast<std::uint32_t>(turn.event + 1));
    return routing::settle_mixed(*lab_, conditions_[happened], learned_, std::move(knows));
}

} // namespace jackal::probe
