// One change of a plan, as a value: what a remedy consists of.
//
//     plan::Edit edit = plan::SetForwards{"ridge-r1", true};
//     to_line(plan::changes_of(edit, plan));   // "routers.ridge-r1.forwards: set true"
//     plan::Plan mended = plan::apply(plan, {edit}).plan.value();
#pragma once

#include "jackal/api.h"
#include "jackal/plan/difference.h"

#include <memory>
#include <string>
#include <vector>

namespace jackal::plan {

/// Adds a prefix to the space of a site.
struct AddSiteSpace {
    std::string site;
    net::Prefix space;
};

/// Puts `to` in the place of the subnet's prefix of the same family, and drops hosts, growth and
/// size; what the subnet says of parts of its old prefix is said of the same parts of the new one.
struct SetSubnetPrefix {
    std::string subnet;
    net::Prefix to;
};

/// Makes the subnet's gateway of `to`'s family `to`; without `to` the first usable address.
struct SetSubnetGateway {
    std::string subnet;
    std::optional<net::Address> to;
};

/// Puts `to` in the place of the address `from` at a NIC; without `to` the NIC's whole address
/// entry becomes `auto`.
struct SetNicAddress {
    std::string machine;
    std::size_t nic = 0;
    net::Address from;
    std::optional<net::Address> to;
};

/// Puts the NIC on another subnet.
struct SetNicSubnet {
    std::string machine;
    std::size_t nic = 0;
    std::string subnet;
};

struct SetNicUp {
    std::string machine;
    std::size_t nic = 0;
};

/// Takes the written MAC from a NIC, which then gets one made from its names.
struct RemoveNicMac {
    std::string machine;
    std::size_t nic = 0;
};

/// Adds a NIC with automatic addresses on `subnet`.
struct AddNic {
    std::string machine;
    std::string subnet;
};

/// Adds a router with one NIC on each of the subnets.
struct AddRouter {
    std::string name;
    std::vector<std::string> subnets;
};

struct SetMachineUp {
    std::string machine;
};

struct SetForwards {
    std::string machine;
    bool to = true;
};

/// Makes the gateway of `to`'s family `to`, keeping that of the other family; without `to` the
/// machine's gateway becomes `auto`.
struct SetMachineGateway {
    std::string machine;
    std::optional<net::Address> to;
};

/// Adds a route; one of a core becomes one of its site.
struct AddRoute {
    std::string machine;
    Route::Target to;
    Route::NextHop via;
    std::string nic = {}; ///< for a machine's name: the NIC to reach it by; empty for the first
};

/// Makes route number `route` go via `via`.
struct SetRouteVia {
    std::string machine;
    std::size_t route = 0;
    Route::NextHop via;
};

struct RemoveRoute {
    std::string machine;
    std::size_t route = 0;
};

struct SetLinkUp {
    std::size_t link = 0;
};

/// Sets the MTU of a link or tunnel; `bytes` counts the whole IP packet.
struct SetLinkMtu {
    std::size_t link = 0;
    std::uint16_t bytes = 0;
};

/// The same of the links that a peering is made of.
struct SetPeeringUp {
    std::size_t peering = 0;
};

struct SetPeeringMtu {
    std::size_t peering = 0;
    std::uint16_t bytes = 0;
};

struct SetNicMtu {
    std::string machine;
    std::size_t nic = 0;
    std::uint16_t bytes = 0;
};

/// Inserts a rule so that it becomes number `position`, counted from 0.
struct AddFilterRule {
    std::string filter;
    std::size_t position = 0;
    FilterRule rule;
};

struct RemoveFilterRule {
    std::string filter;
    std::size_t position = 0;
};

/// Has the machine translate the sources of what leaves by `nic`.
struct AddTranslation {
    std::string machine;
    std::string nic;
};

struct RemoveTranslation {
    std::string machine;
    std::size_t position = 0; ///< among its translations
};

/// Has translation number `position` stand at another NIC.
struct SetTranslationNic {
    std::string machine;
    std::size_t position = 0; ///< among its translations
    std::string nic;
};

/// Has something on the machine listen.
struct AddService {
    std::string machine;
    net::Service service;
};

/// Puts what comes in untagged by a switch port into `vlan`: `vlan` of an access port, `native` of
/// a trunk.
struct SetPortVlan {
    std::string port; ///< `SWITCH/PORT`
    std::uint16_t vlan = 0;
};

/// Lets a VLAN through a trunk.
struct AllowVlan {
    std::string port; ///< `SWITCH/PORT`
    std::uint16_t vlan = 0;
};

/// Has a trunk carry just these VLANs, besides its native one.
struct SetTrunk {
    std::string port; ///< `SWITCH/PORT`
    std::vector<std::uint16_t> vlans;
};

struct SetPortUp {
    std::string port; ///< `SWITCH/PORT`
    bool to = true;
};

struct SetSwitchUp {
    std::string name;
};

struct SetCableUp {
    std::size_t cable = 0;
    bool to = true;
};

/// Brings the wire of a bond up.
struct SetBondMemberUp {
    std::string machine;
    std::size_t nic = 0;
    std::size_t member = 0;
};

/// Adds a switch port of `vlan` that is wired to the segment of `subnet`.
struct AddSegmentPort {
    std::string owner; ///< the switch
    std::string name;
    std::uint16_t vlan = 0;
    std::string subnet;
};

/// Has the subnet's DHCP server give out `size` addresses.
struct SetDhcpSize {
    std::string subnet;
    std::uint64_t size = 0;
};

struct RemoveDhcp {
    std::string subnet;
};

/// Has `relay` pass the requests of the subnet on to its DHCP server.
struct SetDhcpRelay {
    std::string subnet;
    std::string relay;
};

/// Lets `machine` start without waiting for `other`.
struct RemoveStartsAfter {
    std::string machine;
    std::string other;
};

/// Tells the machine of a name server.
struct AddNameServer {
    std::string machine;
    Host server;
};

/// Has the site's side of a peering accept it; a manual site's with `border` as its end.
struct AcceptPeering {
    std::size_t peering = 0;
    std::string site;
    std::string border; ///< empty for an automatic site
};

/// Has the site's side of a peering take what the peer only passes on.
struct TakeRelayed {
    std::size_t peering = 0;
    std::string site;
};

/// Has the site's side of a peering lend or borrow a way outside.
struct SetPeeringExit {
    std::size_t peering = 0;
    std::string site;
    Exit to = Exit::none;
};

/// Adds a peering that both sides accept.
struct AddPeering {
    std::string sites[2];
    std::string borders[2]; ///< empty for automatic sites
};

/// Names the machine that passes on what the site's peers send each other.
struct SetSiteRelay {
    std::string site;
    std::string relay;
};

/// Puts `to` in the place of `from` in what a site owns.
struct SetSiteSpace {
    std::string site;
    net::Prefix from;
    net::Prefix to;
};

/// Adds a small subnet whose segment has the workstation as its gateway.
struct AddUplink {
    std::string subnet;
    std::string site;
};

struct AddLink {
    std::string first;
    std::string second;
    std::chrono::microseconds delay{0}; ///< one way
};

struct AddTunnel {
    std::string first;
    std::string second;
};

/// Changes one thing of what OSPF is told of a NIC.
struct SetOspfNic {
    enum class What : std::uint8_t {
        area,     ///< to that number
        hello,    ///< seconds
        dead,     ///< seconds
        network,  ///< 1 point-to-point, 0 broadcast
        priority, ///< to that number
        active,   ///< no longer passive
    };
    std::string machine;
    std::string nic; ///< its name; empty: all that is in its one area, to another
    What what = What::area;
    std::uint32_t value = 0;
};

/// Has a machine that does not yet speak OSPF or RIP speak it on all its NICs, as neighbours do.
struct SpeakProtocol {
    std::string machine;
    RouteSource protocol = RouteSource::ospf; ///< or rip
    std::uint32_t area = 0;                   ///< OSPF
};

/// Has the machine announce by one protocol what it knows from elsewhere.
struct Redistribute {
    std::string machine;
    RouteSource into = RouteSource::ospf; ///< a protocol
    RouteSource from = RouteSource::connected;
};

/// Has the machine announce a default route by a protocol, as long as it has one.
struct AnnounceDefault {
    std::string machine;
    RouteSource into = RouteSource::ospf; ///< a protocol
};

/// Has the machine take an area for a stub, or an NSSA, or no longer.
struct SetOspfStub {
    std::string machine;
    std::uint32_t area = 0;
    bool to = true;
    bool is_nssa = false;
};

/// Has the machine join the backbone with another one through an area.
struct AddVirtualLink {
    std::string machine;
    std::uint32_t area = 0;
    std::string to; ///< a machine
};

struct SetRouterId {
    std::string machine;
    net::Address to;
};

/// Tells a machine of its neighbour in BGP: a new one, or another AS number. One that is to stay
/// down is brought up.
struct SetBgpNeighbour {
    std::string machine;
    std::string neighbour; ///< as the plan writes it: a machine or an address
    std::uint32_t as = 0;
    bool distant = false;
};

/// Takes the policy from what a machine takes of its neighbour in BGP.
struct RemovePolicy {
    std::string machine;
    std::string neighbour; ///< as the plan writes it: a machine or an address
};

/// Changes what a machine takes from the computer that runs it.
struct SetSize {
    enum class What : std::uint8_t { cpus, memory, disk };
    std::string machine;
    What what = What::memory;
    std::uint32_t to = 0; ///< a number, or mebibytes
};

/// The types of change that an edit can be.
template <class... Changes>
struct ChangeList {
    /// The place of T in the list; its length if it is not there.
    template <class T>
    static constexpr std::size_t place = [] {
        std::size_t i = 0;
        (void)((std::is_same_v<T, Changes> || (++i, false)) || ...);
        return i;
    }();
    static constexpr std::size_t count = sizeof...(Changes);
    template <class T>
    static constexpr bool has = place<T> < count;

