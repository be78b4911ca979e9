// What a peering, a tunnel and a wire would each bring two sites: every way is built on a copy of
// the plan, and asked.
#pragma once

#include "jackal/api.h"
#include "jackal/plan/edit.h"
#include "jackal/probe/ping.h"

namespace jackal::reach {

enum class WayKind : std::uint8_t {
    as_it_is, ///< nothing is changed
    peering,  ///< both sides consent
    tunnel,   ///< between a router of each, across whatever joins them
    line,     ///< a wire between a router of each
};

/// "as it is", "peering", "tunnel" or "line".
JACKAL_API std::string_view to_string(WayKind kind);

struct Way {
    WayKind kind = WayKind::as_it_is;
    std::vector<plan::Edit> common; ///< changes that belong to neither site
    std::vector<plan::Edit> at[2];  ///< changes at one site and at the other
    /// What a tunnel takes one way besides its packets' own way, so that the sites stay as far
    /// apart as the plan says they are.
    std::chrono::microseconds added_delay{0};
    std::string impossible;            ///< why it cannot be had; empty if it can
    std::size_t pairs = 0;             ///< of subnets with guests, one of each site, both ways
    std::size_t replies = 0;           ///< of the pairs, with these changes
    probe::Microseconds round_trip{0}; ///< the mean of those
    unsigned mtu_bytes = 0; ///< of the narrowest segment where the first of them goes by it
    double hourly_cost = 0; ///< what it adds to that of `as_it_is`, in the builder's own currency
    std::string gap;        ///< why the first other pair fails; empty if all reply
};

/// The four ways, in that order. `plan` is the one that `lab` was built from.
JACKAL_API std::vector<Way> ways(const plan::Plan& plan, const lab::Lab& lab, lab::SiteId one,
                                 lab::SiteId other);

} // namespace jackal::reach
