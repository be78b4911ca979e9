// Which prefix every subnet, link and loopback of a plan has.
#pragma once

#include "jackal/lab/lab.h"
#include "jackal/lab/why.h"

namespace jackal::lab {

/// Where sites without a space of their own get their IPv4 prefixes (RFC 1918).
inline const net::Prefix private_space(net::Address::ipv4(10U << 24), 8);

/// A prefix, and why it is that one.
struct Choice {
    std::optional<net::Prefix> prefix;
    Reason reason;
};

/// What the planner decides about a plan's sites, subnets, links and loopbacks.
struct Allocation {
    std::vector<std::vector<net::Prefix>> spaces; ///< of each site: its own, or those it was given
    std::vector<PerFamily<Choice>> subnets;       ///< parallel to Plan::subnets
    std::vector<PerFamily<Choice>> links;         ///< parallel to Plan::links
    std::vector<PerFamily<Choice>> loopbacks;     ///< parallel to Plan::machines
    std::vector<Unplaced> unplaced;
};

/// Decides every prefix of `plan`. Written prefixes stay, then pinned ones; the rest are placed
/// largest first, equal ones in plan order, each in the smallest free block of its site or pool
/// that holds it, so a placement is found whenever one exists. An IPv6 subnet takes the number that
/// its IPv4 prefix suggests, where that is free.
///
/// `site_of_subnet`, `site_of_link` and `site_of_machine` have one entry for each subnet, link and
/// machine; a plan without sites has one nameless site.
Allocation allocate(const plan::Plan& plan, const std::vector<SiteId>& site_of_subnet,
                    const std::vector<SiteId>& site_of_link,
                    const std::vector<SiteId>& site_of_machine);

} // namespace jackal::lab