    /// Calls use(change) with the change as the type at that place.
    template <class Use>
    static void visit(std::size_t place, const void* change, Use& use) {
        std::size_t i = 0;
        (void)((i++ == place && (use(*static_cast<const Changes*>(change)), true)) || ...);
    }
};

using Changes =
    ChangeList<AddSiteSpace, SetSubnetPrefix, SetSubnetGateway, SetNicAddress, SetNicSubnet,
               SetNicUp, RemoveNicMac, AddNic, AddRouter, SetMachineUp, SetForwards,
               SetMachineGateway, AddRoute, SetRouteVia, RemoveRoute, SetLinkUp, SetLinkMtu,
               SetPeeringUp, SetPeeringMtu, SetNicMtu, AddFilterRule, RemoveFilterRule,
               AddTranslation, RemoveTranslation, SetTranslationNic, AddService, SetPortVlan,
               AllowVlan, SetTrunk, SetPortUp, SetSwitchUp, SetCableUp, SetBondMemberUp,
               AddSegmentPort, SetDhcpSize, RemoveDhcp, SetDhcpRelay, RemoveStartsAfter,
               AddNameServer, AcceptPeering, TakeRelayed, SetPeeringExit, AddPeering, SetSiteRelay,
               SetSiteSpace, AddUplink, AddLink, AddTunnel, SetOspfNic, SpeakProtocol, Redistribute,
               AnnounceDefault, SetOspfStub, AddVirtualLink, SetRouterId, SetBgpNeighbour,
               RemovePolicy, SetSize>;

/// Any one of the changes above; it cannot be altered, and copies share it, also
/// between threads.
class Edit {
  public:
    template <class T>
    requires(Changes::has<T>) Edit(T change)
        : place_(Changes::place<T>), change_(std::make_shared<const T>(std::move(change))) {}

