// Route tables held against those that real routing daemons fill.
#pragma once

#include "jackal/jackal.h"

namespace judge {

struct TablesHeld {
    std::size_t routes = 0;               ///< that the daemons learned
    std::size_t luck = 0;                 ///< of those: may be otherwise another time
    std::size_t own_ways = 0;             ///< of those: see speakers.cpp
    bool has_circle = false;              ///< who was first may decide
    bool cannot_be_told = false;          ///< the daemon does otherwise than the plan says
    std::vector<std::string> differences; ///< a line each
};

/// True if what two routers of OSPF announce replaces each other for ever, as both have one router
/// id.
bool repeats_router_id(const jackal::routing::Settled& settled);

/// Starts the lab with daemons, and compares all that they have learned once they have settled.
/// Throws std::runtime_error if it does not start.
TablesHeld hold_tables(const jackal::routing::Settled& settled);

} // namespace judge
