// Addresses while they are given to the NICs of a lab: what the steps share. Each step stands in
// the file of its name.
#pragma once

#include "jackal/lab/lab.h"
#include "jackal/plan/complete.h"

#include <map>

namespace jackal::lab {

struct Assignment {
    /// An address that the plan writes at a NIC of a segment.
    using Written = std::pair<SegmentId, net::Address>;

    const plan::Complete& whole;
    const plan::Plan& plan;
    Lab& lab;
    std::vector<Written> written = {}; ///< sorted
    std::map<NicId, PerFamily<std::optional<net::Address>>> pins = {};
    std::map<NicId, InterfaceAddress> kept_ipv6 = {}; ///< of NICs that ask by DHCP
};

// --- written.cpp -----------------------------------------------------------------------------

bool is_written(const Assignment& a, SegmentId segment, net::Address address);
const plan::NicAddress* written_address(const Assignment& a, const Nic& nic);
/// What the plan writes or keeps pinned at NICs, which no automatic address may touch.
void collect_written(Assignment& a);
std::optional<net::Address> pinned(const Assignment& a, NicId id, net::Family family);
/// A machine that the plan does not write has the gateway address.
bool has_gateway_unwritten(const Assignment& a, const Subnet& subnet);

// --- regions.cpp -----------------------------------------------------------------------------

void set_regions_aside(Assignment& a);

// --- give.cpp --------------------------------------------------------------------------------

void assign_all(Assignment& a);
/// Servers whose own address is a lease come into play once they have it.
void assign_leases(Assignment& a);

} // namespace jackal::lab
