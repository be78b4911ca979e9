#include "jackal/export/namespaces.h"

#include "jackal/export/words.h"
#include "jackal/lab/place.h"

#include "jackal/probe/ping.h"

#include <algorithm>
#include <fmt/format.h>
#include <map>
#include <set>

namespace jackal::exports {

using lab::Lab;
using lab::MachineId;
using lab::NicId;

namespace {

// The head of every script. {0} is the lab's name, {1} what is not shown.
constexpr const char* script_head = R"sh(#!/bin/sh
# The lab {0}, live. Made by jackal export --as namespaces.
#
# Every machine is a network namespace of Linux, every segment a bridge, every working link a pair
# of virtual Ethernet devices; filters and translations are nftables rules. Run it as root. It needs
# iproute2 and procps, for filters and translations nftables, for check also iputils-ping, and for
# services socat, for --with-dhcp dnsmasq-base and udhcpc.
#
#     sh FILE start                       the whole lab, or nothing of it
#     sh FILE serve                       has something listen where the plan says so
#     sh FILE status                      what is there
#     sh FILE enter MACHINE [COMMAND...]  a shell on a machine, or one command
#     sh FILE check                       asks what the plan expects, and compares
#     sh FILE stop                        removes the lab, also what a crash has left of it
#
# The namespaces are called {0}.MACHINE; the bridges stand in {0}._wires.
# Labs of other names may run at the same time.
#
# Not as in the plan:
{1}set -eu

lab={0}
)sh";

// Everything that does not depend on the plan but the settings of a kernel.
constexpr const char* verbs = R"sh(
say() { echo "$lab: $*"; }
fail() { echo "$lab: $*" >&2; exit 1; }

# The namespaces of this lab that exist.
ours() {
    for path in /run/netns/"$lab".*; do
        [ ! -e "$path" ] || echo "${path##*/}"
    done
}

# Removes the lab: what runs on its machines, then the machines, and with them all their wires.
remove() {
    for space in $(ours); do
        pids=$(ip netns pids "$space" 2>/dev/null) || pids=
        [ -z "$pids" ] || kill -KILL $pids 2>/dev/null || true
        ip netns delete "$space" 2>/dev/null || true
    done
}

# settle MACHINE FORWARDS: how the kernel of a machine behaves.
settle() { settings "$2" | ip netns exec "$lab.$1" sysctl -q -p -; }

# wires, machine MACHINE: feed the lines that follow to ip, in the namespace of the bridges or of
# the machine.
wires() { ip -n "$lab._wires" -batch -; }
machine() { ip -n "$lab.$1" -batch -; }

# rules MACHINE: feeds the lines that follow to nft on the machine.
rules() { ip netns exec "$lab.$1" nft -f -; }

# refused MACHINE ROUTE...: a route of the plan that a kernel does not take.
refused() {
    on=$1
    shift
    if ip -n "$lab.$on" route add "$@" 2>/dev/null; then
        fail "the kernel of $on took a route that it was expected to refuse: $*"
    fi
}

# tunnel ID MACHINE NIC MAC MTU ADDRESS MACHINE NIC MAC MTU ADDRESS: packets of one machine's NIC
# travel inside UDP packets between the two addresses (VXLAN, RFC 7348).
tunnel() {
    id=$1
    shift
    if ip -n "$lab._wires" link add vxlan-probe type vxlan id 1 remote 192.0.2.1 dstport 4789 2>/dev/null
    then
        ip -n "$lab._wires" link delete vxlan-probe
        tunnel_end "$id" "$1" "$2" "$3" "$4" "$5" "${10}"
        tunnel_end "$id" "$6" "$7" "$8" "$9" "${10}" "$5"
    else
        say "no VXLAN in this kernel: the tunnel $1 -- $6 is a pair of devices, whatever is between"
        ip link add name "$2" netns "$lab.$1" address "$3" mtu "$4" type veth \
            peer name "$7" netns "$lab.$6" address "$8" mtu "$9"
    fi
}
tunnel_end() {
    ip -n "$lab.$2" link add name "$3" address "$4" mtu "$5" type vxlan id "$1" local "$6" \
        remote "$7" dstport 4789 ttl 64 nolearning
}

undo() {
    trap - EXIT
    say "start failed; removing what was made" >&2
    remove
    exit 1
}

start() {
    ip netns add "$lab._wires" 2>/dev/null ||
        fail "it is there already, or something is left of it (or you are not root); stop it first"
    trap undo EXIT
    trap 'exit 1' HUP INT TERM
    build
    leases
    trap - EXIT HUP INT TERM
    say "started $(echo $machines | wc -w) machines; next: enter MACHINE, check, stop"
}

# give MACHINE OPTION...: a DHCP server on a machine, or a relay.
give() {
    on=$1
    shift
    ip netns exec "$lab.$on" dnsmasq --conf-file=/dev/null --port=0 --no-hosts --no-resolv \
        --no-ping --bind-dynamic --except-interface=lo --leasefile-ro --dhcp-authoritative \
        --dhcp-sequential-ip --user=root --pid-file= "$@"
}

# take MACHINE NIC METRIC ADDRESS: asks for a lease, and tells if it is not what the plan has.
take() {
    got=$(ip netns exec "$lab.$1" env metric="$3" udhcpc -i "$2" -n -q -f -t 6 -T 1 \
        -s "$lease_script" 2>/dev/null | sed -n 's/^got //p')
    [ "$got" = "$4" ] || say "$1/$2 got ${got:-no lease}; the plan has $4"
}

serve() {
    command -v socat >/dev/null || fail "serve needs socat"
    status >/dev/null
    services
    say "what the plan says listens"
}
# offer MACHINE PROTOCOL PORT: takes every connection, and sends back what comes by it.
offer() {
    for family in 4 6; do
        type=$(echo "$2$family-listen" | tr a-z A-Z)
        more=
        [ "$family" = 4 ] || more=,ipv6only=1
        ip netns exec "$lab.$1" setsid socat "$type:$3,fork,reuseaddr$more" EXEC:cat \
            </dev/null >/dev/null 2>&1 &
    done
}

stop() {
    remove
    left=$(ours)
    [ -z "$left" ] || fail "still there: $left"
    say "stopped"
}

status() {
    missing=0
    for name in $machines; do
        if [ -e "/run/netns/$lab.$name" ]; then
            echo "$name"
            ip -n "$lab.$name" -brief address | sed '/^lo /d; s/@[^ ]*//; s/^/    /'
        else
            echo "$name is not there"
            missing=$((missing + 1))
        fi
    done
    [ "$missing" -eq 0 ] || fail "$missing of $(echo $machines | wc -w) machines are not there"
}

enter() {
    [ $# -gt 0 ] || fail "enter MACHINE [COMMAND...]; there are: $machines"
    [ -e "/run/netns/$lab.$1" ] || fail "there is no machine $1 running; there are: $machines"
    space=$lab.$1
    PS1="$1# "
    export PS1
    shift
    [ $# -gt 0 ] || set -- sh
    exec ip netns exec "$space" "$@"
}

# ask FROM TO ADDRESS WANTED [SOURCE]: one ping, and whether it goes as the plan expects.
# try FROM TO ADDRESS PORT WANTED: the same of one TCP connection.
try() {
    asked=$((asked + 1))
    attempt "$@" >"$answers/$asked" &
    [ $((asked % 50)) -ne 0 ] || wait
}
attempt() {
    got=closed
    if ip netns exec "$lab.$1" socat -u OPEN:/dev/null "TCP:$3:$4,connect-timeout=4" 2>/dev/null; then
        got=open
    fi
    result="as expected"
    [ "$got" = "$5" ] || result="NOT AS EXPECTED"
    printf '%-8s  %s to %s (%s), tcp/%s: %s\n' "$got" "$1" "$2" "$3" "$4" "$result"
}
ask() {
    asked=$((asked + 1))
    answer "$@" >"$answers/$asked" &
    [ $((asked % 50)) -ne 0 ] || wait
}
answer() {
    got=no-reply
    if ip netns exec "$lab.$1" ping -n -q -c 1 -W 4 ${5:+-I "$5"} "$3" >/dev/null 2>&1; then
        got=reply
    fi
    result="as expected"
    [ "$got" = "$4" ] || result="NOT AS EXPECTED"
    printf '%-8s  %s to %s (%s): %s\n' "$got" "$1" "$2" "$3" "$result"
}

check() {
    status >/dev/null
    command -v ping >/dev/null || fail "check needs ping"
    if [ -n "$has_services" ]; then
        (serve >/dev/null) # apart, so that nobody waits for what listens
        sleep 0.5
    fi
    answers=$(mktemp -d)
    trap 'rm -rf "$answers"' EXIT
    asked=0
    questions
    wait
    [ "$asked" -gt 0 ] || fail "the plan expects nothing that can be asked"
    for number in $(seq "$asked"); do cat "$answers/$number"; done >"$answers/all"
    cat "$answers/all"
    wrong=$(grep -c 'NOT AS EXPECTED$' "$answers/all") || true
    if [ "$wrong" -ne 0 ]; then
        say "$wrong of $asked answers are not as the plan expects"
        exit 1
    fi
    say "all $asked answers are as the plan expects"
}

verb=${1:-}
[ $# -eq 0 ] || shift
case $verb in
start | serve | stop | status | check) "$verb" ;;
enter) enter "$@" ;;
*) fail "write start, serve, stop, status, enter MACHINE [COMMAND...] or check" ;;
esac
)sh";

