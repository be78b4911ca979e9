// The mistakes and circumstances that Jackal names: one stable slug for each.
//
// A cause stands in three places: as a finding about a plan, as the reason why a ping got no
// reply, and in a plan's own expectations (`gets: no-return-route`). docs/findings.md has a
// section for every slug; a test holds the two against each other.
#pragma once

#include "jackal/api.h"
#include <cstdint>
#include <optional>
#include <span>
#include <string_view>

namespace jackal::plan {

enum class Cause : std::uint8_t {
    subnets_overlap,
    spaces_overlap,
    overlaps_outside,
    subnet_outside_space,
    special_use_range,
    no_space_left,
    limits_exceeded,
    duplicate_address,
    duplicate_mac,
    address_reserved,
    dhcp_range_over_static,
    address_outside_subnet,
    network_address,
    broadcast_address,
    prefix_length_differs,
    nic_down,
    nic_unaddressed,
    port_down,
    wrong_vlan,
    vlan_not_carried,
    native_vlan_differs,
    segment_split,
    segments_joined,
    switching_loop,
    no_dhcp_server,
    two_dhcp_servers,
    dhcp_range_dry,
    dhcp_on_static_segment,
    lease_route_wins,
    wrong_default_wins,
    started_too_early,
    gateway_off_subnet,
    gateway_unclaimed,
    next_hop_off_link,
    next_hop_unclaimed,
    next_hop_does_not_forward,
    route_repeated,
    default_route_loop,
    routing_loop,
    no_router_between,
    peering_undeclared,
    peering_half,
    peering_refused,
    peering_blocked,
    sites_not_joined,
    no_relay,
    exit_not_lent,
    exit_not_borrowed,
    exit_missing,
    tunnel_down,
    router_id_missing,
    router_id_twice,
    area_differs,
    timers_differ,
    stub_differs,
    virtual_link_down,
    network_type_differs,
    no_designated_router,
    neighbour_mtu_differs,
    neighbour_passive,
    network_not_announced,
    as_number_differs,
    session_one_sided,
    session_unreachable,
    session_shut,
    routing_dispute,
    no_route,
    no_return_route,
    private_untranslated,
    behind_translation,
    no_name_server,
    name_server_unreachable,
    filter_denies,
    rule_shadowed,
    rule_matches_nothing,
    translation_matches_nothing,
    nothing_listens,
    answer_not_turned_back,
    machine_off,
    link_down,
    mtu_too_small,
    ttl_too_small,
    packets_lost,
    address_unclaimed,
    no_common_family,
    older_flow,
};

struct CauseText {
    Cause cause;
    std::string_view slug;    ///< stable: `no-return-route`
    std::string_view meaning; ///< one sentence, without the names of a particular case
};

/// All causes, in the order of the enumeration.
JACKAL_API std::span<const CauseText> all_causes();

JACKAL_API std::string_view slug(Cause cause);
JACKAL_API std::optional<Cause> cause_from_slug(std::string_view slug);

} // namespace jackal::plan
