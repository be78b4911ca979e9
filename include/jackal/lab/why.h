// Why a subnet, link or loopback has the prefix that it has.
#pragma once

#include "jackal/api.h"
#include "jackal/lab/lab.h"
#include "jackal/plan/complete.h"

namespace jackal::lab {

/// How a prefix was chosen.
struct Reason {
    enum class Kind : std::uint8_t {
        none,    ///< it has no prefix of the family
        written, ///< in the plan
        pinned,  ///< an earlier choice that the plan keeps
        placed,  ///< the planner put it in the smallest free block that held it
        derived, ///< an IPv6 subnet whose number is read from its IPv4 prefix
    };
    Kind kind = Kind::none;
    std::optional<net::Prefix> block; ///< of placed: the free block that it was cut from
    plan::Mark at;                    ///< of written and pinned
};

/// How many IPv4 addresses a subnet asks for, and what for. All are 0 if it asks for none.
struct Wanted {
    std::uint64_t hosts = 0;
    std::uint64_t growth = 0;
    std::uint64_t gateway = 0;  ///< 0 or 1
    std::uint64_t reserved = 0; ///< counted from the first address, see plan::Places

    std::uint64_t sum() const { return hosts + growth + gateway + reserved; }
};

/// What the `hosts` of a subnet come to.
JACKAL_API Wanted wanted(const plan::Subnet& subnet);

/// Why the segments of a plan have their prefixes: the planner's choices, made once more.
struct Reasons {
    std::vector<PerFamily<Reason>> subnets;   ///< parallel to Plan::subnets
    std::vector<PerFamily<Reason>> links;     ///< parallel to Plan::links
    std::vector<PerFamily<Reason>> loopbacks; ///< parallel to Plan::machines
};

/// Throws std::invalid_argument where lab::build does.
JACKAL_API Reasons reasons(const plan::Complete& plan);

} // namespace jackal::lab
