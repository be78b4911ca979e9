// Protocols hand routes to each other, and sessions of BGP need the others to get anywhere: all are
// worked out again until what is handed over stays the same.
#pragma once

#include "routing/protocol.h"

namespace jackal::routing {

/// The tables of all protocols.
using AllTables = std::vector<std::unique_ptr<ProtocolTables>>;

/// Settles them together. A change that never ends is reported in `disputes`.
void settle_together(const AllTables& tables, const lab::Lab& lab, const PrefixNumbers& numbers,
                     const Condition& condition, const lab::Wiring& wiring,
                     std::vector<Dispute>& disputes);

/// The lesson that the machine prefers for exactly the prefix, and whose it is (null: nobody's).
std::pair<const ProtocolTables*, Lesson> best_lesson(const AllTables& tables,
                                                     lab::MachineId machine, std::uint32_t prefix,
                                                     net::Family family);

} // namespace jackal::routing
