
say() { echo "$lab: $*"; }
fail() { echo "$lab: $*" >&2; exit 1; }

# The namespaces of this lab that exist.
ours() {
    for path in /run/netns/"$lab".*; do
        [ ! -e "$path" ] || echo "${path##*/}"
    done
}

# Removes the lab: what runs on its machines, then the machines, and with them all their wires. Who
# is listed may have ended since, and its number be that of another: it is asked again.
remove() {
    [ -z "$attached" ] || detach
    rm -rf "$speaking"
    for space in $(ours); do
        for pid in $(ip netns pids "$space" 2>/dev/null); do
            [ "$(ip netns identify "$pid" 2>/dev/null)" != "$space" ] ||
                kill -KILL "$pid" 2>/dev/null || true
        done
        ip netns delete "$space" 2>/dev/null || true
    done
    rm -rf ${disks:+"$disks"}
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

# tunnel ID MACHINE NIC MAC MTU ADDRESS PEER MACHINE NIC MAC MTU ADDRESS PEER: packets of one
# machine's NIC travel inside UDP packets between the two addresses (VXLAN, RFC 7348).
tunnel() {
    if ip -n "$lab._wires" link add vxlan-probe type vxlan id 1 remote 192.0.2.1 dstport 4789 2>/dev/null
    then
        ip -n "$lab._wires" link delete vxlan-probe
        tunnel_end "$1" "$2" "$3" "$4" "$5" "$6" "$7"
        tunnel_end "$1" "$8" "$9" "${10}" "${11}" "${12}" "${13}"
    else
        say "no VXLAN in this kernel: the tunnel $2 -- $8 is a pair of devices, whatever is between"
        ip link add name "$3" netns "$lab.$2" address "$4" mtu "$5" type veth \
            peer name "$9" netns "$lab.$8" address "${10}" mtu "${11}"
    fi
}
tunnel_end() {
    ip -n "$lab.$2" link add name "$3" address "$4" mtu "$5" type vxlan id "$1" local "$6" \
        remote "$7" dstport 4789 ttl 64 nolearning
}

undo() {
    trap - EXIT
    say "start failed; removing what was made" >&2
    [ -z "${lease_script:-}" ] || rm -f "$lease_script"
    remove
    exit 1
}

dry=
start() {
    [ -z "$attached" ] || attach_options "$@"
    if [ -n "$dry" ]; then
        attach
        return
    fi
    taken="it is there already, or something is left of it (or you are not root); stop it first"
    [ ! -e "/run/netns/$lab._wires" ] || fail "$taken"
    trap undo EXIT
    trap 'exit 1' HUP INT TERM
    if ! ip netns add "$lab._wires" 2>/dev/null; then
        trap - EXIT
        fail "$taken"
    fi
    build
    if [ -n "$attached" ]; then
        mkdir -m 700 "$attached"
        attach
    fi
    leases
    speakers
    trap '' HUP INT TERM # whole from here on, and said to be so
    trap - EXIT
    if [ -n "$settle_seconds" ]; then
        trap - HUP INT TERM
        settled
    fi
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

# speak MACHINE: a routing daemon on a machine, told what follows.
speak() {
    cat >"$speaking/$1.conf"
    ip netns exec "$lab.$1" bird -c "$speaking/$1.conf" -s "$speaking/$1.ctl" \
        -P "$speaking/$1.pid" || fail "the routing daemon of $1 does not start"
}
# ospf, rip and bgp MACHINE PROTOCOL NEIGHBOUR KEY...: whether one end has got as far with the other
# as it should.
ospf() {
    state=$(told "$1" show ospf neighbors "$2" |
        awk -v id="$4" -v nic="$5" '$1 == id && ($5 == nic || nic == "vlink" && $5 ~ /^vlink/) { sub("/.*", "", $3); print $3 }')
    case $state in
    Full | "$6") ;;
    *) echo "$1 has ${3} in state ${state:-Down} ($2 on $5)" ;;
    esac
}
rip() {
    told "$1" show rip neighbors "$2" | grep -q "^$4 " || echo "$1 does not hear $3 ($2)"
}
bgp() {
    state=$(told "$1" show protocols "$2" | sed -n "s/^$2 *BGP *[^ ]* *[^ ]* *[^ ]* *//p")
    [ "${state%% *}" = Established ] || echo "$1 has $3 in state ${state:-Idle} ($2)"
}
# Waits until all neighbours of the plan hear each other and no table changes any more.
settled() {
    say "waiting for the routing protocols, $settle_seconds s at most" >&2
    end=$(($(date +%s) + settle_seconds))
    before=
    calm=0
    while [ "$(date +%s)" -lt "$end" ]; do
        sleep 1
        if [ "$calm" -eq 0 ] && [ -n "$(neighbours)" ]; then
            continue
        fi
        now=$(tables)
        calm=$((calm + 1))
        [ "$now" = "$before" ] || calm=0
        before=$now
        [ "$calm" -lt "$calm_seconds" ] || return 0
    done
    say "the routing protocols have not settled:" >&2
    apart=$(neighbours)
    echo "${apart:-all neighbours hear each other, and tables still change}" >&2
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
        on "$1" sh -c "setsid socat $type:$3,fork,reuseaddr$more EXEC:cat </dev/null >/dev/null 2>&1 &"
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
        if is_there "$name"; then
            echo "$name"
            show "$name" | sed 's/^/    /'
        else
            echo "$name is not there"
            missing=$((missing + 1))
        fi
    done
    [ "$missing" -eq 0 ] || fail "$missing of $(echo $machines | wc -w) machines are not there"
}
show() {
    on "$1" ip -brief address | sed '/^lo /d; s/@[^ ]*//'
    ! speaks "$1" || {
        told "$1" show ospf neighbors
        told "$1" show protocols | grep ' BGP '
    }
}

enter() {
    [ $# -gt 0 ] || fail "enter MACHINE [COMMAND...]; there are: $machines"
    is_there "$1" || fail "there is no machine $1 running; there are: $machines"
    if [ $# -eq 1 ]; then
        shell "$1"
    else
        on "$@"
    fi
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
    if on "$1" socat -u OPEN:/dev/null "TCP:$3:$4,connect-timeout=4" >/dev/null 2>&1; then
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
    if on "$1" ping -n -q -c 1 -W 4 ${5:+-I "$5"} "$3" >/dev/null 2>&1; then
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
    answers=
    trap 'rm -rf "$answers"' EXIT
    trap 'exit 1' HUP INT TERM
    answers=$(mktemp -d)
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
start) start "$@" ;;
serve | stop | status | check) "$verb" ;;
enter) enter "$@" ;;
*) fail "write start, serve, stop, status, enter MACHINE [COMMAND...] or check" ;;
esac
