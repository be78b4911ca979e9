// Proof that no packet gets from some machines to others, nor from those to these.
#pragma once

#include "jackal/reach/verify.h"

namespace jackal::reach {

/// Asks for all that `ones` can send to `others`, and these to them: from each of their addresses
/// to each of the others', and to whatever a translation sends on to those; ICMP, TCP and UDP with
/// every port, OSPF, and any other protocol, with a TTL of 64. What one packet shows for all ports
/// that no rule tells apart is asked once (reach/services.h). Fills in `pairs`, `failed` and the
/// rest of the verdict.
void verify_apart(const routing::Settled& settled, const std::vector<probe::Endpoint>& ones,
                  const std::vector<probe::Endpoint>& others, Verdict& verdict);

} // namespace jackal::reach
