#include "jackal/probe/timeline.h"

#include "jackal/routing/convergence.h"
#include "probe/explain/explain.h"

#include <algorithm>
#include <cmath>
#include <set>

namespace jackal::probe {

using lab::Lab;

Microseconds Timeline::longest_outage() const {
    Microseconds longest{0};
    Microseconds start{0};
    bool out = false;
    for (const Stretch& stretch : stretches) {
        bool lost = stretch.received == 0;
        if (lost && !out)
            start = stretch.from;
        out = lost;
        if (out)
            longest = std::max(longest, stretch.until - start);
    }
    return longest;
}

std::pair<Microseconds, Microseconds> Timeline::outage_of_daemons() const {
    const Microseconds outage = longest_outage();
    return outage.count() == 0 ? std::pair(outage, outage)
                               : std::pair(std::max(Microseconds(0), outage - play), outage + play);
}

namespace {

class Clock {
  public:
    using Each = std::function<void(const routing::Settled&, const Stretch&)>;

    Clock(const Lab& lab, const TimelineQuestion& question, const Each& each)
        : lab_(lab), question_(question), each_(each), course_(lab) {
        timeline_.events = question.events;
    }

    Timeline run() {
        std::ranges::stable_sort(timeline_.events, {}, &TimelineEvent::at);
        for (const TimelineEvent& event : timeline_.events)
            course_.happen(event);
        timeline_.turns = course_.turns();
        Microseconds end = question_.interval * question_.count;
        std::set<Microseconds> moments{Microseconds{0}};
        for (const TimelineEvent& event : timeline_.events)
            moments.insert(event.at);
        for (const Turn& turn : timeline_.turns)
            moments.insert(turn.at);
        for (auto moment = moments.begin(); moment != moments.end() && *moment < end; ++moment) {
            auto next = std::next(moment);
            ask(*moment, next == moments.end() ? end : std::min(*next, end));
        }
        if (!timeline_.turns.empty())
            if (const auto learned = course_.at(Microseconds{0}).lessons())
                timeline_.play = routing::play(lab_, *learned, on_the_ways());
        return std::move(timeline_);
    }

  private:
    std::set<lab::MachineId> on_the_ways() const {
        std::set<lab::MachineId> machines;
        for (const Stretch& stretch : timeline_.stretches)
            for (const auto* journey : {&stretch.answer.out, &stretch.answer.back})
                if (*journey)
                    for (const packet::Step& step : (*journey)->steps)
                        machines.insert(step.machine);
        return machines;
    }

    // The pings that are sent from one moment until the other.
    void ask(Microseconds from, Microseconds until) {
        auto number = [&](Microseconds moment) {
            return static_cast<int>(std::ceil(moment / question_.interval - 1e-9));
        };
        int first = number(from);
        int count = std::min(number(until), question_.count) - first;
        if (count <= 0)
            return;
        routing::Settled settled = course_.at(from);
        forget(settled.condition(), question_.interval * first);
        Stretch next{.first = first,
                     .count = count,
                     .from = question_.interval * first,
                     .until = question_.interval * (first + count),
                     .answer = answer(settled, first, count)};
        // That happens to one ping, and those behind it begin anew.
        bool forgets = next.answer.out && next.answer.out->ending == packet::Ending::older_flow;
        if (forgets) {
            next.count = 1;
            next.until = question_.interval * (first + 1);
            std::erase_if(kept_, [&](const Kept& kept) {
                return kept.record.machine == next.answer.out->last_machine();
            });
        }
        add(next);
        if (each_)
            each_(settled, next);
        remember(next);
        if (forgets)
            ask(next.until, until);
    }

    PingAnswer answer(const routing::Settled& settled, int first, int count) const {
        PingQuestion ping = question_.ping;
        ping.count = count;
        ping.seed += static_cast<std::uint64_t>(first);
        for (const Kept& kept : kept_)
            ping.records.push_back(kept.record);
        PingAnswer found = probe::ping(settled, ping);
        if (found.reaches || ping.records.empty() || !found.out
            || found.out->ending == packet::Ending::older_flow)
            return found;
        ping.records.clear();
        PingAnswer fresh = probe::ping(settled, ping);
        if (fresh.reaches)
            found.diagnosis = explain_older_flow(lab_, *found.out, parting(*found.out, *fresh.out));
        return found;
    }

