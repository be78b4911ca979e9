// What a plan means: flat tables of machines, NICs, segments and addresses.
//
// A Lab is made from a plan by lab::build and never changes. Rows refer to each other by typed
// id; a machine's NICs, a NIC's addresses and a machine's static routes are contiguous, so each is
// a first id and a count. Row order follows the plan, so the same plan gives the same ids.
//
//     lab::Lab lab = lab::build(plan);
//     for (lab::NicId nic : lab.nics_of(*lab.machine("tide-gauge"))) …
#pragma once

#include "jackal/api.h"
#include "jackal/lab/filter.h"
#include "jackal/lab/protocols.h"
#include "jackal/lab/table.h"
#include "jackal/plan/complete.h"
#include "jackal/plan/sites.h"
#include "jackal/rare.h"

#include <array>
#include <optional>
#include <span>
#include <string>

namespace jackal::lab {

struct Site;
struct Pool;
struct Subnet;
struct Segment;
struct Machine;
struct Nic;
struct InterfaceAddress;
struct StaticRoute;
struct Link;
struct Peering;
struct Guard;
struct Duties;
struct Switch;
struct Port;
struct Cable;
struct Lease;

using SiteId = Id<Site>;
using PoolId = Id<Pool>;
using SubnetId = Id<Subnet>;
using SegmentId = Id<Segment>;
using MachineId = Id<Machine>;
using NicId = Id<Nic>;
using AddressId = Id<InterfaceAddress>;
using RouteId = Id<StaticRoute>;
using LinkId = Id<Link>;
using PeeringId = Id<Peering>;
using FilterId = Id<Filter>;
using GuardId = Id<Guard>;
using DutiesId = Id<Duties>;
using SwitchId = Id<Switch>;
using PortId = Id<Port>;
using CableId = Id<Cable>;

/// A NIC with a smaller MTU than this speaks no IPv6 (RFC 8200 section 5).
constexpr std::uint16_t ipv6_minimum_mtu_bytes = 1280;

/// The metric of connected routes on Linux.
constexpr std::uint32_t connected_metric(net::Family family) {
    return family == net::Family::ipv6 ? 256 : 0;
}

/// One value for each address family.
template <class T>
struct PerFamily {
    T ipv4{};
    T ipv6{};

    T& operator[](net::Family f) { return f == net::Family::ipv4 ? ipv4 : ipv6; }
    const T& operator[](net::Family f) const { return f == net::Family::ipv4 ? ipv4 : ipv6; }
};

/// What machines take together.
struct Totals {
    std::uint64_t machines = 0;
    std::uint64_t cpus = 0;
    std::uint64_t memory_mib = 0;
    std::uint64_t disk_mib = 0;
};

struct Site {
    std::string name; ///< empty for the site that a plan without sites stands on
    std::vector<net::Prefix> space;
    bool space_chosen = false; ///< by the planner: the plan gives the site none
    bool outside = false;      ///< not written in the plan (see plan::Complete)
    bool automatic = false;    ///< its core does the routing
    MachineId core;            ///< of an automatic site that it joins subnets of, or none
    MachineId relay;           ///< that passes on what its peers send each other, or none
    Totals totals;             ///< of the machines whose first NIC is on the site
    plan::Mark at;
};

/// Address space that only links and loopbacks get prefixes from.
struct Pool {
    std::string name;
    std::vector<net::Prefix> space;
};

struct Subnet {
    std::string name;
    SiteId site;
    SegmentId segment;
    PerFamily<std::optional<net::Address>> gateway;
    plan::SubnetGateway::Kind gateway_kind = plan::SubnetGateway::Kind::first;
    bool gateway_written = false; ///< the plan says where the gateway is
    bool prefix_written = false;  ///< the plan says which prefix it has
    plan::Mark gateway_at;
    std::vector<net::Range> reserved; ///< never given out: ascending, disjoint
    Rare<net::Range> dhcp;            ///< what its DHCP server gives out
    std::uint64_t hosts = 0;          ///< how many the plan wants room for, 0 if it does not say
    plan::Mark at;
    std::uint32_t plan_index = 0; ///< position in Plan::subnets
    std::uint16_t vlan = 0;       ///< that it says it is on the switches; 0 if it does not say
    plan::Uplink uplink = plan::Uplink::none;
    bool static_only = false; ///< no DHCP server is wanted
    bool outside = false;     ///< not written in the plan (see plan::Complete)

