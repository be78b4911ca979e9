#include "jackal/plan/cause.h"

#include <algorithm>
#include <array>

namespace jackal::plan {

namespace {

constexpr std::array cause_texts = {
    CauseText{Cause::subnets_overlap, "subnets-overlap",
              "two subnets that can meet use some of the same addresses"},
    CauseText{Cause::spaces_overlap, "spaces-overlap",
              "two sites that are joined own some of the same addresses"},
    CauseText{Cause::overlaps_outside, "overlaps-outside",
              "a subnet uses addresses of the physical network around the lab"},
    CauseText{Cause::subnet_outside_space, "subnet-outside-space",
              "a subnet's prefix is not part of its site's space"},
    CauseText{Cause::special_use_range, "special-use-range",
              "a prefix is part of a range that has a meaning of its own everywhere"},
    CauseText{Cause::no_space_left, "no-space-left",
              "there is no room for a subnet in its site, or for an address in its subnet"},
    CauseText{Cause::limits_exceeded, "limits-exceeded",
              "the machines together ask for more than the plan's limits allow"},
    CauseText{Cause::duplicate_address, "duplicate-address",
              "two machines have the same address, so which one answers is luck"},
    CauseText{Cause::duplicate_mac, "duplicate-mac",
              "two NICs on a segment have the same MAC, so which one gets a frame is luck"},
    CauseText{Cause::address_reserved, "address-reserved",
              "a machine has an address that its subnet keeps for something else"},
    CauseText{Cause::dhcp_range_over_static, "dhcp-range-over-static",
              "a machine has an address that DHCP may give to another"},
    CauseText{Cause::address_outside_subnet, "address-outside-subnet",
              "an address is not part of the subnet that its NIC is on"},
    CauseText{Cause::network_address, "network-address",
              "an address is the first of its subnet, which names the subnet itself"},
    CauseText{Cause::broadcast_address, "broadcast-address",
              "an address is the last of its subnet, which means all machines on it"},
    CauseText{Cause::prefix_length_differs, "prefix-length-differs",
              "an address has another prefix length than its subnet"},
    CauseText{Cause::nic_down, "nic-down", "a NIC is down, so its routes do not exist"},
    CauseText{Cause::nic_unaddressed, "nic-unaddressed", "a NIC has no address"},
    CauseText{Cause::port_down, "port-down",
              "a switch, a switch port or every wire of a bond is down"},
    CauseText{Cause::wrong_vlan, "wrong-vlan",
              "a NIC's switch port is in another VLAN than its subnet"},
    CauseText{Cause::vlan_not_carried, "vlan-not-carried",
              "one end of a trunk does not let a VLAN through that is needed behind it"},
    CauseText{Cause::native_vlan_differs, "native-vlan-differs",
              "one end of a trunk sends a VLAN tagged, the other expects it untagged"},
    CauseText{Cause::segment_split, "segment-split",
              "no wire joins two NICs of one subnet, or a subnet to the switches it is on"},
    CauseText{Cause::segments_joined, "segments-joined",
              "switches make one segment of two subnets"},
    CauseText{Cause::switching_loop, "switching-loop",
              "cables between switches form a loop, in which frames circle for ever"},
    CauseText{Cause::no_dhcp_server, "no-dhcp-server",
              "a NIC asks for an address by DHCP, and no server hears it"},
    CauseText{Cause::two_dhcp_servers, "two-dhcp-servers",
              "two DHCP servers answer on one segment, so which one is heard first is luck"},
    CauseText{Cause::dhcp_range_dry, "dhcp-range-dry",
              "more NICs ask for an address by DHCP than the range has"},
    CauseText{Cause::dhcp_on_static_segment, "dhcp-on-static-segment",
              "a DHCP server is heard on a segment that is to have none"},
    CauseText{
        Cause::lease_route_wins, "lease-route-wins",
        "the default route that came with a lease is used instead of the one that leads there"},
    CauseText{Cause::wrong_default_wins, "wrong-default-wins",
              "of a machine's default routes another one is used than the one that leads there"},
    CauseText{Cause::started_too_early, "started-too-early",
              "a machine starts before the one that gives it its address"},
    CauseText{Cause::gateway_off_subnet, "gateway-off-subnet",
              "a gateway is on no subnet of the machine that uses it"},
    CauseText{Cause::gateway_unclaimed, "gateway-unclaimed",
              "a gateway address belongs to no machine on the segment"},
    CauseText{Cause::next_hop_off_link, "next-hop-off-link",
              "a route's next hop is on no subnet of the machine, so the route is refused"},
    CauseText{Cause::next_hop_unclaimed, "next-hop-unclaimed",
              "a route's next hop belongs to no machine on the segment"},
    CauseText{Cause::next_hop_does_not_forward, "next-hop-does-not-forward",
              "packets are sent by way of a machine that does not forward"},
    CauseText{Cause::route_repeated, "route-repeated",
              "a machine has two routes to one prefix with one metric; only the first exists"},
    CauseText{Cause::default_route_loop, "default-route-loop",
              "default routes point at each other, so packets circle until their TTL runs out"},
    CauseText{Cause::routing_loop, "routing-loop",
              "routes point at each other, so packets circle until their TTL runs out"},
    CauseText{Cause::no_router_between, "no-router-between",
              "no chain of routers joins the two subnets"},
    CauseText{Cause::peering_undeclared, "peering-undeclared",
              "a peering stands in the plan, but neither of its sites says anything"},
    CauseText{Cause::peering_half, "peering-half",
              "one site accepts a peering, the other says nothing, so it carries nothing"},
    CauseText{Cause::peering_refused, "peering-refused", "a site does not accept a peering"},
    CauseText{Cause::peering_blocked, "peering-blocked",
              "two sites accept a peering, but own some of the same addresses"},
    CauseText{Cause::sites_not_joined, "sites-not-joined",
              "no peering, tunnel or link joins two sites"},
    CauseText{
        Cause::no_relay, "no-relay",
        "a site is to pass on traffic between its peers, which nothing in it does, or which a "
        "peer does not take"},
    CauseText{Cause::exit_not_lent, "exit-not-lent",
              "a site borrows its peer's way outside, which that does not lend"},
    CauseText{Cause::exit_not_borrowed, "exit-not-borrowed",
              "a site lends its way outside to a peer that does not borrow it"},
    CauseText{Cause::exit_missing, "exit-missing",
              "a site borrows a way outside from a peer that has none"},
    CauseText{Cause::tunnel_down, "tunnel-down",
              "the packets that a tunnel travels in do not get from one end to the other"},
    CauseText{Cause::router_id_missing, "router-id-missing",
              "a machine speaks OSPF or BGP and has no router id"},
    CauseText{Cause::router_id_twice, "router-id-twice",
              "two machines have the same router id, so the one's announcements replace the "
              "other's"},
    CauseText{Cause::area_differs, "area-differs",
              "two OSPF neighbours take their segment for parts of different areas"},
    CauseText{Cause::timers_differ, "timers-differ",
              "two OSPF neighbours have different hello or dead intervals"},
    CauseText{
        Cause::stub_differs, "stub-differs",
        "two OSPF neighbours take their area for different sorts: a stub, an NSSA or neither"},
    CauseText{
        Cause::virtual_link_down, "virtual-link-down",
        "a virtual link of OSPF does not come up: one end alone has it, or its area has no way "
        "between them"},
    CauseText{Cause::network_type_differs, "network-type-differs",
              "two OSPF neighbours take their segment for different sorts of network"},
    CauseText{Cause::no_designated_router, "no-designated-router",
              "nobody on a segment may become its designated router"},
    CauseText{Cause::neighbour_mtu_differs, "neighbour-mtu-differs",
              "two OSPF neighbours have different MTUs, so they never exchange their databases"},
    CauseText{Cause::neighbour_passive, "neighbour-passive",
              "of two machines that speak a routing protocol one is passive on their segment"},
    CauseText{Cause::network_not_announced, "network-not-announced",
              "a machine speaks a routing protocol, but not on a segment that others need"},
    CauseText{Cause::as_number_differs, "as-number-differs",
              "a BGP neighbour is expected in another AS than it is in"},
    CauseText{Cause::session_one_sided, "session-one-sided",
              "of two BGP neighbours only one names the other, or expects it elsewhere"},
    CauseText{Cause::session_unreachable, "session-unreachable",
              "the packets of a BGP session do not get from one neighbour to the other"},
    CauseText{Cause::session_shut, "session-shut", "a BGP session is told to stay down"},
    CauseText{Cause::routing_dispute, "routing-dispute",
              "machines change their choice of routes for ever, as each choice makes another "
              "one better"},
    CauseText{Cause::no_route, "no-route", "a machine on the way has no route to the far end"},
    CauseText{Cause::no_return_route, "no-return-route",
              "the packet arrives, but a machine on the way home has no route for the reply"},
    CauseText{
        Cause::private_untranslated, "private-untranslated",
        "packets leave the lab with a private source address, which nobody outside answers to"},
    CauseText{Cause::behind_translation, "behind-translation",
              "a machine behind a translation is asked from outside by its private address"},
    CauseText{Cause::no_name_server, "no-name-server",
              "a host outside is asked by name, and the machine knows no name server"},
    CauseText{Cause::name_server_unreachable, "name-server-unreachable",
              "a host outside is asked by name, and no name server answers"},
    CauseText{Cause::filter_denies, "filter-denies",
              "a filter drops the request, or what answers it"},
    CauseText{Cause::rule_shadowed, "rule-shadowed",
              "a rule of a filter never decides anything, as earlier rules match all that it does"},
    CauseText{Cause::rule_matches_nothing, "rule-matches-nothing",
              "a rule of a filter names addresses that nothing in the plan has"},
    CauseText{Cause::translation_matches_nothing, "translation-matches-nothing",
              "a translation of addresses can never match, or stands on the wrong NIC"},
    CauseText{Cause::nothing_listens, "nothing-listens",
              "the request arrives, but nothing on the machine listens on that port"},
    CauseText{Cause::answer_not_turned_back, "answer-not-turned-back",
              "the answer of a service does not pass the machine that translated the request"},
    CauseText{Cause::machine_off, "machine-off", "a machine that is needed is off"},
    CauseText{Cause::link_down, "link-down", "a link that is needed is down"},
    CauseText{Cause::mtu_too_small, "mtu-too-small",
              "the packet is larger than a segment on the way carries"},
    CauseText{Cause::ttl_too_small, "ttl-too-small",
              "the packet was sent with a TTL too small for the way"},
    CauseText{Cause::packets_lost, "packets-lost", "links on the way lost the packets by chance"},
    CauseText{Cause::address_unclaimed, "address-unclaimed",
              "no machine in the lab has the address that was asked for"},
    CauseText{Cause::no_common_family, "no-common-family",
              "the two ends have no address family in common"},
    CauseText{Cause::older_flow, "older-flow",
              "a machine goes on with a flow as it began, before the network changed"},
};

static_assert(std::ranges::is_sorted(cause_texts, {}, &CauseText::cause),
              "the table follows the enumeration");
static_assert(cause_texts.size() == static_cast<std::size_t>(Cause::older_flow) + 1);

} // namespace

std::span<const CauseText> all_causes() {
    return cause_texts;
}

std::string_view slug(Cause cause) {
    return cause_texts[static_cast<std::size_t>(cause)].slug;
}

std::optional<Cause> cause_from_slug(std::string_view slug) {
    auto found = std::ranges::find(cause_texts, slug, &CauseText::slug);
    if (found == cause_texts.end())
        return std::nullopt;
    return found->cause;
}

} // namespace jackal::plan
