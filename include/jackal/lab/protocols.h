// What machines are told of routing protocols, with all names looked up.
#pragma once

#include "jackal/lab/table.h"
#include "jackal/net/prefix.h"
#include "jackal/plan/protocols.h"

#include <optional>

namespace jackal::lab {

struct Machine;
struct Nic;
using PolicyId = Id<plan::Policy>; ///< position in Plan::policies

/// See plan::Redistribution.
struct Redistribution {
    plan::RouteSource from = plan::RouteSource::connected;
    std::optional<std::uint32_t> metric;
    std::uint8_t type = 2;
    PolicyId policy; ///< or none
};

/// What OSPF is told of a NIC.
struct OspfNic {
    Id<Nic> nic;
    std::uint32_t area = 0;
    std::uint32_t hello_s = 10; ///< RFC 2328 appendix C.3
    std::uint32_t dead_s = 40;
    std::uint16_t cost = 10;
    std::uint8_t priority = 1;
    bool passive = false;
    bool point_to_point = false;
    plan::Mark at; ///< of its area's entry
};

struct OspfRange {
    std::uint32_t area = 0;
    net::Prefix prefix;
};

/// A link of the backbone through another area (RFC 2328 section 15).
struct OspfVirtualLink {
    std::uint32_t area = 0;
    Id<Machine> to;
    plan::Mark at;
};

/// What external routes an area takes.
enum class AreaKind : std::uint8_t {
    normal, ///< all
    stub,   ///< none (RFC 2328 section 3.6)
    nssa,   ///< those that its own routers bring in (RFC 3101)
};

struct Ospf {
    std::vector<OspfNic> nics; ///< by NIC
    std::vector<std::uint32_t> stubs;
    std::vector<std::uint32_t> nssas;
    std::vector<OspfRange> ranges;
    std::vector<OspfVirtualLink> virtual_links;
    std::vector<Redistribution> redistribute;
    plan::DefaultRoute default_route = plan::DefaultRoute::none;
    plan::Mark at;

    AreaKind kind_of(std::uint32_t area) const;
    /// What is said of the NIC, or null. O(log n).
    JACKAL_API const OspfNic* on(Id<Nic> nic) const;
};

struct RipNic {
    Id<Nic> nic;
    std::uint16_t cost = 1;
    bool passive = false;
};

struct Rip {
    std::vector<RipNic> nics; ///< by NIC
    bool split_horizon = true;
    std::vector<Redistribution> redistribute;
    plan::DefaultRoute default_route = plan::DefaultRoute::none;
    std::uint32_t update_s = 30;
    plan::Mark at;

    /// What is said of the NIC, or null. O(log n).
    JACKAL_API const RipNic* on(Id<Nic> nic) const;
};

/// The addresses of one session of BGP.
struct BgpEnds {
    net::Address own;
    net::Address peer;
};

struct BgpNeighbour {
    std::string name;                  ///< as the plan writes it
    Id<Machine> machine;               ///< that has the address; none if nobody does
    std::optional<BgpEnds> session[2]; ///< over IPv4 and IPv6
    std::uint32_t as = 0;              ///< that it is expected in
    PolicyId takes;                    ///< or none
    PolicyId gives;                    ///< or none
    bool next_hop_self = false;
    bool distant = false;
    bool client = false; ///< of a route reflector (RFC 4456)
    bool up = true;
    plan::Mark at;
};

struct Bgp {
    std::uint32_t as = 0;
    std::vector<net::Prefix> networks;
    std::vector<BgpNeighbour> neighbours;
    std::vector<Redistribution> redistribute;
    plan::DefaultRoute default_route = plan::DefaultRoute::none;
    bool equal_paths = false;
    std::uint32_t hold_s = 90;
    std::optional<net::Address> cluster_id; ///< if it is not the router id
    plan::Mark at;
};

/// A machine that speaks a routing protocol.
struct Speaker {
    Id<Machine> machine;
    /// As given; else the highest IPv4 address of its loopback, else of all its NICs; or nothing.
    std::optional<net::Address> router_id;
    bool router_id_written = false;
    plan::Mark router_id_at;
    std::optional<Ospf> ospf;
    std::optional<Rip> rip;
    std::optional<Bgp> bgp;
};

using SpeakerId = Id<Speaker>;

} // namespace jackal::lab
