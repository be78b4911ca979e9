// A continuous ping while things are cut and mended: what is lost, for how long, and by which way
// the pings go meanwhile.
//
//     probe::TimelineQuestion question{.ping = *probe::question(lab, "desk", "kettle", {}),
//                                      .count = 1000,
//                                      .interval = std::chrono::milliseconds(20),
//                                      .events = {{std::chrono::seconds(3), false, "a--b"}}};
//     probe::Timeline timeline = probe::timeline(lab, question);
//
// A moment is asked like any lab, as course.h has it then.
// Leases and records of translations are kept throughout.
#pragma once

#include "jackal/probe/course.h"
#include "jackal/probe/ping.h"

#include <functional>

namespace jackal::probe {

struct TimelineQuestion {
    PingQuestion ping; ///< its count is not used
    int count = 100;
    Microseconds interval = std::chrono::seconds(1);
    std::vector<TimelineEvent> events; ///< in any order
};

/// Pings in a row that fare alike.
struct Stretch {
    int first = 0; ///< the number of the first ping, from 0
    int count = 0;
    int received = 0;
    Microseconds from{0};  ///< when the first was sent
    Microseconds until{0}; ///< when the first after it was sent
    PingAnswer answer;     ///< of all of them; its journeys are their way
};

struct Timeline {
    std::vector<TimelineEvent> events; ///< by time
    std::vector<Stretch> stretches;
    std::vector<Turn> turns;
    int sent = 0;
    int received = 0;

    /// By how much an outage may be longer or shorter between real daemons, which are not foretold
    /// to the second: routing::play() of the machines on the ways. 0 if no machine went by new
    /// tables.
    Microseconds play{0};

    /// How long nothing came back, at the longest.
    JACKAL_API Microseconds longest_outage() const;
    /// The same between real daemons: at least, and at most.
    JACKAL_API std::pair<Microseconds, Microseconds> outage_of_daemons() const;
};

/// What comes of the pings. `lab` is the one that the cuts are of. `each` is told of all pings that
/// are asked at once, with the lab as they meet it.
JACKAL_API Timeline
timeline(const lab::Lab& lab, const TimelineQuestion& question,
         const std::function<void(const routing::Settled&, const Stretch&)>& each = {});

} // namespace jackal::probe
