// Sites and what joins them, or why nothing does.
#pragma once

#include "jackal/api.h"
#include "jackal/lab/finding.h"

namespace jackal::lab {

/// The peering between two sites, or null. O(peerings).
JACKAL_API const Peering* peering_between(const Lab& lab, SiteId one, SiteId other);

/// What one side of a peering says: "accepts, takes relayed traffic, lends its way outside",
/// "refuses" or "says nothing".
JACKAL_API std::string side_text(const Peering& peering, int side);

/// What keeps a peering from carrying anything: both sides' consent, and what mends it. For one
/// that is not up.
JACKAL_API Finding describe(const Lab& lab, const Peering& peering);

/// Why nothing carries traffic between two sites: a peering that is not up, a hub between them that
/// relays nothing or whose relayed traffic one of them does not take, or no peering at all. Nothing
/// if the plan lets it pass, as far as peerings go.
JACKAL_API std::optional<Finding> gap_between(const Lab& lab, SiteId from, SiteId to);

/// Why a site has no way outside though a peer has one, or says it has: not lent, not borrowed, or
/// not there. Nothing if no peering shares one.
JACKAL_API std::optional<Finding> gap_outwards(const Lab& lab, SiteId site);

/// The site's first router that forwards, its core left out, or none.
JACKAL_API MachineId router_of(const Lab& lab, SiteId site);

/// The machine that a peering of the site ends at: its core, or a manual site's first router. None
/// without one.
JACKAL_API MachineId border_for(const Lab& lab, SiteId site);

/// What makes two sites peers; nothing if one has no router for a peering to end at.
JACKAL_API std::optional<plan::Edit> new_peering(const Lab& lab, SiteId one, SiteId other);

/// True if the site's end of a peering has a default route of its own that leads outside.
JACKAL_API bool has_way_outside(const Lab& lab, SiteId site);

/// What a site owns or uses: its space, and prefixes of its subnets outside of it. Ascending.
JACKAL_API std::vector<net::Prefix> ranges_of(const Lab& lab, SiteId site);

/// Findings about all peerings.
void add_peering_findings(const Lab& lab, std::vector<Finding>& found);

} // namespace jackal::lab
