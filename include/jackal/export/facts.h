// What real machines say of themselves, as iproute2, sysctl and nftables print it, and the script
// that asks them.
#pragma once

#include "jackal/api.h"
#include "jackal/reach/drift.h"

#include <map>
#include <string>
#include <vector>

namespace jackal::exports {

/// A shell script that asks all machines of the lab, by ssh or in their namespaces, and puts what
/// they say into one folder for each; see docs/drift.md.
JACKAL_API std::string gather_script(const lab::Lab& lab);

/// What one machine said: texts by the names of the files that the script writes. What is no such
/// text is a problem, `kettle/route.json:3:7: …`, and left out.
JACKAL_API reach::FoundMachine found_machine(const std::string& name,
                                             const std::map<std::string, std::string>& files,
                                             std::vector<std::string>& problems);

/// A plan of machines that exist: subnets from addresses, links from pairs, routers from
/// forwarding, static routes. What is guessed, or not taken over, is said in comments.
JACKAL_API std::string adopted_plan(const std::string& name, const reach::Facts& facts);

} // namespace jackal::exports
