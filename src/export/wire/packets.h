// Addresses, errors and pieces of packets for libtins, as captures and the wire both need them.
#pragma once

#include "jackal/export/wire.h"
#include "jackal/probe/sightings.h"

#include <tins/ethernetII.h>
#include <tins/icmp.h>
#include <tins/icmpv6.h>
#include <tins/ip.h>
#include <tins/ipv6.h>

namespace jackal::exports {

Tins::IPv4Address to_ipv4(net::Address address);
Tins::IPv6Address to_ipv6(net::Address address);
Tins::HWAddress<6> to_hardware(net::Mac mac);

/// The header of an error (RFC 792, RFC 1191); `mtu_bytes` for packet_too_big.
Tins::ICMP icmp_error(packet::IcmpError error, unsigned mtu_bytes);
/// The same of IPv6 (RFC 4443).
Tins::ICMPv6 icmpv6_error(packet::IcmpError error, unsigned mtu_bytes);

/// A piece of a packet (RFC 791 section 3.2; RFC 8200 section 4.5): of the bytes behind its header
/// so many from `first` on. `whole` is the packet as it is sent, `like` its header.
Tins::IP piece_of(const Tins::IP& like, const Bytes& whole, const probe::Fragment& piece);
Tins::IPv6 piece_of(const Tins::IPv6& like, const Bytes& whole, const probe::Fragment& piece,
                    std::uint32_t id);

} // namespace jackal::exports
