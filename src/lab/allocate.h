// The address planner: free space in, prefixes out.
#pragma once

#include "jackal/lab/lab.h"

namespace jackal::lab {

/// What the planner decides about a plan's subnets and links.
struct Allocation {
    std::vector<PerFamily<std::optional<net::Prefix>>> subnets; ///< parallel to Plan::subnets
    std::vector<PerFamily<std::optional<net::Prefix>>> links;   ///< parallel to Plan::links
    std::vector<Unplaced> unplaced;
};

/// Places every subnet and link of `plan` that has no prefix of its own. Written prefixes stay;
/// the rest are placed largest first, equal ones in plan order, each in the smallest free block
/// of its site that holds it, so a placement is found whenever one exists.
///
/// `sites` has a row for each of the plan's sites, `site_of_subnet` and `site_of_link` one
/// entry for each subnet and link.
Allocation allocate(const plan::Plan& plan, const Table<Site>& sites,
                    const std::vector<SiteId>& site_of_subnet,
                    const std::vector<SiteId>& site_of_link);

} // namespace jackal::lab
