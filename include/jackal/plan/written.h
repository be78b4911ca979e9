// What of a plan is written, as those need it who change it.
#pragma once

#include "jackal/api.h"
#include "jackal/plan/complete.h"

namespace jackal::plan {

/// All of a plan, or that part of a whole one that was written. It refers to what it is made of.
class JACKAL_API Written {
  public:
    Written(const Plan& plan) : plan_(plan) {}
    Written(const Complete& whole) : plan_(whole.entries()), whole_(&whole) {}

    /// Among its entries may be others than the written ones.
    const Plan& entries() const { return plan_; }
    /// The entry of that name, or null. O(1) of a whole plan.
    const Machine* machine(std::string_view name) const;
    const Subnet* subnet(std::string_view name) const;
    const Site* site(std::string_view name) const;
    /// The site whose core has that name, or null if a machine has it.
    const Site* site_of_core(std::string_view name) const;
    /// How many links are written.
    std::size_t links() const;
    /// A machine's own routes.
    std::span<const Route> routes(const Machine& machine) const;
    bool has_prefixes(const Subnet& subnet) const;
    bool has_dhcp(const Subnet& subnet) const;

  private:
    const Plan& plan_;
    const Complete* whole_ = nullptr; // null: all is written
};

} // namespace jackal::plan