// How each kernel is set. Every line that decides what becomes of a packet stands here, so that
// the settings of the computer itself do not matter.
constexpr const char* script_settings = R"sh(
# How a machine behaves: as a Linux host does by itself, whatever this computer is set to. NICs that
# are made later take the values of "default".
settings() {
    cat <<END
# Passing on what is meant for others. First, as the kernel changes other settings with it.
net.ipv4.ip_forward = $1
net.ipv6.conf.all.forwarding = $1
net.ipv6.conf.default.forwarding = $1
# No reverse path filter: a packet may come by another way than the answer would go.
net.ipv4.conf.all.rp_filter = 0
net.ipv4.conf.default.rp_filter = 0
# A packet from one of the machine's own addresses that comes in from outside is dropped.
net.ipv4.conf.all.accept_local = 0
net.ipv4.conf.default.accept_local = 0
# No redirects: the plan's routes are the routes, whatever a router would advise.
net.ipv4.conf.all.send_redirects = 0
net.ipv4.conf.default.send_redirects = 0
net.ipv4.conf.all.accept_redirects = 0
net.ipv4.conf.default.accept_redirects = 0
net.ipv6.conf.all.accept_redirects = 0
net.ipv6.conf.default.accept_redirects = 0
# ARP: a machine answers on every NIC for all its addresses, and asks from any of them.
net.ipv4.conf.all.arp_ignore = 0
net.ipv4.conf.default.arp_ignore = 0
net.ipv4.conf.all.arp_announce = 0
net.ipv4.conf.default.arp_announce = 0
net.ipv4.conf.all.arp_filter = 0
net.ipv4.conf.default.arp_filter = 0
# A link without carrier keeps its routes.
net.ipv4.conf.all.ignore_routes_with_linkdown = 0
net.ipv4.conf.default.ignore_routes_with_linkdown = 0
net.ipv6.conf.all.ignore_routes_with_linkdown = 0
net.ipv6.conf.default.ignore_routes_with_linkdown = 0
# No duplicate address detection: addresses work at once, also one that is there twice.
net.ipv6.conf.all.accept_dad = 0
net.ipv6.conf.default.accept_dad = 0
# No router advertisements and no temporary addresses: addresses and routes are those of the plan.
net.ipv6.conf.all.accept_ra = 0
net.ipv6.conf.default.accept_ra = 0
net.ipv6.conf.all.autoconf = 0
net.ipv6.conf.default.autoconf = 0
net.ipv6.conf.all.use_tempaddr = 0
net.ipv6.conf.default.use_tempaddr = 0
net.ipv6.conf.all.disable_ipv6 = 0
net.ipv6.conf.default.disable_ipv6 = 0
# A NIC that goes down loses its IPv6 addresses.
net.ipv6.conf.all.keep_addr_on_down = 0
net.ipv6.conf.default.keep_addr_on_down = 0
# Pings are answered, broadcast ones are not, and every error is sent, however many there are.
net.ipv4.icmp_echo_ignore_all = 0
net.ipv4.icmp_echo_ignore_broadcasts = 1
net.ipv4.icmp_errors_use_inbound_ifaddr = 0
net.ipv4.icmp_ratemask = 0
net.ipv6.icmp.echo_ignore_all = 0
net.ipv6.icmp.ratelimit = 0
# Replies start with the usual TTL.
net.ipv4.ip_default_ttl = 64
net.ipv6.conf.all.hop_limit = 64
net.ipv6.conf.default.hop_limit = 64
END
}
)sh";

