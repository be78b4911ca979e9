// What a real routing daemon is told, so that it does on a machine what the plan says.
#pragma once

#include "jackal/api.h"
#include "jackal/routing/settled.h"

#include <string>
#include <vector>

namespace jackal::exports {

/// A file of settings for BIRD 2 (2.0.12 or later), with the lines of the plan in comments; empty
/// if the machine speaks no routing protocol or its NICs are all down. Static routes are those that
/// the kernel has. The same lab and condition give the same bytes.
JACKAL_API std::string bird_settings(const routing::Settled& settled, lab::MachineId machine);

/// What BIRD does otherwise than the plan says, a sentence each.
JACKAL_API std::vector<std::string> bird_notes(const routing::Settled& settled,
                                               lab::MachineId machine);

/// How long BIRD may take to fill all tables, at most: the longest dead interval of the lab, in
/// which designated routers are elected (RFC 2328 section 9.4), the longest update interval of RIP,
/// and what sessions of BGP need.
JACKAL_API std::chrono::seconds longest_settling(const lab::Lab& lab);

} // namespace jackal::exports
