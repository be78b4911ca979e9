// Ends that nothing tells apart but what comes of their own addresses.
#pragma once

#include "jackal/reach/matrix.h"
#include "reach/engine/packets.h"

namespace jackal::reach {

struct EndClass {
    std::vector<std::uint32_t> members; ///< positions among the ends, ascending
    lab::AddressId first;               ///< of the first member, and of the second if there is one
    lab::AddressId second;
    /// An address that others have too, or a broadcast address: nothing short of a walk is exact.
    bool is_walked = false;
    /// Of machines with one NIC that only send and take.
    bool is_host = false;
    /// A host that has but a default route. What it sends to others than its neighbours is taken by
    /// `gateway`; if that is none, by nobody.
    bool is_plain = false;
    lab::NicId gateway;
};

/// Finds who takes what a plain host sends to others than its neighbours: `gateway`, and that it is
/// plain; or it is not.
void find_gateway(const routing::Settled& settled, const Packets& packets, EndClass& host);

/// The classes of `ends`, plain ones of one gateway side by side.
std::vector<EndClass> classes(const routing::Settled& settled,
                              const std::vector<lab::AddressId>& ends, const Packets& packets);

} // namespace jackal::reach