class ScriptWriter {
  public:
    ScriptWriter(const routing::Settled& settled, const ScriptOptions& options)
        : with_dhcp_(options.with_dhcp), settled_(settled), condition_(settled.condition()),
          lab_(settled.lab()) {
        for (const routing::RefusedRoute& row : settled.refused())
            refused_.insert(row.written);
    }

    std::string run() {
        std::string questions = write_questions();
        return fmt::format(fmt::runtime(script_head), lab_.name, header_notes()) + write_names()
               + script_settings + write_build() + write_leases() + write_services() + questions
               + verbs;
    }

  private:
    // --- what the script is about ----------------------------------------------------------

    std::vector<std::string_view> running() const {
        std::vector<std::string_view> names;
        for (MachineId id : lab_.machines.ids())
            if (condition_.machine_on(id))
                names.push_back(lab_.machines[id].name);
        return names;
    }

    static double milliseconds(std::chrono::microseconds time) {
        return static_cast<double>(time.count()) / 1000;
    }

    // `machines='…'`, broken into lines.
    std::string write_names() const {
        std::string text = "machines='";
        std::size_t line_start = 0;
        for (std::string_view name : running()) {
            if (text.size() - line_start + name.size() > 98) {
                text += '\n';
                line_start = text.size();
            } else if (text.back() != '\'') {
                text += ' ';
            }
            text += name;
        }
        return text + "'\n";
    }

    std::string header_notes() const {
        std::string notes;
        auto note = [&](const std::string& text) { notes += fmt::format("#   - {}\n", text); };
        for (lab::LinkId id : lab_.links.ids()) {
            const lab::Link& link = lab_.links[id];
            std::string name = lab_.segment_name(link.segment);
            if (link.delay.count() != 0)
                note(fmt::format("{}: no delay, instead of {:g} ms", name,
                                 milliseconds(link.delay)));
            if (link.jitter.count() != 0)
                note(fmt::format("{}: no jitter, instead of up to {:g} ms", name,
                                 milliseconds(link.jitter)));
            if (link.loss != 0)
                note(
                    fmt::format("{}: no packet is lost, instead of {:g} %", name, link.loss * 100));
        }
        for (MachineId id : lab_.machines.ids())
            if (!condition_.machine_on(id))
                note(fmt::format("{} is off: it has no namespace", lab_.machines[id].name));
        for (const lab::Link& link : lab_.links)
            if (link.is_tunnel)
                note(fmt::format("{}: VXLAN if this kernel has it, else a pair of devices",
                                 lab_.segment_name(link.segment)));
        if (lab_.speakers.size() != 0)
            note("OSPF, RIP and BGP: the routes that they end up with, which no longer change");
        if (lab_.has_wiring())
            note("switches: each broadcast domain is one bridge, each bond one NIC");
        for (const lab::UnresolvedRoute& row : lab_.unresolved_routes)
            note(fmt::format("{} has no route via {}, which is on none of its segments",
                             lab_.machines[row.machine].name, row.via));
        for (const std::string& text : unasked_)
            note(text);
        return notes.empty() ? "#   nothing\n" : notes;
    }

    // --- start -----------------------------------------------------------------------------

    std::string write_build() {
        std::string text = "\nbuild() {\n    ip -batch - <<'END'\n";
        for (std::string_view name : running())
            text += fmt::format("netns add {}.{}\n", lab_.name, name);
        text += "END\n";
        text += "    echo 'net.ipv6.conf.default.disable_ipv6 = 1' |\n"
                "        ip netns exec \"$lab._wires\" sysctl -q -p -\n";
        for (MachineId id : lab_.machines.ids())
            if (condition_.machine_on(id))
                text += fmt::format("    settle {} {}\n", lab_.machines[id].name,
                                    lab_.machines[id].forwards ? 1 : 0);
        text += write_wires();
        for (lab::LinkId id : lab_.links.ids())
            if (is_live_tunnel(lab_.segments[lab_.links[id].segment]))
                text += write_tunnel(id);
        for (MachineId id : lab_.machines.ids())
            if (condition_.machine_on(id))
                text += write_machine(id);
        return text + "}\n";
    }

