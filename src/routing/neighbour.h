// Who hears what a machine sends to all on a segment, and what keeps it from being heard.
#pragma once

#include "jackal/routing/condition.h"
#include "jackal/routing/learned.h"

#include <algorithm>

namespace jackal::routing {

/// A filter that drops a packet between two NICs of one segment, or none.
lab::FilterId dropped_by(const lab::Lab& lab, lab::NicId from, lab::NicId to,
                         const net::Flow& flow);

/// A filter that drops what the machine itself sends by the NIC, or takes by it, or none.
lab::FilterId dropped_at(const lab::Lab& lab, lab::NicId nic, plan::Way way, const net::Flow& flow);

/// A filter that drops what the machine forwards from one NIC to another, or none.
lab::FilterId dropped_between(const lab::Lab& lab, lab::NicId in, lab::NicId out,
                              const net::Flow& flow);

/// True if the machine takes the address for its own: of IPv4 also that of a NIC that is down, of
/// IPv6 one on a NIC that works.
bool is_own(const lab::Lab& lab, const Condition& condition, lab::MachineId machine,
            net::Address address);

/// True if the machine has the address on any NIC, whatever its state.
bool has_address(const lab::Lab& lab, lab::MachineId machine, net::Address address);

/// True if the address is one that a neighbour on the prefix can have: in IPv4 its network and its
/// broadcast address are nobody's (RFC 1122 section 3.2.1.3).
bool is_host_on(const net::Prefix& prefix, net::Address address);

/// Calls use(nic) for NICs of machines that are on under one condition only, for those that are up
/// under one only, and for those whose link is.
template <class Use>
void each_changed_nic(const lab::Lab& lab, const Condition& old, const Condition& now, Use use) {
    const Condition::Difference difference = old.difference(now);
    for (lab::MachineId machine : difference.machines)
        std::ranges::for_each(lab.nics_of(machine), use);
    std::ranges::for_each(difference.nics, use);
    for (lab::LinkId link : difference.links)
        std::ranges::for_each(lab.segments[lab.links[link].segment].nics, use);
}

/// Calls use(nic) for all NICs that may have a carrier under one condition only, some of them
/// twice: also for the other ends of cables. That of a tunnel has no carrier to tell of.
template <class Use>
void each_changed_carrier(const lab::Lab& lab, const Condition& old, const Condition& now,
                          Use use) {
    if (old.wiring() != now.wiring()) {
        std::ranges::for_each(lab.nics.ids(), use);
        return;
    }
    each_changed_nic(lab, old, now, [&](lab::NicId nic) {
        use(nic);
        const lab::LinkId link = lab.segments[lab.nics[nic].segment].link;
        if (link && !lab.links[link].is_tunnel)
            use(lab.links[link].other_end(nic));
    });
}

/// Calls use(nic) for NICs that have the MAC of this one and may be on its segment.
template <class Use>
void each_with_mac_of(const lab::Lab& lab, lab::NicId nic, Use use) {
    if (!lab.nics[nic].shares_mac)
        return;
    auto look_at = [&](lab::NicId other) {
        if (other != nic && lab.nics[other].mac == lab.nics[nic].mac)
            use(other);
    };
    if (lab.has_wiring()) // switches may join segments
        std::ranges::for_each(lab.nics.ids(), look_at);
    else
        std::ranges::for_each(lab.segments[lab.nics[nic].segment].nics, look_at);
}

/// True if what one of two NICs on a segment sends to the other alone does not arrive: they have
/// one MAC, and a switch tells NICs by theirs. What a third sends to a MAC goes to whoever of them
/// spoke last (IEEE 802.1D section 7.8), which a speaker does again and again.
bool is_one_to_switches(const lab::Lab& lab, lab::NicId one, lab::NicId other);

/// The address by which OSPF and RIP speak on the NIC, or null: one that the machine chose itself
/// as nobody gave it any is not routed (RFC 3927 section 7).
const lab::InterfaceAddress* spoken_address(const lab::Lab& lab, lab::NicId nic,
                                            net::Family family);

/// What they announce of an address: its prefix, or a loopback's as a host.
net::Prefix announced_prefix(const lab::Lab& lab, const lab::InterfaceAddress& address);

/// The same of all addresses of a family on the NIC, in their order.
std::vector<net::Prefix> announced_prefixes(const lab::Lab& lab, lab::NicId nic,
                                            net::Family family);

/// What OSPF and RIP send from on the NIC: that address, or for IPv6 the link-local one that a
/// kernel makes from the MAC (RFC 5340 section 4.2.1, RFC 2080 section 2.4.2; RFC 4291 appendix A).
net::Address sent_from(const lab::Lab& lab, lab::NicId nic, net::Address spoken);

/// True if the NIC works, and with its link has a carrier.
bool is_live(const lab::Lab& lab, const Condition& condition, lab::NicId nic, net::Family family);

} // namespace jackal::routing
