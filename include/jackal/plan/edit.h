// One change of a plan, as a value: what a remedy consists of.
//
//     plan::Edit edit = plan::set_forwards(plan, "ridge-r1", true);
//     to_line(edit);                               // "routers.ridge-r1.forwards: set true"
//     plan::Plan mended = plan::apply(plan, {edit}).plan.value();
#pragma once

#include "jackal/api.h"
#include "jackal/plan/difference.h"
#include "jackal/plan/written.h"

namespace jackal::plan {

/// What an edit is for.
enum class Move : std::uint8_t {
    add_site_space,
    set_subnet_prefix,
    give_subnet_prefix, ///< to one that has none written
    set_subnet_gateway,
    set_nic_address,
    set_nic_length, ///< the address stays, and has the length of its subnet
    set_nic_automatic,
    set_nic_subnet,
    set_nic_up,
    remove_nic_mac,
    add_nic,
    add_router,
    set_machine_up,
    set_forwards,
    let_guest_forward,
    set_machine_gateway,
    set_gateway_automatic,
    add_route,
    set_route_via,
    remove_route,
    set_link_up,
    set_link_mtu,
    set_peering_up,
    set_peering_mtu,
    set_nic_mtu,
    add_filter_rule,
    remove_filter_rule,
    add_translation,
    remove_translation,
    set_translation_nic,
    add_service,
    set_port_vlan,
    allow_vlan,
    set_trunk,
    set_port_up,
    set_switch_up,
    set_cable_up,
    set_bond_member_up,
    add_segment_port,
    set_dhcp_size,
    remove_dhcp,
    set_dhcp_relay,
    remove_starts_after,
    add_name_server,
    accept_peering,
    take_relayed,
    set_peering_exit,
    add_peering,
    set_site_relay,
    set_site_space,
    add_uplink,
    add_link,
    add_tunnel,
    set_ospf_nic,
    speak_protocol,
    redistribute,
    announce_default,
    set_ospf_stub,
    add_virtual_link,
    set_router_id,
    set_bgp_neighbour,
    remove_policy,
    set_size,
};

/// Something that a plan says, and would not say by itself: that something is off, silent or apart.
struct Decision {
    std::string words; ///< `state: down`
    Mark at;

    friend bool operator==(const Decision&, const Decision&) = default;
};

/// A change of what it is about, then what goes with it, such as keys that it takes the place of.
struct Edit {
    Move move;
    /// In the words of the plan file; none if the plan does not have what it is about.
    std::vector<PlaceChange> changes;
    std::string problem;             ///< why there are none; empty if there are
    std::optional<Decision> against; ///< what it takes back of what the plan says on purpose

