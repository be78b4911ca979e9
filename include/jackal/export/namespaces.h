// A lab as one shell script that brings it up on Linux: every machine a network namespace, every
// segment a bridge, or a bare veth pair for a link.
//
// The script is POSIX shell for root; it needs iproute2 (ip), procps (sysctl) and, for its verb
// check, iputils ping. Its verbs are start, stop, status, enter MACHINE [COMMAND…] and check. All
// namespaces are called LAB.MACHINE, and the bridges stand in LAB._wires; names of labs and
// machines have neither dots nor underscores (RFC 1123), so labs do not meet, and nothing of the
// plan but such names, addresses and numbers gets into the script.
#pragma once

#include "jackal/api.h"
#include "jackal/limits.h"
#include "jackal/routing/settled.h"

#include <string>

namespace jackal::exports {

/// The most pings that the script's verb check asks; expectations that come after are left out, and
/// the script's header says so.
constexpr std::size_t most_checked_pings = limits::script_pings;

struct ScriptOptions {
    /// Leases come from real servers and clients (dnsmasq, udhcpc), instead of being set.
    bool with_dhcp = false;
    /// Machines that speak a routing protocol run a real daemon (BIRD 2), see export/speakers.h,
    /// instead of having the routes set that they would learn.
    bool with_routing = false;
    /// What stands outside in the plan is this computer and its network: it is on the segments with
    /// `uplink: host`, the way outside of those with `nat`, and a NIC of its joins that with
    /// `bridge`.
    bool attached = false;
};

/// The script for the lab and condition of `settled`: what is cut there is off or down when the
/// script starts it. What namespaces cannot show is listed in the script's header.
JACKAL_API std::string namespaces_script(const routing::Settled& settled,
                                         const ScriptOptions& options = {});

} // namespace jackal::exports
