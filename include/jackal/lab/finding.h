// Mistakes in a plan that can be told without sending a packet.
#pragma once

#include "jackal/api.h"
#include "jackal/lab/lab.h"
#include "jackal/lab/wiring.h"
#include "jackal/plan/cause.h"
#include "jackal/plan/edit.h"

namespace jackal::lab {

enum class Severity : std::uint8_t {
    warning, ///< likely not meant, but the lab can work
    error,   ///< something in the lab cannot work
};

/// "warning" or "error".
JACKAL_API std::string_view to_string(Severity severity);

/// What would mend something: changes of the plan, or advice where no change is certain.
struct Remedy {
    enum class Proof : std::uint8_t {
        untried,
        mends,          ///< tried on a copy of the plan: what it is proposed for is gone
        more_is_needed, ///< tried, and it is not
    };
    std::vector<plan::Edit> edits;
    std::string advice;
    Proof proof = Proof::untried;
};

/// The remedy as one line for each change, in the plan's own terms.
JACKAL_API std::vector<std::string> to_lines(const Remedy& remedy);

struct Finding {
    plan::Cause cause;
    Severity severity = Severity::error;
    std::string subject; ///< what it is about: a subnet, a machine, MACHINE/NIC
    std::string message; ///< one sentence with the names and addresses of the case
    Remedy remedy;
    plan::Mark at;
    std::string from = {}; ///< of a pair without a reply: who asked,
    std::string to = {};   ///< and who was asked
    /// The position of another, among the same, whose remedy mends this one, too.
    std::optional<std::size_t> follows = {};
};

/// Why two NICs of a subnet do not hear each other, in words, and what mends it.
JACKAL_API Finding describe(const Lab& lab, const Apart& apart);

/// Why a NIC got no address by DHCP, and what mends it.
JACKAL_API Finding describe(const Lab& lab, const Lease& lease);

/// The remedy without changes of what is outside the lab (see plan::Complete): advice instead.
JACKAL_API Remedy within(Remedy remedy);

/// All findings about the lab, in the order of their lines. O(n log n) in the size of the lab.
JACKAL_API std::vector<Finding> findings(const Lab& lab);

/// Sorts by line, column and cause, and drops repetitions.
JACKAL_API void sort_findings(std::vector<Finding>& findings);

} // namespace jackal::lab
