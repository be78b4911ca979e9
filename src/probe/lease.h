// How a NIC gets its address from a DHCP server (RFC 2131), by a relay where there is one.
#pragma once

#include "jackal/packet/walk.h"

namespace jackal::probe {

constexpr std::uint16_t dhcp_server_port = 67; // RFC 2131 section 4.1
constexpr std::uint16_t dhcp_client_port = 68;
constexpr unsigned lease_bytes = 328; // of a message; of BOOTP at least 300 (RFC 1542 section 2.1)

struct LeaseWay {
    const lab::Lease* lease = nullptr;
    net::Address server;
    net::Address here; ///< of the server or its relay, on the segment of the NIC
    /// Between a relay and its server: what the relay passes on, and what it is answered.
    std::optional<packet::Journey> out;
    std::optional<packet::Journey> back;
};

/// Nothing if the NIC has no lease, or nobody gives it one now.
std::optional<LeaseWay> lease_way(const routing::Settled& settled, lab::NicId nic);

} // namespace jackal::probe
