#include "neighbour.h"

#include <algorithm>

namespace jackal::routing {

namespace {

lab::FilterId denies(const lab::Lab& lab, lab::FilterId id, plan::Way way, const net::Flow& flow) {
    if (!id)
        return {};
    const lab::Filter& filter = lab.filters[id];
    std::uint32_t rule = filter.index.first(way, flow);
    bool allows = rule == lab::RuleIndex::none ? filter.allows : filter.rules[rule].allows;
    return allows ? lab::FilterId{} : id;
}

} // namespace

namespace {

lab::FilterId guarded(const lab::Lab& lab, lab::NicId nic, plan::Way way, const net::Flow& flow) {
    if (!lab.nics[nic].guard)
        return {};
    const lab::Guard& guard = lab.guards[lab.nics[nic].guard];
    auto id = denies(lab, guard.subnet, way, flow);
    return id ? id : denies(lab, guard.nic, way, flow);
}

lab::FilterId dropped_on(const lab::Lab& lab, lab::MachineId machine, plan::Way way,
                         const net::Flow& flow) {
    const lab::Duties* duties = lab.duties_of(machine);
    return duties == nullptr ? lab::FilterId{} : denies(lab, duties->filter, way, flow);
}

} // namespace

lab::FilterId dropped_at(const lab::Lab& lab, lab::NicId nic, plan::Way way,
                         const net::Flow& flow) {
    if (!lab.touches_packets())
        return {};
    auto id = dropped_on(lab, lab.nics[nic].machine, way, flow);
    return id ? id : guarded(lab, nic, way, flow);
}

lab::FilterId dropped_between(const lab::Lab& lab, lab::NicId in, lab::NicId out,
                              const net::Flow& flow) {
    if (!lab.touches_packets())
        return {};
    if (auto id = guarded(lab, in, plan::Way::in, flow))
        return id;
    if (auto id = dropped_on(lab, lab.nics[out].machine, plan::Way::through, flow))
        return id;
    return guarded(lab, out, plan::Way::out, flow);
}

lab::FilterId dropped_by(const lab::Lab& lab, lab::NicId from, lab::NicId to,
                         const net::Flow& flow) {
    if (auto id = dropped_at(lab, from, plan::Way::out, flow))
        return id;
    return dropped_at(lab, to, plan::Way::in, flow);
}

bool is_own(const lab::Lab& lab, const Condition& condition, lab::MachineId machine,
            net::Address address) {
    return std::ranges::any_of(lab.owners_of(address), [&](const lab::Owner& owner) {
        return owner.machine == machine && condition.machine_on(machine)
               && (address.family() == net::Family::ipv4
                   || is_live(lab, condition, owner.nic, address.family()));
    });
}

bool has_address(const lab::Lab& lab, lab::MachineId machine, net::Address address) {
    return std::ranges::any_of(lab.owners_of(address),
                               [&](const lab::Owner& owner) { return owner.machine == machine; });
}

bool is_host_on(const net::Prefix& prefix, net::Address address) {
    return prefix.contains(address) && !prefix.is_broadcast_address(address)
           && !(address.family() == net::Family::ipv4 && prefix.is_network_address(address));
}

bool is_one_to_switches(const lab::Lab& lab, lab::NicId one, lab::NicId other) {
    return lab.nics[one].mac == lab.nics[other].mac && !lab.segments[lab.nics[one].segment].link;
}

const lab::InterfaceAddress* spoken_address(const lab::Lab& lab, lab::NicId nic,
                                            net::Family family) {
    const lab::InterfaceAddress* address = lab.first_address(nic, family);
    return address != nullptr && address->origin != lab::AddressOrigin::link_local ? address
                                                                                   : nullptr;
}

net::Prefix announced_prefix(const lab::Lab& lab, const lab::InterfaceAddress& address) {
    return lab.nics[address.nic].is_loopback()
               ? net::Prefix(address.address, net::address_bits(address.address.family()))
               : address.prefix();
}

std::vector<net::Prefix> announced_prefixes(const lab::Lab& lab, lab::NicId nic,
                                            net::Family family) {
    std::vector<net::Prefix> found;
    for (lab::AddressId id : lab.addresses_of(nic))
        if (const lab::InterfaceAddress& row = lab.addresses[id];
            row.address.family() == family && row.origin != lab::AddressOrigin::link_local)
            found.push_back(announced_prefix(lab, row));
    return found;
}

net::Address sent_from(const lab::Lab& lab, lab::NicId nic, net::Address spoken) {
    return spoken.family() == net::Family::ipv4 ? spoken
                                                : net::link_local_address(lab.nics[nic].mac);
}

// The other end of a cable that is down has no carrier (Linux: the peer of an interface that is
// down; IEEE 802.3 clause 22.2.4.2.13); a tunnel does not tell.
bool is_live(const lab::Lab& lab, const Condition& condition, lab::NicId nic, net::Family family) {
    if (!condition.machine_on(lab.nics[nic].machine) || !condition.carries(lab, nic, family))
        return false;
    if (lab.nics[nic].is_loopback())
        return true;
    const lab::LinkId link = lab.segments[lab.nics[nic].segment].link;
    if (!link)
        return true;
    const lab::NicId other = lab.links[link].other_end(nic);
    return condition.link_up(link)
           && (lab.links[link].is_tunnel
               || (condition.nic_up(other) && condition.machine_on(lab.nics[other].machine)));
}

} // namespace jackal::routing
