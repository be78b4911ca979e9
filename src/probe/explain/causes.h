// Why a packet ended where it did: each group of causes in the file of its name.
#pragma once

#include "probe/explain/case.h"

namespace jackal::probe {

using Maybe = std::optional<Diagnosis>;

// --- hops.cpp: what keeps one hop from working -------------------------------------------------

Diagnosis machine_off(const Case& c, lab::MachineId id);
/// The reason why a NIC that has an address of the family does not carry it, if there is one.
Maybe unusable(const Case& c, lab::NicId nic);
/// A NIC without an address of the family.
Diagnosis bare(const Case& c, lab::NicId nic);
/// What is off, down or bare about one hop, if anything is.
Maybe idle(const Case& c, const Hop& hop);
/// The same, or a machine at its end that does not forward.
Maybe obstacle(const Case& c, const Hop& hop);
Diagnosis does_not_forward(const Case& c, lab::MachineId id);

// --- ways.cpp: what leads a packet rightly -----------------------------------------------------

/// What is off, down or bare on the first hop from here, where no other way leads to the far
/// end: then that, and not the next hop that was written, is what went wrong.
Maybe idle_first_hop(const Case& c);
/// Points a route of `from` at the first hop of a way to the far end: one that works, or one
/// that would if what is off or down on it were not.
lab::Remedy lead_rightly(const Case& c, lab::MachineId from, const lab::StaticRoute& route);
/// A route that `from` lacks: a gateway for a guest without one, else a route to the far
/// end's segment.
lab::Remedy add_route(const Case& c, lab::MachineId from, const Hop& hop);

// --- next_hops.cpp -----------------------------------------------------------------------------

Diagnosis no_route(const Case& c);
Diagnosis no_neighbour(const Case& c);
Diagnosis not_forwarding(const Case& c);

// --- protocols.cpp -----------------------------------------------------------------------------

/// A machine that speaks a routing protocol was not told of the far end: two on a way there do
/// not exchange routes, or the last one announces nothing.
Maybe not_learned(const Case& c, lab::MachineId from, const std::vector<Hop>& path);

// --- addresses.cpp -----------------------------------------------------------------------------

/// An address that does not fit the segment of its NIC, as the cause of whatever followed.
Maybe misaddressed(const Case& c, lab::NicId nic, net::Address address);
Maybe misaddressed_target(const Case& c);
Maybe misaddressed_here(const Case& c);
Diagnosis duplicate_mac(const Case& c);
Diagnosis duplicate_address(const Case& c);
Diagnosis to_broadcast(const Case& c);

// --- outside.cpp: leases, sites, and what is outside -------------------------------------------

/// A NIC that asked for an address by DHCP and got none.
Maybe refused_lease(const Case& c, lab::NicId nic);
/// One of the ends has only an address that it gave itself, for want of a lease.
Maybe unleased(const Case& c);
/// The packet ended where a peering, a relay or a shared way outside would have led on.
Maybe between_sites(const Case& c);
Diagnosis not_relayed(const Case& c);
/// Private addresses that ended outside, where nobody routes them.
Maybe outside(const Case& c);
/// The packet went by the default route of a lease, and by another NIC it would have got there.
Maybe led_astray_by_lease(const Case& c);
/// The packet went by one default route of a machine, and another one leads there.
Maybe led_astray_by_default(const Case& c);

// --- loops.cpp, filters.cpp, tunnels.cpp -------------------------------------------------------

Diagnosis ttl_expired(const Case& c);
/// Packets that go round from that step on.
Diagnosis in_a_loop(const Case& c, std::size_t start);
Diagnosis filtered(const Case& c);
/// Why nothing of the size of a ping gets through a tunnel that carries `around` others.
Maybe why_broken(lab::NicId end, int around, Ground& ground);

} // namespace jackal::probe