    std::string write_wires() const {
        std::string text = "    wires <<'END'\n";
        for (lab::SegmentId id : lab_.segments.ids()) {
            const lab::Segment& segment = lab_.segments[id];
            if (segment.loopback || (segment.subnet && lab_.has_wiring()))
                continue; // every namespace has a loopback; domains are below
            if (is_live_tunnel(segment))
                continue;
            text += fmt::format("# {}\n", lab_.segment_name(id));
            if (is_pair(segment))
                text += fmt::format("link add {} type veth peer {}\n", end_of(segment.nics[0]),
                                    end_of(segment.nics[1]));
            else
                text +=
                    write_bridge(fmt::format("segment-{}", id.row), segment.nics, alias_of(segment),
                                 !segment.link
                                     || (condition_.link_up(segment.link)
                                         && !lab_.links[segment.link].is_tunnel));
        }
        if (lab_.has_wiring())
            text += write_domains();
        return text + "END\n";
    }

    // Of switches only what they make of the segments is shown: who hears whom.
    std::string write_domains() const {
        std::map<std::uint32_t, std::vector<NicId>> domains;
        for (NicId nic : lab_.nics.ids())
            if (lab_.segments[lab_.nics[nic].segment].subnet)
                domains[settled_.wiring().domain(lab_, nic)].push_back(nic);
        std::string text;
        for (const auto& [domain, nics] : domains) {
            std::string names;
            for (NicId nic : nics)
                if (std::string name = lab_.segment_name(lab_.nics[nic].segment);
                    ("--" + names + "--").find("--" + name + "--") == std::string::npos)
                    names += (names.empty() ? "" : "--") + name;
            text += fmt::format("# {}\n", names);
            text += write_bridge(fmt::format("domain-{}", nics.front().row), nics,
                                 names.substr(0, 250), true);
        }
        return text;
    }

    // A link that works, between two machines that are on: a pair of devices, and nothing between.
    bool is_pair(const lab::Segment& segment) const {
        return is_live(segment) && !lab_.links[segment.link].is_tunnel;
    }

    bool is_live(const lab::Segment& segment) const {
        auto on = [&](NicId nic) { return condition_.machine_on(lab_.nics[nic].machine); };
        return segment.link && condition_.link_up(segment.link)
               && std::ranges::all_of(segment.nics, on);
    }

    bool is_live_tunnel(const lab::Segment& segment) const {
        return is_live(segment) && lab_.links[segment.link].is_tunnel
               && lab_.links[segment.link].outer;
    }

    std::string write_tunnel(lab::LinkId id) const {
        const lab::Link& link = lab_.links[id];
        std::string text = fmt::format("    tunnel {}", id.row + 1);
        for (int end : {0, 1}) {
            const lab::Nic& nic = lab_.nics[end == 0 ? link.first : link.second];
            text += fmt::format(" {} {} {} {} {}", lab_.machines[nic.machine].name, nic.name,
                                net::to_string(nic.mac), nic.mtu_bytes,
                                net::to_string((*link.outer)[static_cast<std::size_t>(end)]));
        }
        return text + "\n";
    }

    // A NIC as `ip link add` takes one end of a pair.
    std::string end_of(NicId id) const {
        const lab::Nic& nic = lab_.nics[id];
        return fmt::format("name {} netns {}.{} address {} mtu {}", nic.name, lab_.name,
                           lab_.machines[nic.machine].name, net::to_string(nic.mac), nic.mtu_bytes);
    }

    // A bridge with a port for each NIC; a NIC's own MTU alone decides what gets through. The ports
    // of a link that is cut stay down, so its NICs have no carrier.
    std::string write_bridge(const std::string& bridge, const std::vector<NicId>& nics,
                             const std::string& alias, bool works) const {
        std::string text = fmt::format(
            "link add {} type bridge stp_state 0 forward_delay 0 mcast_snooping 0\n", bridge);
        for (NicId nic : nics) {
            if (!condition_.machine_on(lab_.nics[nic].machine))
                continue;
            std::string port = fmt::format("port-{}", nic.row);
            text +=
                fmt::format("link add name {} mtu 65535 type veth peer {}\n", port, end_of(nic));
            text += fmt::format("link set {} master {} {}\n", port, bridge, works ? "up" : "down");
        }
        return text + fmt::format("link set {} alias {} up\n", bridge, alias);
    }

    std::string alias_of(const lab::Segment& segment) const {
        if (segment.subnet)
            return lab_.subnets[segment.subnet].name;
        return fmt::format("{}--{}", lab_.machine_name(segment.nics[0]),
                           lab_.machine_name(segment.nics[1]));
    }

    std::string write_machine(MachineId id) const {
        std::string text =
            fmt::format("    machine {} <<'END'\nlink set lo up\n", lab_.machines[id].name);
        for (NicId nic : lab_.nics_of(id)) {
            if (!lab_.nics[nic].is_loopback())
                text += fmt::format("link set {} up\n", lab_.nics[nic].name);
            for (lab::AddressId row : lab_.addresses_of(nic))
                if (!is_taken(lab_.addresses[row]))
                    text += write_address(lab_.addresses[row]);
            // As a NIC that went down: the kernel takes its IPv6 addresses.
            if (!condition_.nic_up(nic))
                text += fmt::format("link set {} down\n", lab_.nics[nic].name);
        }
        std::string refused;
        if (!takes_lease(id)) // else they come with the lease
            text += write_routes(id, refused);
        return text + "END\n" + refused + write_learned(id) + write_rules(id);
    }

