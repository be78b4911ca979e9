// What a builder tells a machine of routing protocols: OSPF (RFC 2328, RFC 5340), RIP (RFC 2453,
// RFC 2080) and BGP (RFC 4271, RFC 4760). One entry stands for both address families.
#pragma once

#include "jackal/api.h"
#include "jackal/net/prefix.h"
#include "jackal/plan/mark.h"
#include "jackal/rare.h"

#include <chrono>
#include <optional>
#include <string>
#include <variant>
#include <vector>

namespace jackal::plan {

/// Where a route may come from that a protocol passes on.
enum class RouteSource : std::uint8_t { connected, static_routes, ospf, rip, bgp };

/// "connected", "static", "ospf", "rip" or "bgp".
JACKAL_API std::string_view to_string(RouteSource source);

/// Routes of another source that a protocol announces too.
struct Redistribution {
    RouteSource from = RouteSource::connected;
    std::optional<std::uint32_t> metric; ///< unset: the protocol's default
    std::uint8_t type = 2;               ///< of OSPF external routes, 1 or 2 (RFC 2328 section 2.3)
    Placed<std::string> policy;          ///< passes only what this accepts; empty: all
    WrittenAt at;

    friend bool operator==(const Redistribution&, const Redistribution&) = default;
};

/// Whether a protocol announces a default route: if the machine has one from elsewhere, or always.
enum class DefaultRoute : std::uint8_t { none, held, always };

/// NICs by name.
struct NicList {
    bool all = false; ///< every NIC that no other list of the entry names, and the loopback
    std::vector<Placed<std::string>> names;

    friend bool operator==(const NicList&, const NicList&) = default;
};

template <class Value>
struct NicValue {
    Placed<std::string> nic;
    Value value{};

    friend bool operator==(const NicValue&, const NicValue&) = default;
};

struct OspfArea {
    std::uint32_t number = 0;
    NicList nics;
    WrittenAt at;

    friend bool operator==(const OspfArea&, const OspfArea&) = default;
};

/// A range of an area that its border routers announce as one (RFC 2328 section 3.5).
struct OspfRange {
    std::uint32_t area = 0;
    Placed<net::Prefix> prefix;

    friend bool operator==(const OspfRange&, const OspfRange&) = default;
};

/// A link of the backbone through another area, to a machine there (RFC 2328 section 15).
struct OspfVirtualLink {
    std::uint32_t area = 0;
    Placed<std::string> to;

    friend bool operator==(const OspfVirtualLink&, const OspfVirtualLink&) = default;
};

struct Ospf {
    std::vector<OspfArea> areas;
    std::vector<Placed<std::uint32_t>> stubs; ///< areas that take no external routes
    std::vector<Placed<std::uint32_t>> nssas; ///< or none but those that they bring in (RFC 3101)
    std::vector<OspfRange> ranges;
    std::vector<OspfVirtualLink> virtual_links;
    std::vector<NicValue<std::uint16_t>> costs;
    std::vector<NicValue<std::uint32_t>> hello_s;
    std::vector<NicValue<std::uint32_t>> dead_s;
    std::vector<NicValue<std::uint8_t>> priorities;
    std::vector<NicValue<bool>> point_to_point; ///< true: such a network; false: broadcast
    std::vector<Placed<std::string>> passive;   ///< NICs: announced, but without neighbours
    std::vector<Redistribution> redistribute;
    DefaultRoute default_route = DefaultRoute::none;
    WrittenAt at;

    friend bool operator==(const Ospf&, const Ospf&) = default;
};

struct Rip {
    NicList nics;
    std::vector<NicValue<std::uint16_t>> costs; ///< hops that a NIC adds; unset: 1
    std::vector<Placed<std::string>> passive;   ///< NICs: heard, but nothing is sent by them
    bool split_horizon = true;                  ///< RFC 2453 section 3.4.3
    std::vector<Redistribution> redistribute;
    DefaultRoute default_route = DefaultRoute::none;
    std::uint32_t update_s = 30;
    WrittenAt at;

    friend bool operator==(const Rip&, const Rip&) = default;
};

struct BgpNeighbour {
    Placed<std::variant<net::Address, std::string>> peer; ///< an address, or a machine
    std::uint32_t as = 0;                                 ///< that it is expected in
    Placed<std::string> from;   ///< the NIC whose address the session uses; empty: by the way there
    Placed<std::string> takes;  ///< the policy for what it announces; empty: all is accepted
    Placed<std::string> gives;  ///< the policy for what is announced to it; empty: all
    bool next_hop_self = false; ///< inside an AS: announces itself as the next hop
    bool distant = false;       ///< of another AS, and not on a shared subnet
    Placed<bool> client;        ///< inside an AS: paths are reflected to it and from it (RFC 4456)
    bool up = true;
    WrittenAt at;

    friend bool operator==(const BgpNeighbour&, const BgpNeighbour&) = default;
};

struct Bgp {
    std::uint32_t as = 0;
    std::vector<Placed<std::variant<net::Prefix, std::string>>> networks; ///< prefixes and subnets
    std::vector<BgpNeighbour> neighbours;
    std::vector<Redistribution> redistribute;
    DefaultRoute default_route = DefaultRoute::none;
    bool equal_paths = false; ///< uses paths that differ in nothing but the neighbour together
    std::uint32_t hold_s = 90;
    std::optional<net::Address> cluster_id; ///< of a reflector; its router id if unset
    WrittenAt at;

    friend bool operator==(const Bgp&, const Bgp&) = default;
};

/// What a machine is told of routing protocols.
struct Protocols {
    std::optional<Placed<net::Address>> router_id; ///< unset: chosen, see lab::Speaker
    Rare<Ospf> ospf;
    Rare<Rip> rip;
    Rare<Bgp> bgp;

    friend bool operator==(const Protocols&, const Protocols&) = default;
};

/// A community of a path (RFC 1997), as `64512:100`.
using Community = std::uint32_t;

/// One rule of a policy. What is not set matches any.
struct PolicyRule {
    bool accepts = false;
    std::vector<Placed<net::Prefix>> prefixes; ///< these, and with `longer` all that they hold
    bool longer = false;
    std::vector<Community> communities;      ///< has one of them
    std::optional<std::uint32_t> passed_as;  ///< its AS path has that number
    std::optional<std::uint32_t> preference; ///< set to that
    std::optional<std::uint32_t> med;        ///< set to that
    std::uint8_t prepend = 0;                ///< one's own AS number so many times more
    std::vector<Community> add_communities;
    WrittenAt at;

    friend bool operator==(const PolicyRule&, const PolicyRule&) = default;
};

/// Rules for paths of BGP and for what is redistributed; the first that matches decides.
struct Policy {
    std::string name;
    std::string about;
    bool accepts = false; ///< what no rule names
    WrittenAt default_at; ///< unset if the plan does not say
    std::vector<PolicyRule> rules;
    WrittenAt at;

    friend bool operator==(const Policy&, const Policy&) = default;
};

/// `64512:100` as a number, or nothing.
JACKAL_API std::optional<Community> parse_community(std::string_view text);
JACKAL_API std::string community_text(Community community);

} // namespace jackal::plan
