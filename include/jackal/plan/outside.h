// What lies beyond the lab, as entries of a plan: the workstation that runs it, the gateway of the
// physical network, and stand-ins for hosts far away.
#pragma once

#include "jackal/api.h"
#include "jackal/plan/plan.h"

namespace jackal::plan {

/// The names of the machines and subnets that stand for what is outside.
namespace outside {
inline constexpr const char* site = "outside";
inline constexpr const char* lan = "outside-lan";
inline constexpr const char* workstation = "workstation";
inline constexpr const char* nic = "lan"; ///< of the workstation, on the physical network
/// What follows the name of a machine in that of the subnet of its own way out, and the name of
/// that in the one of its gateway.
inline constexpr const char* way_out_suffix = "-way-out";
inline constexpr const char* gateway_suffix = "-gateway";
inline constexpr const char* lan_gateway = "lan-gateway";
inline constexpr const char* internet = "internet";
} // namespace outside

/// True if the gateway of such a segment is outside, and serves DHCP and DNS there.
constexpr bool has_gateway_outside(Uplink uplink) {
    return uplink == Uplink::nat || uplink == Uplink::bridge;
}

} // namespace jackal::plan
