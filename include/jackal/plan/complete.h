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
#include "jackal/plan/name_index.h"
#include "jackal/plan/plan.h"

#include <map>
#include <memory>
#include <set>
#include <span>

namespace jackal::plan {

/// What a Complete consists of.
struct CompleteParts {
    Plan entries;          ///< the written ones first in each list, then those that were made
    std::size_t sites = 0; ///< how many are written
    std::size_t subnets = 0;
    std::size_t machines = 0;
    std::size_t links = 0;
    std::size_t cores_end = 0;             ///< cores stand between the written machines and it
    std::vector<std::uint32_t> peering_of; ///< by link, behind the written ones
    /// By machine that has others: how many routes are written.
    std::map<std::size_t, std::size_t> written_routes;
    std::set<std::size_t> dhcp;     ///< subnets whose range comes with their uplink
    std::set<std::size_t> prefixes; ///< subnets that have those of the physical network
    NameIndex site_index;           ///< of all entries
    NameIndex subnet_index;
    NameIndex machine_index;
    NameIndex filter_index;
};

/// Copies share what they consist of, also between threads.
class JACKAL_API Complete {
  public:
    /// That of a plan in which nothing is written.
    Complete();
    /// Throws std::invalid_argument with the first of problems(plan) if there are any.
    explicit Complete(Plan plan);

    /// The same, unless the plan has problems, which are added to the list.
    static std::optional<Complete> of(Plan plan, std::vector<Problem>& problems);

    /// All entries: the written ones first in each list, then those that were made.
    const Plan& entries() const { return parts_->entries; }

    /// What was written alone.
    Plan written() const;

    /// The number of an entry by its name, or nothing. O(1).
    std::optional<std::uint32_t> site(std::string_view name) const;
    std::optional<std::uint32_t> subnet(std::string_view name) const;
    std::optional<std::uint32_t> machine(std::string_view name) const;
    std::optional<std::uint32_t> filter(std::string_view name) const;

    bool is_outside_site(std::size_t row) const { return row >= parts_->sites; }
    bool is_outside_subnet(std::size_t row) const { return row >= parts_->subnets; }
    bool is_written_machine(std::size_t row) const { return row < parts_->machines; }
    bool is_core(std::size_t machine) const {
        return machine >= parts_->machines && machine < parts_->cores_end;
    }
    bool is_outside(std::size_t machine) const { return machine >= parts_->cores_end; }
    /// How many links are written; those come first.
    std::size_t written_links() const { return parts_->links; }
    /// The peering that a link stands for, or nothing for one that is written or outside.
    std::optional<std::uint32_t> peering_of(std::size_t link) const {
        return link >= parts_->links && link - parts_->links < parts_->peering_of.size()
                   ? std::optional(parts_->peering_of[link - parts_->links])
                   : std::nullopt;
    }
    /// True if the route comes with a peering, or is the core's way outside.
    bool is_implied_route(std::size_t machine, std::size_t route) const {
        return route >= written_routes(machine);
    }
    /// How many of the machine's routes are written, or those of its site; they come first.
    std::size_t written_routes(std::size_t machine) const {
        auto found = parts_->written_routes.find(machine);
        return found == parts_->written_routes.end() ? entries().machines[machine].routes.size()
                                                     : found->second;
    }
    /// True if the subnet has the prefixes of the physical network.
    bool has_implied_prefixes(std::size_t subnet) const {
        return parts_->prefixes.contains(subnet);
    }
    /// True if the DHCP range of the subnet comes with its uplink.
    bool is_implied_dhcp(std::size_t subnet) const { return parts_->dhcp.contains(subnet); }

  private:
    explicit Complete(std::shared_ptr<const CompleteParts> parts) : parts_(std::move(parts)) {}

    std::shared_ptr<const CompleteParts> parts_;
};

} // namespace jackal::plan