    friend bool operator==(const Edit&, const Edit&) = default;
};

// What each of these is about has to be written in the plan; else the edit has a problem.

/// Adds a prefix to the space of a site.
JACKAL_API Edit add_site_space(const Written& plan, const std::string& site,
                               const net::Prefix& space);

/// Puts `to` in the place of the subnet's prefix of the same family, and drops hosts, growth and
/// size; what the subnet says of parts of its old prefix is said of the same parts of the new one.
JACKAL_API Edit set_subnet_prefix(const Written& plan, const std::string& subnet,
                                  const net::Prefix& to);

/// Makes the subnet's gateway of `to`'s family `to`; without `to` the first usable address.
JACKAL_API Edit set_subnet_gateway(const Written& plan, const std::string& subnet,
                                   std::optional<net::Address> to);

/// Puts `to` in the place of the address `from` at a NIC; without `to` the NIC's whole address
/// entry becomes `auto`.
JACKAL_API Edit set_nic_address(const Written& plan, const std::string& machine, std::size_t nic,
                                net::Address from, std::optional<net::Address> to);

/// Puts the NIC on another subnet.
JACKAL_API Edit set_nic_subnet(const Written& plan, const std::string& machine, std::size_t nic,
                               const std::string& subnet);

JACKAL_API Edit set_nic_up(const Written& plan, const std::string& machine, std::size_t nic);

/// Takes the written MAC from a NIC, which then gets one made from its names.
JACKAL_API Edit remove_nic_mac(const Written& plan, const std::string& machine, std::size_t nic);

/// Adds a NIC with automatic addresses on `subnet`.
JACKAL_API Edit add_nic(const Written& plan, const std::string& machine, const std::string& subnet);

/// Adds a router with one NIC on each of the subnets.
JACKAL_API Edit add_router(const Written& plan, const std::string& name,
                           const std::vector<std::string>& subnets);

JACKAL_API Edit set_machine_up(const Written& plan, const std::string& machine);

JACKAL_API Edit set_forwards(const Written& plan, const std::string& machine, bool to);

/// Makes the gateway of `to`'s family `to`, keeping that of the other family; without `to` the
/// machine's gateway becomes `auto`.
JACKAL_API Edit set_machine_gateway(const Written& plan, const std::string& machine,
                                    std::optional<net::Address> to);

/// Adds a route; one of a core becomes one of its site. `nic` is for a machine's name: the NIC to
/// reach it by; empty for the first.
JACKAL_API Edit add_route(const Written& plan, const std::string& machine, const Route::Target& to,
                          const Route::NextHop& via, const std::string& nic = {});

/// Makes route number `route` go via `via`.
JACKAL_API Edit set_route_via(const Written& plan, const std::string& machine, std::size_t route,
                              const Route::NextHop& via);

JACKAL_API Edit remove_route(const Written& plan, const std::string& machine, std::size_t route);

JACKAL_API Edit set_link_up(const Written& plan, std::size_t link);

/// Sets the MTU of a link or tunnel; `bytes` counts the whole IP packet.
JACKAL_API Edit set_link_mtu(const Written& plan, std::size_t link, std::uint16_t bytes);

/// The same of the links that a peering is made of.
JACKAL_API Edit set_peering_up(const Written& plan, std::size_t peering);
JACKAL_API Edit set_peering_mtu(const Written& plan, std::size_t peering, std::uint16_t bytes);

JACKAL_API Edit set_nic_mtu(const Written& plan, const std::string& machine, std::size_t nic,
                            std::uint16_t bytes);

/// Inserts a rule so that it becomes number `position`, counted from 0; without one behind all
/// others.
JACKAL_API Edit add_filter_rule(const Written& plan, const std::string& filter,
                                std::optional<std::size_t> position, const FilterRule& rule);

JACKAL_API Edit remove_filter_rule(const Written& plan, const std::string& filter,
                                   std::size_t position);

/// Has the machine translate the sources of what leaves by `nic`.
JACKAL_API Edit add_translation(const Written& plan, const std::string& machine,
                                const std::string& nic);

/// Takes translation number `position` of the machine's away.
JACKAL_API Edit remove_translation(const Written& plan, const std::string& machine,
                                   std::size_t position);

/// Has translation number `position` of the machine's stand at another NIC.
JACKAL_API Edit set_translation_nic(const Written& plan, const std::string& machine,
                                    std::size_t position, const std::string& nic);

/// Has something on the machine listen.
JACKAL_API Edit add_service(const Written& plan, const std::string& machine, net::Service service);

/// Puts what comes in untagged by a switch port, `SWITCH/PORT`, into `vlan`: `vlan` of an access
/// port, `native` of a trunk.
JACKAL_API Edit set_port_vlan(const Written& plan, const std::string& port, std::uint16_t vlan);

/// Lets a VLAN through a trunk.
JACKAL_API Edit allow_vlan(const Written& plan, const std::string& port, std::uint16_t vlan);

/// Has a trunk carry just these VLANs, besides its native one.
JACKAL_API Edit set_trunk(const Written& plan, const std::string& port,
                          const std::vector<std::uint16_t>& vlans);

JACKAL_API Edit set_port_up(const Written& plan, const std::string& port, bool to = true);

JACKAL_API Edit set_switch_up(const Written& plan, const std::string& name);

JACKAL_API Edit set_cable_up(const Written& plan, std::size_t cable, bool to = true);

/// Brings the wire of a bond up.
JACKAL_API Edit set_bond_member_up(const Written& plan, const std::string& machine, std::size_t nic,
                                   std::size_t member);

/// Adds a port of `vlan` to a switch that is wired to the segment of `subnet`.
JACKAL_API Edit add_segment_port(const Written& plan, const std::string& owner,
                                 const std::string& name, std::uint16_t vlan,
                                 const std::string& subnet);

/// Has the subnet's DHCP server give out `size` addresses.
JACKAL_API Edit set_dhcp_size(const Written& plan, const std::string& subnet, std::uint64_t size);

JACKAL_API Edit remove_dhcp(const Written& plan, const std::string& subnet);

/// Has `relay` pass the requests of the subnet on to its DHCP server.
JACKAL_API Edit set_dhcp_relay(const Written& plan, const std::string& subnet,
                               const std::string& relay);

/// Lets `machine` start without waiting for `other`.
JACKAL_API Edit remove_starts_after(const Written& plan, const std::string& machine,
                                    const std::string& other);

/// Tells the machine of a name server.
JACKAL_API Edit add_name_server(const Written& plan, const std::string& machine,
                                const Host& server);

/// Has the site's side of a peering accept it; a manual site's with `border` as its end, which is
/// empty for an automatic one.
JACKAL_API Edit accept_peering(const Written& plan, std::size_t peering, const std::string& site,
                               const std::string& border);

/// Has the site's side of a peering take what the peer only passes on.
JACKAL_API Edit take_relayed(const Written& plan, std::size_t peering, const std::string& site);

/// Has the site's side of a peering lend or borrow a way outside.
JACKAL_API Edit set_peering_exit(const Written& plan, std::size_t peering, const std::string& site,
                                 Exit to);

/// A site that shall peer, and the router where that ends: empty for an automatic one.
struct NewSide {
    std::string site;
    std::string border = {};
};

/// Adds a peering that both sides accept.
JACKAL_API Edit add_peering(const Written& plan, const NewSide& one, const NewSide& other);

/// Names the machine that passes on what the site's peers send each other.
JACKAL_API Edit set_site_relay(const Written& plan, const std::string& site,
                               const std::string& relay);

/// Puts `to` in the place of `from` in what a site owns.
JACKAL_API Edit set_site_space(const Written& plan, const std::string& site,
                               const net::Prefix& from, const net::Prefix& to);

/// Adds a small subnet whose segment has the workstation as its gateway.
JACKAL_API Edit add_uplink(const Written& plan, const std::string& subnet, const std::string& site);

/// `delay` is one way.
JACKAL_API Edit add_link(const Written& plan, const std::string& first, const std::string& second,
                         std::chrono::microseconds delay = {});

JACKAL_API Edit add_tunnel(const Written& plan, const std::string& first,
                           const std::string& second);

/// What OSPF is told of a NIC.
enum class OspfKey : std::uint8_t {
    area,     ///< to that number
    hello,    ///< seconds
    dead,     ///< seconds
    network,  ///< 1 point-to-point, 0 broadcast
    priority, ///< to that number
    active,   ///< no longer passive
};

/// Changes one thing of what OSPF is told of a NIC; without a name all that is in the machine's one
/// area goes to another.
JACKAL_API Edit set_ospf_nic(const Written& plan, const std::string& machine,
                             const std::string& nic, OspfKey key, std::uint32_t value);

/// Has a machine that does not yet speak OSPF or RIP speak it on all its NICs, as neighbours do.
JACKAL_API Edit speak_protocol(const Written& plan, const std::string& machine,
                               RouteSource protocol, std::uint32_t area = 0);

/// Has the machine announce by one protocol what it knows from elsewhere.
JACKAL_API Edit redistribute(const Written& plan, const std::string& machine, RouteSource into,
                             RouteSource from);

/// Has the machine announce a default route by a protocol, as long as it has one.
JACKAL_API Edit announce_default(const Written& plan, const std::string& machine, RouteSource into);

/// Has the machine take an area for a stub, or an NSSA, or no longer.
JACKAL_API Edit set_ospf_stub(const Written& plan, const std::string& machine, std::uint32_t area,
                              bool to, bool is_nssa = false);

/// Has the machine join the backbone with another one through an area.
JACKAL_API Edit add_virtual_link(const Written& plan, const std::string& machine,
                                 std::uint32_t area, const std::string& to);

JACKAL_API Edit set_router_id(const Written& plan, const std::string& machine, net::Address to);

/// Tells a machine of its neighbour in BGP, a machine or an address as the plan writes it: a new
/// one, or another AS number. One that is to stay down is brought up.
JACKAL_API Edit set_bgp_neighbour(const Written& plan, const std::string& machine,
                                  const std::string& neighbour, std::uint32_t as, bool distant);

/// Takes the policy from what a machine takes of its neighbour in BGP.
JACKAL_API Edit remove_policy(const Written& plan, const std::string& machine,
                              const std::string& neighbour);

enum class SizeKey : std::uint8_t { cpus, memory, disk };

/// Changes what a machine takes from the computer that runs it, to a number or mebibytes.
JACKAL_API Edit set_size(const Written& plan, const std::string& machine, SizeKey key,
                         std::uint32_t to);

/// How a route's target and next hop read in a plan: `default`, `10.40.8.0/26`, `quay-r1`.
JACKAL_API std::string to_string(const Route::Target& target);
JACKAL_API std::string to_string(const Route::NextHop& next_hop);

/// `{do: allow, way: in, proto: icmp, from: desk}`
JACKAL_API std::string to_string(const FilterRule& rule);
/// `{out: eth0, from: 10.40.8.0/24}`
JACKAL_API std::string to_string(const Translation& rule);

/// The rule that an edit adds to a filter: where, and what it says.
struct AddedRule {
    std::string filter;
    std::optional<std::size_t> position; ///< none: behind all others
    FilterRule rule;
};

/// Nothing if the edit adds no rule.
JACKAL_API std::optional<AddedRule> added_rule(const Edit& edit);

/// The machine that an edit is about, or whose NIC; empty if it is about none.
JACKAL_API std::string machine_in(const Edit& edit);
/// The number of the NIC that an edit is about, or nothing.
JACKAL_API std::optional<std::size_t> nic_in(const Edit& edit);

/// An edit on one line, with what stood there when it was made behind it: `routers.ridge-r1.routes:
/// add {to: …, via: …}`, `subnets.quay.prefix: set 10.40.9.0/26 (was 10.40.8.0/26)`.
JACKAL_API std::string to_line(const Edit& edit);

/// The plan after the edits, made one after another, or why one of them does not apply, such as one
/// of an entry that the plan does not have.
JACKAL_API Applied apply(Plan plan, const std::vector<Edit>& edits);

} // namespace jackal::plan