    // What routing protocols taught the machine, as routes that do not change.
    std::string write_learned(MachineId id) const {
        std::vector<routing::Route> routes = settled_.routes(id);
        std::erase_if(routes, [](const auto& route) { return !routing::is_learned(route.kind); });
        if (routes.empty())
            return "";
        std::vector<routing::Gate> covered = covered_gates(id);
        std::string text = fmt::format("    machine {} <<'END'\n", lab_.machines[id].name);
        for (const routing::Gate& gate : covered)
            text += fmt::format("route add {} dev {} metric 1\n", net::to_string(gate.via),
                                lab_.nics[gate.out].name);
        for (std::size_t i = 0; i < routes.size();) {
            const routing::Route& first = routes[i];
            std::string ways;
            std::size_t count = 0;
            for (; i < routes.size() && routes[i].to == first.to; ++i, ++count)
                ways += fmt::format(" nexthop via {} dev {} onlink", net::to_string(routes[i].via),
                                    lab_.nics[routes[i].out].name);
            if (count == 1)
                ways.erase(0, std::string_view(" nexthop").size());
            text +=
                fmt::format("route add {} proto {} metric {}{}\n", net::to_string(first.to),
                            routing::to_string(first.kind), routing::preference(first.kind), ways);
        }
        for (const routing::Gate& gate : covered)
            text += fmt::format("route del {} dev {} metric 1\n", net::to_string(gate.via),
                                lab_.nics[gate.out].name);
        return text + "END\n";
    }

    // IPv6 next hops that a route by another NIC covers more closely than their own subnet. The
    // kernel looks each next hop up when it takes a route, and takes none that it finds elsewhere;
    // so these get routes of their own meanwhile.
    std::vector<routing::Gate> covered_gates(MachineId id) const {
        std::vector<routing::Route> routes = settled_.routes(id);
        std::vector<routing::Gate> gates;
        for (const routing::Route& route : routes)
            if (routing::is_learned(route.kind) && route.via.family() == net::Family::ipv6)
                gates.push_back({route.out, route.via});
        std::ranges::sort(gates);
        auto repeated = std::ranges::unique(gates);
        gates.erase(repeated.begin(), repeated.end());
        std::erase_if(gates, [&](const routing::Gate& gate) {
            const routing::Route* closest = nullptr;
            bool here = false;
            for (const routing::Route& route : routes) {
                if (!route.to.contains(gate.via)
                    || (closest != nullptr && route.to.length() < closest->to.length()))
                    continue;
                here = (closest != nullptr && route.to == closest->to && here)
                       || (route.kind == routing::RouteKind::connected && route.out == gate.out);
                closest = &route;
            }
            return here;
        });
        return gates;
    }

    // True if the address comes from a real server.
    bool is_taken(const lab::InterfaceAddress& row) const {
        return with_dhcp_ && row.origin == lab::AddressOrigin::lease
               && row.address.family() == net::Family::ipv4 && condition_.nic_up(row.nic);
    }

    bool takes_lease(MachineId id) const {
        for (NicId nic : lab_.nics_of(id))
            for (lab::AddressId row : lab_.addresses_of(nic))
                if (is_taken(lab_.addresses[row]))
                    return true;
        return false;
    }

    // Those that the kernel is expected to refuse are tried on their own.
    std::string write_routes(MachineId id, std::string& refused) const {
        std::string text;
        bool leases = takes_lease(id);
        for (lab::RouteId route : lab_.routes_of(id)) {
            if (leases && lab_.routes[route].origin == lab::RouteOrigin::gateway_lease)
                continue;
            if (refused_.contains(route))
                refused += fmt::format("    refused {} {}\n", lab_.machines[id].name,
                                       route_words(lab_.routes[route]));
            else
                text += fmt::format("route add {}\n", route_words(lab_.routes[route]));
        }
        return text;
    }

    // --- leases ----------------------------------------------------------------------------

    std::string write_leases() const {
        if (!with_dhcp_ || lab_.leases.empty())
            return "\nleases() { :; }\n";
        std::string text = "\n"
                           "# What a DHCP client does with its lease.\n"
                           "lease_steps() {\n"
                           "    cat <<'END'\n"
                           "#!/bin/sh\n"
                           "[ \"$1\" = bound ] || exit 0\n"
                           "ip address add \"$ip/$mask\" dev \"$interface\"\n"
                           "for via in $router; do\n"
                           "    ip route add default via \"$via\" metric \"$metric\" 2>/dev/null\n"
                           "done\n"
                           "echo \"got $ip\"\n"
                           "END\n"
                           "}\n"
                           "leases() {\n"
                           "    command -v dnsmasq >/dev/null || fail \"start needs dnsmasq\"\n"
                           "    command -v udhcpc >/dev/null || fail \"start needs udhcpc\"\n"
                           "    lease_script=$(mktemp)\n"
                           "    lease_steps >\"$lease_script\"\n"
                           "    chmod 700 \"$lease_script\"\n";
        for (MachineId id : lab_.machines.ids()) // they are there before the lab
            if (lab_.machines[id].outside && !takes_lease(id))
                text += write_giving(id);
        for (const lab::Start& start : lab::start_order(lab_))
            text += write_taking(start.machine) + write_giving(start.machine);
        return text + "    rm -f \"$lease_script\"\n}\n";
    }

    std::string write_taking(MachineId id) const {
        if (!condition_.machine_on(id) || !takes_lease(id))
            return "";
        std::string text;
        for (NicId nic : lab_.nics_of(id))
            for (lab::AddressId row : lab_.addresses_of(nic))
                if (is_taken(lab_.addresses[row]))
                    text += fmt::format("    take {} {} {} {}\n", lab_.machines[id].name,
                                        lab_.nics[nic].name, lease_metric(nic),
                                        net::to_string(lab_.addresses[row].address));
        std::string refused;
        std::string routes = write_routes(id, refused);
        return text + fmt::format("    machine {} <<'END'\n{}END\n", lab_.machines[id].name, routes)
               + refused;
    }

