#include "routing/protocol.h"

#include <algorithm>
#include <array>

namespace jackal::routing {

std::span<const SpokenProtocol* const> protocols() {
    static const std::array all{&ospf_protocol(), &rip_protocol(), &bgp_protocol()};
    return all;
}

bool is_from(RouteKind kind, plan::RouteSource source) {
    switch (source) {
    case plan::RouteSource::connected: return kind == RouteKind::connected;
    case plan::RouteSource::static_routes: return kind == RouteKind::static_route;
    case plan::RouteSource::ospf: return kind == RouteKind::ospf;
    case plan::RouteSource::rip: return kind == RouteKind::rip;
    case plan::RouteSource::bgp: break;
    }
    return kind == RouteKind::bgp_outer || kind == RouteKind::bgp_inner;
}

const SpokenProtocol& spoken(Protocol protocol) {
    return **std::ranges::find(protocols(), protocol, &SpokenProtocol::protocol);
}

Offer ProtocolTables::offer_of(const Lesson& lesson, const net::Prefix& to) const {
    Offer offer{.to = to,
                .kind = lesson.kind,
                .metric = lesson.metric,
                .gates = {},
                .type = lesson.type,
                .from = {},
                .path = {}};
    for (std::size_t i = 0; i < lesson.gate_count; ++i)
        offer.gates.push_back(gates()[lesson.gates.at(i)]);
    return offer;
}

} // namespace jackal::routing