    // The machine that treats the packet of an older flow otherwise than that of a new one.
    static lab::MachineId parting(const packet::Journey& older, const packet::Journey& fresh) {
        std::size_t i = 0;
        while (i + 1 < std::min(older.steps.size(), fresh.steps.size())
               && older.flow_at(i) == fresh.flow_at(i))
            ++i;
        return older.steps[i].machine;
    }

    // What machines keep of the flow. In IPv4 and IPv6 Linux forgets a ping after 30 seconds, and
    // what it translated to the address of a NIC when that goes down.
    void forget(const routing::Condition& condition, Microseconds now) {
        constexpr std::chrono::seconds longest{30};
        std::erase_if(kept_, [&](const Kept& kept) {
            const packet::Record& record = kept.record;
            bool translated = record.left.source != record.came.source;
            return now - kept.used >= longest || !condition.machine_on(record.machine)
                   || (translated && !condition.nic_up(record.out));
        });
    }

    void remember(const Stretch& stretch) {
        const PingAnswer& answer = stretch.answer;
        if (!answer.out)
            return;
        auto passed = [](const std::optional<packet::Journey>& journey, lab::MachineId machine) {
            return journey && std::ranges::any_of(journey->steps, [&](const packet::Step& step) {
                       return step.machine == machine && step.action != packet::Action::drop;
                   });
        };
        Microseconds used = stretch.until - question_.interval;
        for (std::size_t i = 0; i < answer.out->steps.size(); ++i) {
            const packet::Step& step = answer.out->steps[i];
            if (step.action == packet::Action::drop)
                continue;
            packet::Record record{.machine = step.machine,
                                  .came = i == 0 ? answer.out->packet.flow()
                                                 : answer.out->flow_at(i - 1),
                                  .left = answer.out->flow_at(i),
                                  .out = step.out,
                                  .answered = passed(answer.back, step.machine)};
            auto known = std::ranges::find_if(kept_, [&](const Kept& kept) {
                return kept.record.machine == record.machine && kept.record.came == record.came;
            });
            if (known == kept_.end()) {
                kept_.push_back({record, used});
            } else {
                known->used = used;
                known->record.answered = known->record.answered || record.answered;
            }
        }
    }

    void add(const Stretch& given) {
        Stretch next = given;
        next.received = next.count == given.answer.sent ? given.answer.received : 0;
        timeline_.sent += next.count;
        timeline_.received += next.received;
        if (!timeline_.stretches.empty() && alike(timeline_.stretches.back(), next)) {
            Stretch& last = timeline_.stretches.back();
            last.count += next.count;
            last.received += next.received;
            last.until = next.until;
            return;
        }
        timeline_.stretches.push_back(std::move(next));
    }

    struct Kept {
        packet::Record record;
        Microseconds used{0}; // when a ping passed last
    };

    static bool alike(const Stretch& one, const Stretch& other) {
        bool same_cause = one.answer.diagnosis.has_value() == other.answer.diagnosis.has_value()
                          && (!one.answer.diagnosis
                              || one.answer.diagnosis->cause == other.answer.diagnosis->cause);
        return one.answer.reaches == other.answer.reaches && same_cause
               && same_way(one.answer.out, other.answer.out)
               && same_way(one.answer.back, other.answer.back);
    }

    const Lab& lab_;
    const TimelineQuestion& question_;
    const Each& each_;
    Course course_;
    Timeline timeline_;
    std::vector<Kept> kept_; // of the flow of the pings
};

} // namespace

Timeline timeline(const Lab& lab, const TimelineQuestion& question,
                  const std::function<void(const routing::Settled&, const Stretch&)>& each) {
    return Clock(lab, question, each).run();
}

} // namespace jackal::probe
