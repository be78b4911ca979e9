// What the tables of a lab tell without a packet.
#pragma once

#include "jackal/lab/finding.h"
#include "jackal/routing/settled.h"

namespace jackal::reach {

/// The findings of the lab and of its routing protocols.
std::vector<lab::Finding> table_findings(const routing::Settled& settled);

/// Tunnels that nothing comes out of.
std::vector<lab::Finding> tunnel_findings(const routing::Settled& settled);

} // namespace jackal::reach
