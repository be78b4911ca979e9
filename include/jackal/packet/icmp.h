// The error messages that machines send of packets they drop (RFC 792, RFC 4443).
#pragma once

#include "jackal/api.h"
#include "jackal/packet/walk.h"

namespace jackal::packet {

/// The error message that the journey's last machine sends back to the packet's source.
enum class IcmpError : std::uint8_t {
    none,
    net_unreachable,  ///< RFC 792 type 3 code 0; RFC 4443 type 1 code 0
    host_unreachable, ///< RFC 792 type 3 code 1; RFC 4443 type 1 code 3
    time_exceeded,    ///< RFC 792 type 11 code 0; RFC 4443 type 3 code 0
    packet_too_big,   ///< RFC 1191 type 3 code 4; RFC 4443 type 2
    port_unreachable, ///< RFC 792 type 3 code 3; RFC 4443 type 1 code 4
};

/// "net unreachable", "host unreachable", …; empty for none.
JACKAL_API std::string_view to_string(IcmpError error);

/// Which error `ending` gives; it is told to the sender's own program if the machine is the sender.
JACKAL_API IcmpError icmp_error(Ending ending);

/// The TTL of the packet as the error quotes it: as it came, but counted down by a router that then
/// looked for the neighbour in vain.
JACKAL_API int quoted_ttl(const Journey& failed);

/// The address that the journey's last machine sends its error from: in IPv4 as for any packet back
/// to the source, in IPv6 one of the NIC that the packet came in by, as Linux chooses it. Nothing
/// if it has none, or sends none.
JACKAL_API std::optional<net::Address> error_source(const routing::Settled& settled,
                                                    const Journey& journey);

} // namespace jackal::packet
