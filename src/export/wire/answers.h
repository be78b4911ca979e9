// What machines of the lab answer by name services and leases, for captures and for the wire.
#pragma once

#include "jackal/export/wire.h"

#include <tins/dhcp.h>

namespace jackal::exports {

/// The answer to a question for addresses of names (RFC 1035): machines of the lab, with or without
/// its domain, and hosts outside. Nothing for what is no question.
Bytes name_answer(const lab::Lab& lab, const Bytes& question);

/// What a lease brings (RFC 2132): time, mask, router, name servers.
void add_lease(Tins::DHCP& dhcp, const lab::Lab& lab, const lab::Lease& lease);

} // namespace jackal::exports
