// What a machine sends from.
#pragma once

#include "jackal/api.h"
#include "jackal/routing/settled.h"

namespace jackal::packet {

/// The address that `sender` would send from to reach `destination`, if it has a route; of several
/// equal next hops by that of number `share`.
JACKAL_API std::optional<net::Address> source_address(const routing::Settled& settled,
                                                      lab::MachineId sender,
                                                      net::Address destination,
                                                      std::uint32_t share = 0);

} // namespace jackal::packet
