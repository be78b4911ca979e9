// How a machine came to know a route: from whom, who told that one, and so on, back to the machine
// that brought it in; and where news of a prefix stopped on their way to those that lack it.
//
//     routing::Provenance known = routing::provenance(settled, machine, destination);
//     for (const routing::Passage& p : known.passages) …
#pragma once

#include "jackal/routing/settled.h"

namespace jackal::routing {

/// One machine on the way of the news, and its own route to the prefix.
struct Passage {
    lab::MachineId machine;
    Route route;
    std::optional<Offer> offer; ///< what a protocol taught it; none of what it has by itself
    std::vector<Offer> others;  ///< what it was offered besides, and does not use
};

/// Why the one who knows a prefix and the one who does not, who could hear it, are not the same.
enum class Stop : std::uint8_t {
    not_neighbours, ///< they exchange nothing: see the neighbour's discord
    not_brought_in, ///< the route is of another source, and not brought into the protocol
    is_refused,     ///< a policy of one of the two refuses it, or does not bring it in
    inside_as,      ///< BGP: heard in the AS, so not passed on there (RFC 4271 section 9.2)
    told_by_it,     ///< it goes by the other itself: split horizon (RFC 2453 3.4.3, RFC 4271 5.1.3)
    loop,           ///< BGP: the path was there already (RFC 4271 9.1.2, RFC 4456 section 8)
    next_hop,       ///< BGP: it has no way to the next hop (RFC 4271 section 9.1.2.1)
    too_far,        ///< RIP: 16 hops (RFC 2453 section 3.5)
    area,           ///< OSPF: the area does not hear it: a stub, or no border router in between
};

/// "not neighbours", "not brought in", …
JACKAL_API std::string_view to_string(Stop why);

struct Stopped {
    lab::MachineId knows;
    lab::MachineId lacks;
    Neighbour neighbour; ///< as `lacks` sees `knows`
    Stop why = Stop::not_neighbours;
    net::Prefix to; ///< as `knows` has it
};

struct Provenance {
    std::optional<net::Prefix> to; ///< the prefix that the machine uses for the destination
    std::vector<Passage> passages; ///< the machine itself first, who brought it in last
    /// Of a machine that speaks a protocol, and knows no route or but a default one.
    std::vector<Stopped> stopped;
};

/// How the machine came to the route by which it sends to the destination. O(n) in the machines
/// passed, and where it has none, in the neighbours of the lab.
JACKAL_API Provenance provenance(const Settled& settled, lab::MachineId machine,
                                 net::Address destination);

} // namespace jackal::routing
