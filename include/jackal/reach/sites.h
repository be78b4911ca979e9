// Which sites reach which: one machine of every subnet pings one of every other, site by site.
#pragma once

#include "jackal/api.h"
#include "jackal/limits.h"
#include "jackal/probe/ping.h"

#include <functional>

namespace jackal::reach {

/// The pings from the subnets of one site to those of another, or of its own.
struct SitePair {
    lab::SiteId from;
    lab::SiteId to;
    std::size_t pairs = 0;                     ///< of subnets that have an address family in common
    std::size_t replies = 0;                   ///< of the pairs
    probe::Microseconds round_trip{0};         ///< the mean of those
    std::optional<probe::Diagnosis> first_gap; ///< why the first other pair fails
    std::string gap_between;                   ///< that pair: "chart-desk and kettle"
};

struct SiteReach {
    std::vector<lab::SiteId> sites; ///< that have a machine to ask, in plan order
    std::vector<SitePair> rows;     ///< all of the lab to all, in that order; `outside` is last
};

/// At most so many pairs of subnets are asked of each pair of sites.
constexpr std::size_t most_pairs_of_subnets = limits::site_pairs;

/// `progress(done, total)` is called after each site, if it is set.
JACKAL_API SiteReach
between_sites(const routing::Settled& settled,
              const std::function<void(std::size_t, std::size_t)>& progress = {});

/// One row of it.
JACKAL_API SitePair between(const routing::Settled& settled, lab::SiteId from, lab::SiteId to);

} // namespace jackal::reach