    /// The reserved range, or the DHCP range, that the address is part of; or null. O(log n).
    JACKAL_API const net::Range* set_aside(net::Address address) const;
};

/// One broadcast domain: that of a subnet, that of a link, or the loopback of a machine.
struct Segment {
    SubnetId subnet;    ///< none for links and loopbacks
    LinkId link;        ///< none for subnets and loopbacks
    MachineId loopback; ///< whose loopback it is, or none
    PerFamily<std::optional<net::Prefix>> prefix;
    std::vector<NicId> nics; ///< in the order of their ids
};

struct Machine {
    std::string name;
    plan::Sizes sizes;
    plan::MachineKind kind = plan::MachineKind::guest;
    PerFamily<bool> forwards; ///< the same for both, but in a lab that drift() has found
    bool up = true;
    bool outside : 1 = false; ///< not written in the plan (see plan::Complete)
    bool is_core : 1 = false; ///< of a site; not written in the plan (see plan::Complete)
    NicId first_nic;
    std::uint32_t nic_count = 0;
    RouteId first_route;
    std::uint32_t route_count = 0;
    DutiesId duties; ///< none if it has none
    plan::Mark at;
    std::uint32_t plan_index = 0; ///< position in Plan::machines

    /// True if it forwards packets of some family.
    bool forwards_any() const { return forwards.ipv4 || forwards.ipv6; }
};

struct Nic {
    MachineId machine;
    SegmentId segment;
    std::string name;
    net::Mac mac;
    bool up = true;
    bool shares_mac = false; ///< with another NIC on its segment
    std::uint16_t mtu_bytes = 1500;
    AddressId first_address;
    std::uint32_t address_count = 0;
    GuardId guard; ///< none if no filter stands on it
    plan::Mark at;
    std::uint32_t plan_index = 0; ///< position among the machine's NICs; links' come last

    /// True for the one that holds a machine's loopback addresses; it comes after all others.
    bool is_loopback() const { return name == "lo"; }
};

/// How an address came to its NIC.
enum class AddressOrigin : std::uint8_t {
    given,     ///< written in the plan
    gateway,   ///< the subnet's gateway address, taken by its first router
    automatic, ///< the next free one
    pinned,    ///< an earlier choice that the plan keeps
    link,      ///< an end of a link
    loopback,  ///< of the machine itself
    lease,     ///< from a DHCP server
    link_local ///< chosen by the machine itself, as no DHCP server gave one (RFC 3927)
};

struct InterfaceAddress {
    net::Address address;
    std::uint8_t length = 0; ///< of its prefix, in the family's own count
    AddressOrigin origin = AddressOrigin::automatic;
    NicId nic;
    plan::Mark at;

    net::Prefix prefix() const { return {address, length}; }
};

/// How a static route came about.
enum class RouteOrigin : std::uint8_t {
    written,           ///< one of the machine's routes, its next hop an address
    written_by_name,   ///< one of the machine's routes, its next hop a machine
    gateway_written,   ///< the machine's gateway
    gateway_automatic, ///< the gateway of the machine's subnet
    gateway_lease,     ///< came with a lease
    peering,           ///< of a peering, or of the core's way outside (see plan::Complete)
};

/// A route that the plan gives a machine, one for each family it covers.
struct StaticRoute {
    net::Prefix to;
    net::Address via;
    std::uint32_t metric = 0; ///< where the plan gives none: 0 in IPv4, 1024 in IPv6, as on Linux
    RouteOrigin origin = RouteOrigin::written;
    std::uint32_t plan_index = 0; ///< position in the machine's routes; unused for a gateway
    plan::Mark at;

