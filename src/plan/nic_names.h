// What the NICs of a plan are called: as it writes, as it keeps from an earlier planning, or `eth`
// and a number.
#pragma once

#include "jackal/plan/plan.h"

#include <unordered_map>

namespace jackal::plan {

/// Linux's IFNAMSIZ has room for one letter more.
constexpr std::size_t longest_nic_name = 15;

/// True if Linux and a plan take the name for a NIC.
bool can_name_nic(const std::string& name);

/// Refers to the plan, which must outlive it and keep its machines and links.
class NicNames {
  public:
    explicit NicNames(const Plan& plan);

    /// The name of machine number `machine`'s NIC at `position`, those of links counted after those
    /// written at the machine, in the order of Plan::links: its own, else the pinned one, else
    /// nic_name(), or the next `eth` and number that is free where that is another's.
    std::string name(std::size_t machine, std::size_t position) const;

  private:
    const Plan& plan_;
    std::unordered_map<std::size_t, std::vector<std::string>>
        named_; // where not all is by position
};

/// The names by which Pins::links and Pins::nics mean links, one after another (see link_names).
class LinkNamer {
  public:
    std::string next(const Link& link);

  private:
    std::unordered_map<std::string, int> seen_;
};

} // namespace jackal::plan
