// A plan with all that it stands for without writing it: the cores of automatic sites, the links
// and routes of peerings, the machines and subnets outside that uplinks lead to.
//
//     plan::Complete whole(plan);                    // throws if the plan has problems
//     lab::Lab lab = lab::build(whole);
//
// What the builder wrote is a plan::Plan; changes are made there. A Complete is made from it once,
// has been validated, and never changes; the lab is built from it.
#pragma once

#include "jackal/api.h"
#include "jackal/plan/plan.h"

#include <map>
#include <set>

namespace jackal::plan {

/// Threads may share one that none of them moves from.
class JACKAL_API Complete {
  public:
    /// Throws std::invalid_argument with the first of problems(plan) if there are any.
    explicit Complete(Plan plan);

    /// The same, unless the plan has problems, which are added to the list.
    static std::optional<Complete> of(Plan plan, std::vector<Problem>& problems);

    /// All entries: the written ones first in each list, then those that were made.
    const Plan& entries() const { return entries_; }

    /// What was written alone.
    Plan written() const&;
    Plan written() &&;

    bool is_outside_site(std::size_t row) const { return row >= sites_; }
    bool is_outside_subnet(std::size_t row) const { return row >= subnets_; }
    bool is_core(std::size_t machine) const { return machine >= machines_ && machine < cores_end_; }
    bool is_outside(std::size_t machine) const { return machine >= cores_end_; }
    /// The peering that a link stands for, or nothing for one that is written or outside.
    std::optional<std::uint32_t> peering_of(std::size_t link) const {
        return link >= links_ && link - links_ < peering_of_.size()
                   ? std::optional(peering_of_[link - links_])
                   : std::nullopt;
    }
    /// True if the route comes with a peering, or is the core's way outside.
    bool is_implied_route(std::size_t machine, std::size_t route) const {
        auto found = written_routes_.find(machine);
        return found != written_routes_.end() && route >= found->second;
    }
    /// True if the DHCP range of the subnet comes with its uplink.
    bool is_implied_dhcp(std::size_t subnet) const { return dhcp_.contains(subnet); }

  private:
    friend class CoreBuilder; // what they make, they note here
    friend class OutsideBuilder;
    struct Unchecked {};
    Complete(Plan plan, Unchecked);

    Plan entries_;
    std::size_t sites_ = 0; // how many are written
    std::size_t subnets_ = 0;
    std::size_t machines_ = 0;
    std::size_t links_ = 0;
    std::size_t cores_end_ = 0;             // cores stand between the written machines and it
    std::vector<std::uint32_t> peering_of_; // by link, behind the written ones
    std::map<std::size_t, std::size_t>
        written_routes_;             // by machine that has others: how many are written
    std::set<std::size_t> dhcp_;     // subnets
    std::set<std::size_t> prefixes_; // subnets that have those of the physical network
};

} // namespace jackal::plan