    bool is_gateway() const {
        return origin >= RouteOrigin::gateway_written && origin <= RouteOrigin::gateway_lease;
    }
};

/// A route whose next hop was given as a machine that shares no segment with the route's owner.
struct UnresolvedRoute {
    MachineId machine;
    std::uint32_t plan_index = 0;
    std::vector<net::Prefix> to;
    std::string via;
    plan::Mark at;
};

/// A subnet, link, loopback, DHCP range or NIC for which no room was left.
struct Unplaced {
    std::string what; ///< "subnet quay wants a /24", "tide-gauge/eth0 wants an address"
    std::string why;
    std::string advice; ///< what to change where no edit makes room
    net::Family family = net::Family::ipv4;
    SiteId site;     ///< where a prefix was looked for; none if an address was
    SubnetId subnet; ///< none for a link
    int length = 0;  ///< of the prefix that was looked for
    plan::Mark at;
};

struct Link {
    NicId first;
    NicId second;
    SegmentId segment;
    PeeringId peering;                   ///< that it stands for (see plan::Complete), or none
    std::chrono::microseconds delay{0};  ///< one way
    std::chrono::microseconds jitter{0}; ///< one way, at most
    double loss = 0;                     ///< one way, 0 to 1
    /// Of a tunnel: the addresses of first and second that its outer packets travel between. Unset
    /// if the two have none of one family.
    Rare<std::array<net::Address, 2>> outer;
    bool up = true;
    bool is_tunnel = false; ///< see plan::Tunnel
    plan::Mark at;

    NicId other_end(NicId nic) const { return nic == first ? second : first; }
};

/// What a tunnel adds to each packet: an Ethernet header and those of VXLAN, UDP and IP (RFC 7348).
constexpr unsigned tunnel_overhead_bytes(net::Family outer) {
    return outer == net::Family::ipv4 ? 50 : 70;
}

/// The port that tunnels listen on (RFC 7348 section 5).
constexpr std::uint16_t tunnel_port = 4789;

/// Two sites, and what they consent to. See plan::Peering.
struct Peering {
    SiteId sites[2];
    plan::PeeringSide sides[2];
    plan::PeeringState state = plan::PeeringState::undeclared;
    std::vector<plan::Overlap> overlaps; ///< of blocked
    LinkId link;                         ///< between the two borders; none if the peering is not up
    std::chrono::microseconds delay{0};  ///< one way
    double hourly_cost = 0;              ///< in the builder's own currency
    bool within_region = false;
    plan::Mark at;
    std::uint32_t plan_index = 0; ///< position in Plan::peerings

    int side_of(SiteId site) const { return sites[0] == site ? 0 : sites[1] == site ? 1 : -1; }
};

struct Switch {
    std::string name;
    bool up = true;
    plan::Mark at;
};

/// See plan::SwitchPort.
struct Port {
    SwitchId owner;
    std::string name;
    bool is_trunk = false;
    bool up = true;
    std::uint16_t untagged = 0;
    std::vector<std::uint16_t> tagged; ///< ascending
    SegmentId segment;                 ///< that it is wired to, or none
    plan::Mark at;

    JACKAL_API bool carries(std::uint16_t vlan) const;
};

/// A wire between two switch ports.
struct Cable {
    PortId first;
    PortId second;
    bool up = true;
    plan::Mark at;
};

/// A wire of a NIC that is a bond, or that is on a switch port. Other NICs have none.
struct Plug {
    NicId nic;
    PortId port;            ///< none: directly on the segment
    std::uint16_t vlan = 0; ///< that it tags its frames with, or 0
    std::string member;     ///< its name in the bond; empty if the NIC is none
    bool up = true;
    plan::Mark at;
};

/// The filters that stand on a NIC; both must let a packet pass.
struct Guard {
    FilterId subnet; ///< that of its subnet, or none
    FilterId nic;    ///< its own, or none

