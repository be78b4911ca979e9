// Plans of any size for the benchmarks, the same at every run.
#pragma once

#include "jackal/plan/plan.h"

#include <string>

namespace jackal::bench {

/// A plan file: `routers` in a binary tree of links, each with its share of `subnets`; `guests`
/// spread over the subnets; a default route towards the root at every router but the root.
std::string tree_text(unsigned subnets, unsigned guests, unsigned routers);

/// A plan: `routers` in a binary tree of links, each with its share of `subnets`, and at every
/// router a static route to every subnet that is not its own. One guest on every subnet.
plan::Plan fully_routed(unsigned subnets, unsigned routers);

/// A plan: `routers` in a ring with links of random cost across it, `links` in all, that speak OSPF
/// in one area.
plan::Plan ospf_mesh(unsigned routers, unsigned links);

/// A plan file: `subnets` with a guest each on `routers` in a ring with links of random cost across
/// it, `links` in all, that speak OSPF in one area; a fifth of the routers with a filter of 20
/// rules; and one translated way outside.
std::string whole_text(unsigned subnets, unsigned routers, unsigned links);

/// A plan: `routers` in a ring, every one in an AS of its own and with `prefixes` to announce.
plan::Plan bgp_ring(unsigned routers, unsigned prefixes);

} // namespace jackal::bench
