#include "probe/explain/causes.h"

#include "lab/mistakes/loops.h"

#include <fmt/format.h>

namespace jackal::probe {

using lab::Remedy;
using plan::Cause;

namespace {

plan::Mark loop_mark(const Case& c, const packet::Step& step) {
    auto used = c.settled.route(step.machine, c.far);
    return used && used->written ? c.lab.routes[used->written].at : c.mark(step.machine);
}

Remedy break_loop(const Case& c, const packet::Step& step) {
    auto path = c.path_from(step.machine, Through::working);
    auto used = c.settled.route(step.machine, c.far);
    if (!used || !used->written)
        return {{}, "take one machine out of the circle"};
    const lab::StaticRoute& route = c.lab.routes[used->written];
    if (!path.empty() && used->to.length() == 0)
        return add_route(c, step.machine, path.front());
    if (!path.empty())
        return lead_rightly(c, step.machine, route);
    return lab::take_out(c.lab, step.machine, route);
}

} // namespace

std::size_t loop_start(const packet::Journey& journey) {
    const auto& steps = journey.steps;
    for (std::size_t i = 0; i + 1 < steps.size(); ++i)
        for (std::size_t j = i + 1; j < steps.size(); ++j)
            if (steps[i].machine == steps[j].machine)
                return i;
    return steps.size();
}

Diagnosis in_a_loop(const Case& c, std::size_t start) {
    const packet::Step* culprit = nullptr; // the step nearest to the far end that turns away
    std::size_t nearest = 0;
    lab::RouteLoop loop{
        .machines = {}, .culprit = {}, .at = {}, .family = c.family, .replies = c.leg.returning};
    for (std::size_t i = start; i < c.journey.steps.size(); ++i) {
        const packet::Step& step = c.journey.steps[i];
        if (i > start && step.machine == c.journey.steps[start].machine)
            break;
        loop.machines.push_back(step.machine);
        auto used = c.settled.route(step.machine, c.far);
        if (!used) // it knew the packet by the address of a translator
            continue;
        loop.default_routes &= used->to.length() == 0;
        auto path = c.path_from(step.machine, Through::working);
        if (path.empty() || c.lab.first_address(path.front().in, c.family)->address == used->via)
            continue;
        if (culprit == nullptr || path.size() < nearest) {
            culprit = &step;
            nearest = path.size();
        }
    }
    if (culprit == nullptr)
        culprit = &c.journey.steps[start];
    if (c.journey.ending == packet::Ending::own_source)
        loop.home = c.here;
    loop.culprit = culprit->machine;
    loop.at = loop_mark(c, *culprit);
    Diagnosis d = c.say(describe(c.lab, loop, lab::Seen::by_packet), culprit->machine);
    d.remedy = break_loop(c, *culprit);
    return d;
}

Diagnosis ttl_expired(const Case& c) {
    std::size_t loop = loop_start(c.journey);
    if (loop == c.journey.steps.size())
        return c.say(Cause::ttl_too_small, c.here,
                     fmt::format("the packet was sent with TTL {}, and {} is the last machine "
                                 "it gets to",
                                 c.journey.packet.ttl, c.name(c.here)),
                     {{}, "send it with a larger TTL"}, c.mark(c.here));
    return in_a_loop(c, loop);
}

} // namespace jackal::probe
