#include "probe/explain/explain.h"

#include "lab/mistakes/nics.h"
#include "probe/explain/causes.h"

#include <fmt/format.h>

namespace jackal::probe {

using lab::Lab;
using lab::MachineId;
using lab::NicId;
using lab::Remedy;
using packet::Ending;
using plan::Cause;

namespace {

Diagnosis too_big(const Case& c, NicId nic) {
    const lab::Nic& row = c.lab.nics[nic];
    unsigned bytes = c.journey.packet.size_bytes;
    Remedy remedy{{lab::set_mtu(c.lab, nic, static_cast<std::uint16_t>(bytes))}, ""};
    if (bytes > 65535)
        remedy = {{}, "send smaller packets"};
    return c.say(Cause::mtu_too_small, c.here,
                 fmt::format("{} carries {} bytes at most, and the packet has {}",
                             c.lab.nic_name(nic), row.mtu_bytes, bytes),
                 std::move(remedy), row.at);
}

} // namespace

Diagnosis explain(const Leg& leg, Ground& ground) {
    const Case c(leg, ground);
    if (auto d = unleased(c))
        return *d;
    if (auto d = between_sites(c))
        return *d;
    if (auto d = led_astray_by_default(c))
        return *d;
    if (auto d = outside(c))
        return *d;
    if (auto d = led_astray_by_lease(c))
        return *d;
    bool astray = c.journey.ending == Ending::no_route || c.journey.ending == Ending::not_forwarding
                  || c.journey.ending == Ending::no_neighbour
                  || c.journey.ending == Ending::ttl_expired;
    if (astray)
        if (auto d = misaddressed_target(c))
            return *d;
    switch (c.journey.ending) {
    case Ending::machine_off: return machine_off(c, c.here);
    case Ending::no_route:
        return c.journey.steps.size() == 1 || c.lab.machines[c.here].forwards[c.family]
                   ? no_route(c)
                   : not_forwarding(c);
    case Ending::not_forwarding: return not_forwarding(c);
    case Ending::no_neighbour: return no_neighbour(c);
    case Ending::ttl_expired: return ttl_expired(c);
    case Ending::too_big: return too_big(c, c.journey.steps.back().out);
    case Ending::too_big_to_take: return too_big(c, c.journey.steps.back().in);
    case Ending::to_broadcast: return to_broadcast(c);
    case Ending::filtered: return filtered(c);
    case Ending::not_relayed: return not_relayed(c);
    case Ending::older_flow: return explain_older_flow(c.lab, c.journey, c.here);
    case Ending::which_neighbour:
        if (c.lab.nics[c.journey.answering.front()].shares_mac)
            return duplicate_mac(c);
        break;
    case Ending::own_source:
        if (c.lab.owners_of(c.journey.flow.source).size() == 1)
            return in_a_loop(c, loop_start(c.journey));
        break;
    case Ending::shared_source:
    case Ending::delivered: break; // delivered, but to a machine that was not meant
    }
    return duplicate_address(c);
}

Diagnosis explain_older_flow(const Lab& lab, const packet::Journey& journey, MachineId where) {
    const std::string& name = lab.machines[where].name;
    bool forgets = journey.ending == Ending::older_flow;
    return {.cause = Cause::older_flow,
            .where = where,
            .explanation =
                forgets ? fmt::format("{} has translated the ping to {} so far, the address of a "
                                      "NIC that it leaves by no more; one is dropped, and the next "
                                      "is translated anew",
                                      name, net::to_string(journey.flow.source))
                        : fmt::format("{} goes on with the ping as it began, by its record of the "
                                      "flow; a ping that starts now gets its reply",
                                      name),
            .remedy = {{}, "stop the ping for half a minute, until the record is gone"},
            .at = lab.machines[where].at};
}

} // namespace jackal::probe
