// Answers in short English, for tables and for the texts inside JSON.
#pragma once

#include "jackal/api.h"
#include "jackal/packet/walk.h"

namespace jackal::exports {

/// Why the machine of step number `step` did what it did: "default via 10.40.0.1 (quay-r1)".
JACKAL_API std::string step_detail(const routing::Settled& settled, const packet::Journey& journey,
                                   std::size_t step);

/// "written", "gateway", "next free" or "link".
JACKAL_API std::string_view to_string(lab::AddressOrigin origin);

} // namespace jackal::exports
