#include "jackal/export/words.h"

#include <fmt/format.h>

namespace jackal::exports {

using net::to_string;
using packet::Ending;
using packet::Journey;

namespace {

std::string target(const net::Prefix& to) {
    return to.length() == 0 ? "default" : to_string(to);
}

// The name of the machine that has the address, in brackets, or nothing.
std::string holder(const lab::Lab& lab, net::Address address) {
    auto owners = lab.owners_of(address);
    return owners.empty() ? "" : fmt::format(" ({})", lab.machine_name(owners.front().nic));
}

std::string drop_detail(const lab::Lab& lab, const Journey& journey, const packet::Step& step) {
    std::string segment = step.out ? lab.segment_name(lab.nics[step.out].segment) : "";
    switch (journey.ending) {
    case Ending::machine_off: return "is off";
    case Ending::no_route:
        return fmt::format("no route to {}", to_string(journey.packet.destination));
    case Ending::not_forwarding: return "does not forward";
    case Ending::no_neighbour:
        return fmt::format("nobody on {} answers for {}", segment, to_string(journey.next_hop));
    case Ending::which_neighbour:
        return fmt::format("{} machines on {} answer for {}", journey.answering.size(), segment,
                           to_string(journey.next_hop));
    case Ending::ttl_expired: return "TTL has run out";
    case Ending::too_big:
        return fmt::format("{} bytes do not fit the MTU of {}", journey.packet.size_bytes,
                           lab.nics[step.out].mtu_bytes);
    case Ending::own_source:
        return fmt::format("has the source address {} itself", to_string(journey.packet.source));
    case Ending::to_broadcast:
        return fmt::format("{} means all of {}", to_string(journey.packet.destination), segment);
    case Ending::delivered: break;
    }
    return "";
}

} // namespace

std::string step_detail(const routing::Settled& settled, const Journey& journey,
                        std::size_t index) {
    const lab::Lab& lab = settled.lab();
    const packet::Step& step = journey.steps[index];
    if (step.action == packet::Action::drop)
        return drop_detail(lab, journey, step);
    if (step.action == packet::Action::deliver)
        return fmt::format("has {}", to_string(journey.packet.destination));
    auto route = settled.route(step.machine, journey.packet.destination);
    if (route->kind == routing::RouteKind::connected)
        return fmt::format("{} is connected", to_string(route->to));
    return fmt::format("{} via {}{}", target(route->to), to_string(route->via),
                       holder(lab, route->via));
}

std::string_view to_string(lab::AddressOrigin origin) {
    switch (origin) {
    case lab::AddressOrigin::given: return "written";
    case lab::AddressOrigin::gateway: return "gateway";
    case lab::AddressOrigin::automatic: return "next free";
    case lab::AddressOrigin::link: break;
    }
    return "link";
}

} // namespace jackal::exports
