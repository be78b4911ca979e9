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
#include "jackal/lab/table.h"
#include "jackal/plan/name_index.h"
#include "jackal/plan/plan.h"

#include <array>
#include <optional>
#include <span>
#include <string>

namespace jackal::lab {

struct Site;
struct Subnet;
struct Segment;
struct Machine;
struct Nic;
struct InterfaceAddress;
struct StaticRoute;
struct Link;

using SiteId = Id<Site>;
using SubnetId = Id<Subnet>;
using SegmentId = Id<Segment>;
using MachineId = Id<Machine>;
using NicId = Id<Nic>;
using AddressId = Id<InterfaceAddress>;
using RouteId = Id<StaticRoute>;
using LinkId = Id<Link>;

/// One value for each address family.
template <class T>
struct PerFamily {
    T ipv4{};
    T ipv6{};

    T& operator[](net::Family f) { return f == net::Family::ipv4 ? ipv4 : ipv6; }
    const T& operator[](net::Family f) const { return f == net::Family::ipv4 ? ipv4 : ipv6; }
};

struct Site {
    std::string name; ///< empty for the site that a plan without sites stands on
    std::vector<net::Prefix> space;
    plan::Mark at;
};

struct Subnet {
    std::string name;
    SiteId site;
    SegmentId segment;
    PerFamily<std::optional<net::Address>> gateway;
    plan::SubnetGateway::Kind gateway_kind = plan::SubnetGateway::Kind::first;
    bool gateway_written = false; ///< the plan says where the gateway is
    plan::Mark gateway_at;
    plan::Mark at;
    std::uint32_t plan_index = 0; ///< position in Plan::subnets
};

/// One broadcast domain: that of a subnet, or that of a link.
struct Segment {
    SubnetId subnet; ///< none for a link
    LinkId link;     ///< none for a subnet
    PerFamily<std::optional<net::Prefix>> prefix;
    std::vector<NicId> nics; ///< in the order of their ids
};

struct Machine {
    std::string name;
    plan::MachineKind kind = plan::MachineKind::guest;
    bool forwards = false;
    bool up = true;
    NicId first_nic;
    std::uint32_t nic_count = 0;
    RouteId first_route;
    std::uint32_t route_count = 0;
    plan::Mark at;
    std::uint32_t plan_index = 0; ///< position in Plan::machines
};

struct Nic {
    MachineId machine;
    SegmentId segment;
    std::string name;
    net::Mac mac;
    bool up = true;
    std::uint16_t mtu_bytes = 1500;
    AddressId first_address;
    std::uint32_t address_count = 0;
    plan::Mark at;
    std::uint32_t plan_index = 0; ///< position among the machine's NICs; links' come last
};

/// How an address came to its NIC.
enum class AddressOrigin : std::uint8_t {
    given,     ///< written in the plan
    gateway,   ///< the subnet's gateway address, taken by its first router
    automatic, ///< the next free one
    link,      ///< an end of a link
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
};

/// A route that the plan gives a machine, one for each family it covers.
struct StaticRoute {
    net::Prefix to;
    net::Address via;
    std::uint32_t metric = 0;
    RouteOrigin origin = RouteOrigin::written;
    std::uint32_t plan_index = 0; ///< position in the machine's routes; unused for a gateway
    plan::Mark at;

    bool is_gateway() const { return origin >= RouteOrigin::gateway_written; }
};

/// A route whose next hop was given as a machine that shares no segment with the route's owner.
struct UnresolvedRoute {
    MachineId machine;
    std::uint32_t plan_index = 0;
    std::vector<net::Prefix> to;
    std::string via;
    plan::Mark at;
};

/// A subnet, link or NIC for which no room was left.
struct Unplaced {
    std::string what; ///< "subnet quay wants a /24", "tide-gauge/eth0 wants an address"
    std::string why;
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
    std::chrono::microseconds delay{0};  ///< one way
    std::chrono::microseconds jitter{0}; ///< one way, at most
    double loss = 0;                     ///< one way, 0 to 1
    bool up = true;
    plan::Mark at;
};

/// Who has an address.
struct Owner {
    net::Address address;
    NicId nic;
    MachineId machine;
};

struct JACKAL_API Lab {
    std::string name;
    std::string source; ///< the plan's file name
    Table<Site> sites;
    Table<Subnet> subnets;
    Table<Segment> segments;
    Table<Machine> machines;
    Table<Nic> nics;
    Table<InterfaceAddress> addresses;
    Table<StaticRoute> routes;
    Table<Link> links;
    std::vector<UnresolvedRoute> unresolved_routes;
    std::vector<Unplaced> unplaced;
    std::vector<plan::Expectation> expectations;
    std::vector<Owner> owners; ///< sorted by address, then NIC
    plan::NameIndex site_index;
    plan::NameIndex subnet_index;
    plan::NameIndex machine_index;

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

    /// All NICs that have the address, whatever their state. O(log n).
    std::span<const Owner> owners_of(net::Address address) const;
    /// The first address of the family on the NIC, or nothing.
    const InterfaceAddress* first_address(NicId nic, net::Family family) const;
    /// The subnet's name, or `quay-r1 -- lamp-r1` for a link.
    std::string segment_name(SegmentId segment) const;
    /// `MACHINE/NIC`.
    std::string nic_name(NicId nic) const;
    const std::string& machine_name(NicId nic) const { return machines[nics[nic].machine].name; }
};

} // namespace jackal::lab
