// Writing the planner's choices into the plan file itself, so that they stay.
#pragma once

#include "jackal/api.h"
#include "jackal/lab/finding.h"
#include "jackal/plan/read.h"

#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace jackal::exports {

/// A plan file with its choices pinned, or what is in the way.
struct Pinning {
    std::optional<std::string> text; ///< the whole file; set if and only if problems is empty
    std::size_t kept = 0;            ///< prefixes and addresses that were pinned already
    std::size_t added = 0;           ///< those that are pinned now as well
    std::vector<plan::Problem> problems;
};

/// The text of a plan with a section `pinned` that holds every prefix and address that was chosen,
/// and nothing for entries that are gone. Every other byte stays. The result is read and built
/// again, and only given back if it means the same lab. Pinning its result gives the same bytes.
JACKAL_API Pinning pin(std::string_view text, const std::string& source,
                       const plan::Settings& settings = {});

/// One thing that has other addresses after a renumbering.
struct Renumbered {
    std::string what; ///< "site skerry", "subnet lamp", "fog-horn/eth0", "gateway of lamp"
    std::string before;
    std::string after;
    bool meant = true; ///< false for what moves only because it is not pinned
};

/// A plan file with other addresses for a site or subnet, or what is in the way.
struct Renumbering {
    std::optional<std::string> text; ///< the whole file; set if and only if problems is empty
    std::vector<Renumbered> table;
    std::vector<lab::Finding> brought; ///< errors that the plan does not have yet
    std::vector<plan::Problem> left;   ///< values in the old range that may be another site's
    std::vector<plan::Problem> problems;
};

/// Moves a site (the spaces of `to`'s family that the plan writes for it) or a subnet (a prefix
/// written for it, or pinned) to `to`, and with it every address, prefix and range in the file that
/// is part of it: of NICs, gateways, routes, pools, pins, expectations. Offsets stay where `to` has
/// room for them; in a smaller space all prefixes are placed anew. Every other byte stays.
JACKAL_API Renumbering renumber(std::string_view text, const std::string& source,
                                const plan::Settings& settings, std::string_view name,
                                const net::Prefix& to);

} // namespace jackal::exports
