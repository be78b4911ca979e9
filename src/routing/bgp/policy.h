// What policies make of the paths that pass them.
#pragma once

#include "jackal/routing/learned.h"

namespace jackal::routing {

/// True if the community is among them.
bool has(const std::vector<plan::Community>& communities, plan::Community wanted);

/// True if the policy accepts the path to the prefix, which it may change; without a policy all is
/// accepted. `own_as` is what it prepends.
bool apply(const lab::Lab& lab, lab::PolicyId policy, const net::Prefix& to, Path& path,
           std::uint32_t own_as);

} // namespace jackal::routing