    friend auto operator<=>(const Guard&, const Guard&) = default;
};

/// See plan::Translation.
struct Translation {
    plan::Translation::Kind kind = plan::Translation::Kind::source;
    NicId nic;
    bool any_source = true;
    std::vector<net::Prefix> from;
    net::Protocol protocol = net::Protocol::any;
    std::uint16_t port = 0;
    std::optional<net::Address> to; ///< unset if the machine of that name has no IPv4 address
    std::uint16_t to_port = 0;
    plan::Mark at;
};

/// What a machine does with packets besides forwarding them.
struct Duties {
    FilterId filter; ///< or none
    std::vector<Translation> translations;
    std::vector<net::Service> listens;
    std::vector<net::Address> dns; ///< name servers, those of leases last
};

/// What a NIC got that asked for an address by DHCP (RFC 2131).
struct Lease {
    enum class Refusal : std::uint8_t {
        none,
        no_server, ///< no server hears it
        range_dry, ///< the server has given all
    };
    NicId nic;
    Refusal refusal = Refusal::none;
    bool reserved = false; ///< the server keeps the address for this NIC
    SubnetId subnet;       ///< whose range it is from, or ran dry; none without a server
    NicId server;          ///< by which the server, or its relay, hears the NIC; none without one
    MachineId giver;       ///< the server; none without one
    net::Address address;
    std::chrono::seconds time{0};
    std::optional<net::Address> router;
    std::vector<net::Address> dns;

    friend bool operator==(const Lease&, const Lease&) = default;
};

/// Where a DHCP server is heard, and what it gives out there.
struct DhcpOffer {
    SubnetId subnet; ///< whose range it is
    MachineId giver;
    NicId heard_by;                ///< of the server, or of its relay
    std::vector<net::Range> gives; ///< what is free for anybody: ascending, disjoint
    std::vector<std::pair<net::Mac, net::Address>> kept; ///< for single NICs, by MAC
    std::chrono::seconds time{0};
    std::optional<net::Address> router; ///< the gateway that clients are told
    std::vector<net::Address> dns;
};

/// Who has an address. An IPv6 address that is the first of its prefix belongs to every forwarding
/// machine on that prefix too, as Subnet-Router anycast address (RFC 4291 section 2.6.1); those are
/// listed only if the plan gives the address to a machine or sends by way of it.
struct Owner {
    net::Address address;
    NicId nic;
    MachineId machine;

    friend auto operator<=>(const Owner&, const Owner&) = default;
};

/// See above. Threads may share one that none of them changes.
struct JACKAL_API Lab {
    Lab();
    Lab(const Lab&);
    Lab(Lab&&) noexcept;
    Lab& operator=(const Lab&);
    Lab& operator=(Lab&&) noexcept;
    ~Lab();

    std::string name;
    std::string source; ///< the plan's file name
    Table<Site> sites;
    Table<Pool> pools;
    Table<Subnet> subnets;
    Table<Segment> segments;
    Table<Machine> machines;
    Table<Nic> nics;
    Table<InterfaceAddress> addresses;
    Table<StaticRoute> routes;
    Table<Link> links;
    Table<Peering> peerings;
    Table<Filter> filters;
    Table<Guard> guards;
    Table<Duties> duties;
    Table<Speaker> speakers;            ///< by machine
    std::vector<plan::Policy> policies; ///< as in the plan
    Table<Switch> switches;
    Table<Port> ports;
    Table<Cable> cables;
    std::vector<Plug> plugs;   ///< by NIC, those of a bond in their order
    std::vector<Lease> leases; ///< by NIC
    std::vector<DhcpOffer> offers;
    plan::Login login; ///< of all machines that have none of their own
    std::vector<std::pair<MachineId, plan::Login>> logins; ///< by machine
    plan::Image image; ///< of all machines that have none of their own
    std::vector<std::pair<MachineId, plan::Image>> images;     ///< by machine
    std::vector<std::pair<MachineId, MachineId>> starts_after; ///< the first after the second
    std::vector<UnresolvedRoute> unresolved_routes;
    std::vector<Unplaced> unplaced;
    std::vector<net::Prefix> outside_lan; ///< the physical network around the lab
    plan::Limits limits;
    std::vector<plan::Expectation> expectations;
    std::vector<Owner> owners; ///< sorted by address, then NIC
    /// The link-local addresses of NICs that speak OSPF or RIP for IPv6; sorted the same way.
    std::vector<Owner> link_locals;
    plan::Complete plan; ///< what it was built of

