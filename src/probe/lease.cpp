#include "probe/lease.h"

namespace jackal::probe {

namespace {

packet::Packet between_servers(net::Address from, net::Address to) {
    return {.source = from,
            .destination = to,
            .size_bytes = lease_bytes,
            .is_reply = true, // it may be cut into pieces
            .protocol = net::Protocol::udp,
            .source_port = dhcp_server_port,
            .destination_port = dhcp_server_port};
}

} // namespace

std::optional<LeaseWay> lease_way(const routing::Settled& settled, lab::NicId nic) {
    const lab::Lab& lab = settled.lab();
    const lab::Lease* lease = lab.leases.empty() ? nullptr : lab.lease_of(nic);
    if (lease == nullptr || !lease->server || lease->refusal != lab::Lease::Refusal::none
        || !settled.is_usable(nic) || !settled.is_usable(lease->server)
        || settled.wiring().domain(lab, nic) != settled.wiring().domain(lab, lease->server))
        return std::nullopt;
    const auto* here = lab.first_address(lease->server, net::Family::ipv4);
    if (here == nullptr)
        return std::nullopt;
    LeaseWay way{.lease = lease, .server = here->address, .here = here->address};
    const lab::MachineId relay = lab.nics[lease->server].machine;
    if (relay == lease->giver)
        return way;
    const lab::InterfaceAddress* there = nullptr;
    for (lab::NicId other : lab.nics_of(lease->giver))
        if (there == nullptr)
            there = lab.first_address(other, net::Family::ipv4);
    if (there == nullptr)
        return std::nullopt;
    way.server = there->address;
    way.out = packet::walk(settled, relay, between_servers(way.here, way.server));
    if (way.out->ending != packet::Ending::delivered)
        return std::nullopt;
    way.back = packet::walk(settled, lease->giver, between_servers(way.server, way.here));
    return way.back->ending == packet::Ending::delivered ? std::optional(way) : std::nullopt;
}

} // namespace jackal::probe
