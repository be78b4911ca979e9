// How full the prefixes of a lab are.
#pragma once

#include "jackal/api.h"
#include "jackal/lab/lab.h"

namespace jackal::lab {

/// One prefix of a segment and what of it is in use.
struct PrefixUsage {
    SegmentId segment;
    SiteId site; ///< none for a link
    net::Prefix prefix;
    std::optional<net::Address> gateway;
    std::uint64_t used = 0; ///< addresses of NICs inside the prefix
    std::uint64_t free = 0; ///< usable addresses that no NIC has, at most 2^63
};

/// A row for each prefix, subnets before links, in plan order, IPv4 before IPv6.
JACKAL_API std::vector<PrefixUsage> usage(const Lab& lab);

} // namespace jackal::lab
