// What sites and peerings stand for, as entries of a plan: the core of an automatic site, and the
// links and routes of a peering that both sides consent to.
//
// A core is a router named SITE-core with one NIC on each subnet of its site, at the gateway
// address. It knows its own subnets, the site's own routes, the subnets of its peers, and a way
// outside if the site has an uplink or borrows one. Peerings are not transitive: what one peer may
// send to another goes by way of the site's relay, a machine of its own, and only if both peers
// take it.
#pragma once

#include "jackal/api.h"
#include "jackal/limits.h"
#include "jackal/plan/plan.h"

namespace jackal::plan {

/// What two sites' consent comes to.
enum class PeeringState : std::uint8_t {
    undeclared, ///< neither side says anything
    half,       ///< one side accepts, the other says nothing
    refused,    ///< a side does not accept
    blocked,    ///< both accept, but own some of the same addresses
    up,
};

/// "not declared", "half", "refused", "blocked" or "up".
JACKAL_API std::string_view to_string(PeeringState state);

/// Two ranges, one of each site of a peering, that share addresses.
struct Overlap {
    net::Prefix first;
    net::Prefix second;
};

/// The state of a peering, from what its sides say and what spaces and prefixes the plan writes.
JACKAL_API PeeringState state_of(const Plan& plan, const Peering& peering);

/// Which ranges of the two sites of a peering overlap, as the plan writes them: spaces, and
/// prefixes of subnets outside of those. Ascending.
JACKAL_API std::vector<Overlap> overlaps(const Plan& plan, const Peering& peering);

/// The distance between two sites, by their regions, with what the plan does not say filled in: 1
/// ms and 0.01 an hour for a peering within a region, 20 ms and 0.05 across; 0.20 and 1.00 for a
/// wire.
JACKAL_API Distance distance(const Plan& plan, const Site& one, const Site& other);

/// The name of the machine that a site's end of a peering is: its core, or its border router.
/// Empty if a manual site names none.
JACKAL_API std::string border_of(const Plan& plan, const Peering& peering, int side);

/// `harbour-core`
JACKAL_API std::string core_name(std::string_view site);

/// How many routes peerings may bring, and how many peerings a plan may have.
constexpr std::size_t most_implied_routes = limits::implied_routes;
constexpr std::size_t most_peerings = limits::peerings;

} // namespace jackal::plan