    /// The change if it is a T, or null.
    template <class T>
    const T* as() const {
        return place_ == Changes::place<T> ? static_cast<const T*>(change_.get()) : nullptr;
    }

    /// The number of its type among all types of change.
    std::size_t kind() const { return place_; }

    /// Calls use(change) with the change as what it is.
    template <class Use>
    void visit(Use use) const {
        Changes::visit(place_, change_.get(), use);
    }

  private:
    std::size_t place_; // of its type
    std::shared_ptr<const void> change_;
};

/// What `edit` is in the words of the plan file, before it is made: the change of what it is about,
/// then what goes with it, such as keys that it takes the place of. Empty if the plan does not have
/// what it is about.
JACKAL_API std::vector<PlaceChange> changes_of(const Edit& edit, const Plan& plan);

/// Of several edits, each as the plan stands after those before it that apply.
JACKAL_API std::vector<std::vector<PlaceChange>> changes_of(const std::vector<Edit>& edits,
                                                            const Plan& plan);

/// How a route's target and next hop read in a plan: `default`, `10.40.8.0/26`, `quay-r1`.
JACKAL_API std::string to_string(const Route::Target& target);
JACKAL_API std::string to_string(const Route::NextHop& next_hop);

/// `{do: allow, way: in, proto: icmp, from: desk}`
JACKAL_API std::string to_string(const FilterRule& rule);
/// `{out: eth0, from: 10.40.8.0/24}`
JACKAL_API std::string to_string(const Translation& rule);

/// An edit on one line, with what stands there now behind it: `routers.ridge-r1.routes: add {to: …,
/// via: …}`, `subnets.quay.prefix: set 10.40.9.0/26 (was 10.40.8.0/26)`.
JACKAL_API std::string to_line(const std::vector<PlaceChange>& edit);

/// The plan after the edits, made one after another, or why one of them does not apply, such as one
/// of an entry that the plan does not have.
JACKAL_API Applied apply(Plan plan, const std::vector<Edit>& edits);

} // namespace jackal::plan