    std::uint32_t lease_metric(NicId nic) const {
        const lab::Lease* lease = lab_.lease_of(nic);
        for (lab::RouteId id : lab_.routes_of(lab_.nics[nic].machine))
            if (const lab::StaticRoute& route = lab_.routes[id];
                route.origin == lab::RouteOrigin::gateway_lease && lease->router == route.via)
                return route.metric;
        return 0;
    }

    // The server or relay that a machine is; nothing if nobody gets a lease from it.
    std::string write_giving(MachineId id) const {
        std::string ranges;
        std::string relays;
        for (const lab::DhcpOffer& offer : lab_.offers) {
            bool relays_it = lab_.nics[offer.heard_by].machine == id && offer.giver != id;
            if (!condition_.machine_on(id) || (offer.giver != id && !relays_it))
                continue;
            const lab::Lease* client = nullptr;
            std::string kept;
            for (const lab::Lease& lease : lab_.leases)
                if (lease.server == offer.heard_by && lease.giver == offer.giver
                    && lease.refusal == lab::Lease::Refusal::none) {
                    client = &lease;
                    if (lease.reserved)
                        kept += fmt::format(" \\\n        --dhcp-host={},{}",
                                            net::to_string(lab_.nics[lease.nic].mac),
                                            net::to_string(lease.address));
                }
            if (client == nullptr)
                continue;
            if (relays_it)
                relays += write_relay(offer);
            else
                ranges += write_offer(offer, *client) + kept;
        }
        if (ranges.empty() && relays.empty())
            return "";
        return fmt::format("    give {}{}{}\n", lab_.machines[id].name, ranges, relays);
    }

    std::string write_offer(const lab::DhcpOffer& offer, const lab::Lease& client) const {
        const lab::Subnet& subnet = lab_.subnets[offer.subnet];
        const net::Prefix& prefix = *lab_.segments[subnet.segment].prefix.ipv4;
        std::string text;
        for (const net::Range& range : offer.gives)
            text += fmt::format(" \\\n        --dhcp-range=set:{},{},{},{},{}", subnet.name,
                                net::to_string(range.first), net::to_string(range.last),
                                mask_text(prefix), client.time.count());
        text += fmt::format(" \\\n        --dhcp-option=tag:{},3{}", subnet.name,
                            client.router ? "," + net::to_string(*client.router) : "");
        for (net::Address server : client.dns)
            text += fmt::format(" --dhcp-option=tag:{},6,{}", subnet.name, net::to_string(server));
        return text;
    }

    std::string write_relay(const lab::DhcpOffer& offer) const {
        const auto* here = lab_.first_address(offer.heard_by, net::Family::ipv4);
        for (NicId nic : lab_.nics_of(offer.giver))
            if (const auto* there = lab_.first_address(nic, net::Family::ipv4))
                return fmt::format(" --dhcp-relay={},{}", net::to_string(here->address),
                                   net::to_string(there->address));
        return "";
    }

    // --- filters and translations ----------------------------------------------------------

    // The rules of a machine; nothing if it has neither filters nor translations. The order of the
    // chains is that of docs/design.md: what stands on a NIC sees a packet as it is on the wire.
    std::string write_rules(MachineId id) const {
        std::set<std::pair<lab::FilterId, plan::Way>> used;
        std::string chains = nic_chain(id, plan::Way::in, used)
                             + nic_chain(id, plan::Way::out, used) + machine_chains(id, used)
                             + relay_chain(id) + translation_chains(id);
        if (chains.empty())
            return "";
        std::string text =
            fmt::format("    rules {} <<'END'\ntable inet jackal {{\n", lab_.machines[id].name);
        for (auto [filter, way] : used)
            text += filter_chain(lab_.filters[filter], way);
        return text + chains + "}\nEND\n";
    }

    static std::string chain_name(const lab::Filter& filter, plan::Way way) {
        return fmt::format("{}-{}", filter.name, plan::to_string(way));
    }

    // What is accepted goes back to where the chain was called from, as other filters may follow.
    static std::string filter_chain(const lab::Filter& filter, plan::Way way) {
        std::string text = fmt::format("  chain {} {{\n", chain_name(filter, way));
        for (const lab::FilterRule& rule : filter.rules)
            if (!rule.way || *rule.way == way)
                for (const std::string& match : matches(rule))
                    text += fmt::format("    {}{}\n", match, rule.allows ? "return" : "drop");
        return text + fmt::format("    {}\n  }}\n", filter.allows ? "return" : "drop");
    }

    // The matches of nftables that together are those of a rule, each with a blank behind it.
    static std::vector<std::string> matches(const lab::FilterRule& rule) {
        std::string ports = port_match(rule);
        if (rule.any_from && rule.any_to)
            return {ports};
        std::vector<std::string> result;
        for (net::Family family : net::both_families) {
            auto from = end_match(rule.any_from, rule.from, family, "saddr");
            auto to = end_match(rule.any_to, rule.to, family, "daddr");
            if (from && to)
                result.push_back(*from + *to + ports);
        }
        return result;
    }

    static std::optional<std::string> end_match(bool any, const std::vector<net::Prefix>& prefixes,
                                                net::Family family, std::string_view field) {
        if (any)
            return "";
        std::string list = prefix_list(prefixes, family);
        if (list.empty())
            return std::nullopt;
        return fmt::format("{} {} {{ {} }} ", family == net::Family::ipv4 ? "ip" : "ip6", field,
                           list);
    }

    // Prefixes that others hold are left out, as nftables refuses sets that overlap.
    static std::string prefix_list(const std::vector<net::Prefix>& prefixes, net::Family family) {
        std::string list;
        for (std::size_t i = 0; i < prefixes.size(); ++i) {
            bool held = false;
            for (std::size_t j = 0; j < prefixes.size(); ++j)
                held |= prefixes[j].contains(prefixes[i]) && (prefixes[j] != prefixes[i] || j < i);
            if (prefixes[i].family() != family || held)
                continue;
            list += (list.empty() ? "" : ", ") + net::to_string(prefixes[i]);
        }
        return list;
    }

