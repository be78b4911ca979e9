#include "jackal/packet/icmp.h"

#include "jackal/packet/source.h"

namespace jackal::packet {

using lab::MachineId;
using lab::NicId;
using routing::RouteKind;

std::string_view to_string(IcmpError error) {
    switch (error) {
    case IcmpError::net_unreachable: return "net unreachable";
    case IcmpError::host_unreachable: return "host unreachable";
    case IcmpError::time_exceeded: return "time exceeded";
    case IcmpError::packet_too_big: return "packet too big";
    case IcmpError::port_unreachable: return "port unreachable";
    case IcmpError::none: break;
    }
    return "";
}

IcmpError icmp_error(Ending ending) {
    switch (ending) {
    case Ending::no_route: return IcmpError::net_unreachable;
    case Ending::no_neighbour:
    case Ending::shared_source: return IcmpError::host_unreachable;
    case Ending::ttl_expired: return IcmpError::time_exceeded;
    case Ending::too_big: return IcmpError::packet_too_big;
    default: return IcmpError::none;
    }
}

namespace {

// Linux sends no ICMPv6 error to the first address of a connected prefix, which may be an anycast
// address (RFC 4291 section 2.6.1; RFC 4443 section 2.4).
bool is_taken_for_anycast(const routing::Settled& settled, MachineId sender, net::Address to) {
    if (to.family() == net::Family::ipv4 || settled.is_local(sender, settled.aim(to)))
        return false;
    auto route = settled.route(sender, to);
    return route && route->kind == RouteKind::connected && route->to.length() < 127
           && route->to.first() == to;
}

} // namespace

int quoted_ttl(const Journey& failed) {
    const bool is_counted_down =
        failed.steps.back().in && icmp_error(failed.ending) == IcmpError::host_unreachable;
    return failed.ttl_left - (is_counted_down ? 1 : 0);
}

std::optional<net::Address> error_source(const routing::Settled& settled, const Journey& journey) {
    const lab::Lab& lab = settled.lab();
    net::Address to = journey.flow.source;
    if (is_taken_for_anycast(settled, journey.last_machine(), to))
        return std::nullopt;
    NicId in = journey.steps.back().in;
    bool is_own = settled.is_local(journey.last_machine(), settled.aim(to));
    if (in && !is_own && to.family() == net::Family::ipv6)
        if (auto source = routing::source_on(lab, in, to, to))
            return lab.addresses[*source].address;
    return source_address(settled, journey.last_machine(), to);
}

} // namespace jackal::packet
