#include "jackal/packet/source.h"

namespace jackal::packet {

using lab::MachineId;
using lab::NicId;

namespace {

// What a machine sends from to an address of its own: in IPv4 the first address of that prefix on
// the same NIC, as the others are only secondary to it.
net::Address own_source(const lab::Lab& lab, MachineId machine, net::Address own) {
    if (own.family() == net::Family::ipv6)
        return own;
    for (NicId nic : lab.nics_of(machine)) {
        const lab::InterfaceAddress* found = nullptr;
        for (lab::AddressId id : lab.addresses_of(nic))
            if (lab.addresses[id].address == own)
                found = &lab.addresses[id];
        for (lab::AddressId id : lab.addresses_of(nic))
            if (found != nullptr && lab.addresses[id].prefix() == found->prefix())
                return lab.addresses[id].address;
    }
    return own;
}

} // namespace

std::optional<net::Address> source_address(const routing::Settled& settled, MachineId sender,
                                           net::Address destination, std::uint32_t share) {
    routing::Aim aim = settled.aim(destination);
    if (settled.is_local(sender, aim))
        return own_source(settled.lab(), sender, destination);
    const routing::Hop* hop = settled.hop(sender, aim, share);
    if (hop == nullptr)
        return std::nullopt;
    const lab::Lab& lab = settled.lab();
    lab::AddressId source = hop->source;
    if (destination.family() == net::Family::ipv6) // depends on more than the route
        source = routing::source_on(lab, hop->out, destination, destination).value_or(source);
    return lab.addresses[source].address;
}

} // namespace jackal::packet