    /// The row of that name, or nothing. O(1).
    std::optional<MachineId> machine(std::string_view name) const;
    std::optional<SubnetId> subnet(std::string_view name) const;
    std::optional<SiteId> site(std::string_view name) const;
    /// The NIC of that name on a machine, or nothing.
    std::optional<NicId> nic(MachineId machine, std::string_view name) const;

    auto nics_of(MachineId id) const {
        return Table<Nic>::ids(machines[id].first_nic, machines[id].nic_count);
    }
    auto addresses_of(NicId id) const {
        return Table<InterfaceAddress>::ids(nics[id].first_address, nics[id].address_count);
    }
    auto routes_of(MachineId id) const {
        return Table<StaticRoute>::ids(machines[id].first_route, machines[id].route_count);
    }

    /// What the NIC got by DHCP, or null if it did not ask. O(log n).
    const Lease* lease_of(NicId nic) const;
    /// What the machine does besides forwarding, or null.
    const Duties* duties_of(MachineId id) const {
        return machines[id].duties ? &duties[machines[id].duties] : nullptr;
    }
    /// Who logs in to it. O(log n).
    const plan::Login& login_of(MachineId id) const;
    const plan::Image& image_of(MachineId id) const;
    /// What the machine is told of routing protocols, or null. O(log n).
    const Speaker* speaker(MachineId id) const;
    /// True if something on the machine answers for the service.
    bool listens(MachineId id, net::Service service) const;
    /// True if filters or translations may decide what becomes of a packet.
    bool touches_packets() const { return guards.size() != 0 || duties.size() != 0; }

    /// True if not only the segments of subnets and links decide who hears whom.
    bool has_wiring() const { return !plugs.empty() || ports.size() != 0; }
    /// The wires of a NIC that is a bond or on a switch port; nothing for others. O(log n).
    std::span<const Plug> plugs_of(NicId nic) const;
    /// `SWITCH/PORT`.
    std::string port_name(PortId port) const;

    /// All NICs that have the address, whatever their state; of link-local ones those that a
    /// protocol tells others of. O(log n).
    std::span<const Owner> owners_of(net::Address address) const;
    /// The first address of the family on the NIC, or nothing.
    const InterfaceAddress* first_address(NicId nic, net::Family family) const;
    /// True of a segment that one NIC alone is on, with its gateway outside: what is there may be
    /// elsewhere, too.
    bool is_own_way_out(SegmentId id) const {
        const SubnetId subnet = segments[id].subnet;
        return subnet && subnets[subnet].uplink == plan::Uplink::own;
    }
    /// The tunnel that the NIC is an end of, or none.
    LinkId tunnel(NicId nic) const {
        LinkId link = segments[nics[nic].segment].link;
        return link && links[link].is_tunnel ? link : LinkId{};
    }
    /// True if the NIC is on a link that stands for a peering.
    bool is_peering(NicId nic) const {
        LinkId link = segments[nics[nic].segment].link;
        return link && links[link].peering;
    }
    /// The site that a machine is on, by its first NIC on a subnet; none without one.
    SiteId site_of(MachineId id) const;
    /// The prefixes of all segments, ascending. O(n log n).
    std::vector<net::Prefix> prefixes() const;
    /// Those, the spaces of pools, and the network around the lab: where nothing new may be placed.
    /// Ascending. O(n log n).
    std::vector<net::Prefix> taken() const;
    /// The subnet's name, `quay-r1 -- lamp-r1` for a link (`tunnel` before it for a tunnel),
    /// `quay-r1/lo` for a loopback.
    std::string segment_name(SegmentId segment) const;
    /// `MACHINE/NIC`.
    std::string nic_name(NicId nic) const;
    const std::string& machine_name(NicId nic) const { return machines[nics[nic].machine].name; }
};

} // namespace jackal::lab
