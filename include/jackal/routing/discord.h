// Why two machines do not exchange routes, in words, and what mends it.
#pragma once

#include "jackal/lab/finding.h"
#include "jackal/routing/learned.h"

namespace jackal::routing {

/// What the two ends of a neighbour that is not full differ in, with the values of both. Its
/// discord must not be none.
JACKAL_API lab::Finding describe(const lab::Lab& lab, const Neighbour& neighbour);

/// A protocol that does not come to rest.
JACKAL_API lab::Finding describe(const lab::Lab& lab, const Dispute& dispute);

/// True for what may well be meant: a passive NIC, one that the protocol is not told of, a session
/// that is to stay down.
JACKAL_API bool may_be_meant(Discord discord);

/// All that keeps machines from exchanging routes, and disputes; one finding for both ends.
JACKAL_API std::vector<lab::Finding> protocol_findings(const lab::Lab& lab, const Learned& learned);

} // namespace jackal::routing