    static std::string port_match(const lab::FilterRule& rule) {
        std::string_view protocol = rule.protocol == net::Protocol::icmp   ? "icmp, ipv6-icmp"
                                    : rule.protocol == net::Protocol::tcp  ? "tcp"
                                    : rule.protocol == net::Protocol::udp  ? "udp"
                                    : rule.protocol == net::Protocol::ospf ? "89" // RFC 2328
                                    : rule.ports.empty()                   ? ""
                                                                           : "tcp, udp";
        if (protocol.empty())
            return "";
        std::string text = fmt::format("meta l4proto {{ {} }} ", protocol);
        if (rule.ports.empty())
            return text;
        std::string list;
        for (net::Ports ports : merged(rule.ports))
            list += (list.empty() ? "" : ", ") + net::to_string(ports);
        return text + fmt::format("th dport {{ {} }} ", list);
    }

    // Ports in order, those that overlap as one range.
    static std::vector<net::Ports> merged(std::vector<net::Ports> ports) {
        std::ranges::sort(ports, {}, &net::Ports::first);
        std::vector<net::Ports> result;
        for (net::Ports next : ports)
            if (!result.empty() && next.first <= result.back().last)
                result.back().last = std::max(result.back().last, next.last);
            else
                result.push_back(next);
        return result;
    }

    // What every chain of filters lets pass: what answers an allowed packet or tells of it, what a
    // machine sends to itself, and Neighbour Discovery (RFC 4861), as ARP is not filtered either.
    static constexpr std::string_view always =
        "    ct state established,related accept\n"
        "    {}if lo accept\n"
        "    icmpv6 type {{ nd-router-solicit, nd-router-advert, nd-neighbor-solicit, "
        "nd-neighbor-advert, nd-redirect }} accept\n";

    static std::string base_chain(std::string_view name, std::string_view hook, int priority,
                                  std::string_view direction, const std::string& rules) {
        return fmt::format("  chain {} {{\n    type filter hook {} priority {}; policy accept;\n",
                           name, hook, priority)
               + fmt::format(fmt::runtime(always), direction) + rules + "  }\n";
    }

    std::string nic_chain(MachineId id, plan::Way way,
                          std::set<std::pair<lab::FilterId, plan::Way>>& used) const {
        std::string rules;
        bool in = way == plan::Way::in;
        for (NicId nic : lab_.nics_of(id)) {
            if (!lab_.nics[nic].guard)
                continue;
            const lab::Guard& guard = lab_.guards[lab_.nics[nic].guard];
            for (lab::FilterId filter : {guard.subnet, guard.nic})
                if (filter) {
                    used.emplace(filter, way);
                    rules +=
                        fmt::format("    {}ifname \"{}\" jump {}\n", in ? "i" : "o",
                                    lab_.nics[nic].name, chain_name(lab_.filters[filter], way));
                }
        }
        if (rules.empty())
            return "";
        return in ? base_chain("nic-arrives", "prerouting", before_translation, "i", rules)
                  : base_chain("nic-leaves", "postrouting", after_translation, "o", rules);
    }

    std::string machine_chains(MachineId id,
                               std::set<std::pair<lab::FilterId, plan::Way>>& used) const {
        const lab::Duties* duties = lab_.duties_of(id);
        if (duties == nullptr || !duties->filter)
            return "";
        std::string text;
        for (auto [way, hook, direction] :
             {std::tuple{plan::Way::in, "input", "i"}, std::tuple{plan::Way::out, "output", "o"},
              std::tuple{plan::Way::through, "forward", "i"}}) {
            used.emplace(duties->filter, way);
            text += base_chain(
                fmt::format("machine-{}", plan::to_string(way)), hook, 0, direction,
                fmt::format("    jump {}\n", chain_name(lab_.filters[duties->filter], way)));
        }
        return text;
    }

    // A core passes nothing on from one peer to another, nor back to the same one.
    std::string relay_chain(MachineId id) const {
        std::string peers;
        for (NicId nic : lab_.nics_of(id))
            if (lab_.machines[id].is_core && lab_.is_peering(nic))
                peers += fmt::format("{}\"{}\"", peers.empty() ? "" : ", ", lab_.nics[nic].name);
        if (peers.empty())
            return "";
        return fmt::format("  chain no-relay {{\n"
                           "    type filter hook forward priority -10; policy accept;\n"
                           "    iifname {{ {0} }} oifname {{ {0} }} drop\n  }}\n",
                           peers);
    }

    std::string translation_chains(MachineId id) const {
        const lab::Duties* duties = lab_.duties_of(id);
        if (duties == nullptr || duties->translations.empty())
            return "";
        std::string inwards;
        std::string outwards;
        for (const lab::Translation& rule : duties->translations)
            (rule.kind == plan::Translation::Kind::source ? outwards : inwards) +=
                translation_line(rule);
        return fmt::format("  chain translate-destination {{\n"
                           "    type nat hook prerouting priority -100; policy accept;\n{}  }}\n"
                           "  chain translate-source {{\n"
                           "    type nat hook postrouting priority 100; policy accept;\n{}  }}\n",
                           inwards, outwards);
    }

    std::string translation_line(const lab::Translation& rule) const {
        const std::string& nic = lab_.nics[rule.nic].name;
        if (rule.kind == plan::Translation::Kind::source) {
            auto from = end_match(rule.any_source, rule.from, net::Family::ipv4, "saddr");
            if (!from)
                return "";
            return fmt::format("    meta nfproto ipv4 oifname \"{}\" {}masquerade\n", nic, *from);
        }
        std::vector<net::Prefix> own;
        for (lab::AddressId row : lab_.addresses_of(rule.nic))
            own.emplace_back(lab_.addresses[row].address,
                             net::address_bits(lab_.addresses[row].address.family()));
        auto to = end_match(false, own, net::Family::ipv4, "daddr");
        if (!to || !rule.to)
            return "";
        std::string match;
        if (rule.protocol != net::Protocol::any)
            match = fmt::format("meta l4proto {} ", net::to_string(rule.protocol));
        if (rule.port != 0)
            match += fmt::format("th dport {} ", rule.port);
        return fmt::format("    iifname \"{}\" {}{}dnat ip to {}{}\n", nic, *to, match,
                           net::to_string(*rule.to),
                           rule.to_port != 0 ? fmt::format(":{}", rule.to_port) : "");
    }

    // --- services --------------------------------------------------------------------------

    std::string write_services() const {
        std::string text;
        for (MachineId id : lab_.machines.ids()) {
            const lab::Duties* duties = lab_.duties_of(id);
            if (duties == nullptr || !condition_.machine_on(id))
                continue;
            for (net::Service service : duties->listens)
                text += fmt::format("    offer {} {} {}\n", lab_.machines[id].name,
                                    net::to_string(service.protocol), service.port);
        }
        return fmt::format("\nhas_services={}\nservices() {{\n    :\n{}}}\n",
                           text.empty() ? "" : "yes", text);
    }

    std::string write_address(const lab::InterfaceAddress& row) const {
        const lab::Nic& nic = lab_.nics[row.nic];
        bool ipv6 = row.address.family() == net::Family::ipv6;
        if (ipv6 && nic.mtu_bytes < lab::ipv6_minimum_mtu_bytes)
            return fmt::format("# {} has too small an MTU for {}\n", nic.name,
                               net::to_string(row.address));
        return fmt::format("address add {}/{} dev {}{}\n", net::to_string(row.address), row.length,
                           nic.name, ipv6 ? " nodad" : "");
    }

    static std::string route_words(const lab::StaticRoute& route) {
        return fmt::format("{} via {} metric {}", net::to_string(route.to),
                           net::to_string(route.via), route.metric);
    }

    // --- check -----------------------------------------------------------------------------

    std::string write_questions() {
        std::string text = "\nquestions() {\n    :\n";
        std::size_t asked = 0;
        for (const plan::Expectation& expectation : lab_.expectations) {
            auto senders = probe::endpoints(lab_, expectation.from.value);
            auto targets = probe::endpoints(lab_, expectation.to.value);
            if (asked + senders.size() * targets.size() > most_checked_pings) {
                unasked_.push_back(fmt::format("check leaves out {} to {}: too many pings",
                                               expectation.from.value, expectation.to.value));
                continue;
            }
            if (!expectation.cuts.empty()) {
                unasked_.push_back(
                    fmt::format("check does not cut anything, so leaves out {} to {} "
                                "under a cut",
                                expectation.from.value, expectation.to.value));
                continue;
            }
            if (expectation.within)
                unasked_.push_back(fmt::format("check does not measure how long {} to {} takes",
                                               expectation.from.value, expectation.to.value));
            for (const probe::Endpoint& from : senders)
                for (const probe::Endpoint& to : targets)
                    if (from.machine != to.machine || senders.size() * targets.size() == 1)
                        text += write_question(expectation, from, to);
            asked += senders.size() * targets.size();
        }
        return text + "}\n";
    }

    std::string write_question(const plan::Expectation& expectation, const probe::Endpoint& from,
                               const probe::Endpoint& to) {
        probe::Exchange answer = probe::exchange(
            settled_,
            {.from = from, .to = to, .service = expectation.service, .family = expectation.family});
        if (answer.gap == probe::Gap::name_unknown) {
            unasked_.push_back(fmt::format("check leaves out {} to {}: it asks by address, and the "
                                           "name is not resolved",
                                           from.name, to.name));
            return "";
        }
        if (!answer.source || !answer.destination || !condition_.machine_on(from.machine)) {
            unasked_.push_back(fmt::format("check leaves out {} to {}: {}", from.name, to.name,
                                           condition_.machine_on(from.machine)
                                               ? "no address of the same family"
                                               : "the sender is off"));
            return "";
        }
        if (expectation.service && expectation.service->protocol == net::Protocol::udp) {
            unasked_.push_back(fmt::format("check leaves out {} to {}: {} has no handshake",
                                           from.name, to.name,
                                           net::to_string(*expectation.service)));
            return "";
        }
        if (expectation.service)
            return fmt::format("    try {} {} {} {} {}\n", lab_.machines[from.machine].name,
                               to.name, address_in_socat(*answer.destination),
                               expectation.service->port,
                               expectation.gets.value == "open" ? "open" : "closed");
        return fmt::format("    ask {} {} {} {}{}\n", lab_.machines[from.machine].name, to.name,
                           net::to_string(*answer.destination),
                           expectation.gets.value == "reply" ? "reply" : "no-reply",
                           from.nic ? " " + net::to_string(*answer.source) : "");
    }

    static std::string address_in_socat(net::Address address) {
        return address.family() == net::Family::ipv6
                   ? fmt::format("'[{}]'", net::to_string(address))
                   : net::to_string(address);
    }

    // Of nftables: its translations have -100 and 100.
    static constexpr int before_translation = -150;
    static constexpr int after_translation = 150;

    bool with_dhcp_;
    const routing::Settled& settled_;
    const routing::Condition& condition_;
    const Lab& lab_;
    std::set<lab::RouteId> refused_;
    std::vector<std::string> unasked_; // what check cannot ask, in words
};

} // namespace

std::string namespaces_script(const routing::Settled& settled, const ScriptOptions& options) {
    return ScriptWriter(settled, options).run();
}

} // namespace jackal::exports
