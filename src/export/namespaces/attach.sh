
attached=/run/$lab.attached # what was changed on this computer, to be undone
station=workstation         # as which the plan knows this computer

# attach_options [--dry-run] [--bridge NIC]: of start.
attach_options() {
    while [ $# -gt 0 ]; do
        case $1 in
        --dry-run) dry=yes ;;
        --bridge)
            [ $# -ge 2 ] || fail "--bridge NIC: which NIC of this computer?"
            bridge_nic=$2
            shift
            ;;
        *) fail "start takes --dry-run and --bridge NIC, not $1" ;;
        esac
        shift
    done
    [ -z "$bridge_nic" ] || [ "$wants_bridge" = yes ] ||
        fail "no subnet has \`uplink: bridge\`, so --bridge joins nothing"
    [ -n "$bridge_nic" ] || [ "$wants_bridge" = no ] ||
        fail "start needs --bridge NIC: which NIC of this computer leads to the physical network"
    [ -z "$bridge_nic" ] || ip link show dev "$bridge_nic" >/dev/null 2>&1 ||
        fail "this computer has no NIC $bridge_nic"
}
bridge_nic=

# change COMMAND...: of this computer itself; with --dry-run only said.
change() {
    if [ -n "$dry" ]; then
        for word; do
            case $word in
            *[!a-zA-Z0-9/._:=@+-]* | '') printf "'%s' " "$word" ;;
            *) printf '%s ' "$word" ;;
            esac
        done
        echo
    else
        "$@"
    fi
}
# inside COMMAND...: of the lab's own.
inside() { [ -n "$dry" ] || "$@"; }
# note NAME VALUE: for stop, before the change is made.
note() {
    [ -n "$dry" ] || echo "$2" >"$attached/$1"
}

# own_nic NAME BRIDGE MAC MTU [ADDRESS...]: a NIC of this computer on a segment.
own_nic() {
    nic=$1 wire=to-$1
    change ip -n "$lab._wires" link add name "$wire" mtu 65535 type veth \
        peer name "$nic" netns $$ address "$3" mtu "$4"
    inside ip -n "$lab._wires" link set dev "$wire" master "$2" up
    change ip link set dev "$nic" up
    shift 4
    for address; do
        case $address in
        *:*) change ip address add "$address" dev "$nic" nodad ;;
        *) change ip address add "$address" dev "$nic" ;;
        esac
    done
}
# translate NIC PREFIX: what comes from there goes out with this computer's own addresses.
translate() {
    rules_table
    change nft add rule inet "$table" out ip saddr "$2" oifname != "$1" masquerade
    forwarding=$(cat /proc/sys/net/ipv4/ip_forward)
    [ -e "$attached/forwarding" ] || note forwarding "$forwarding"
    [ "$forwarding" = 1 ] || change sysctl -q -w net.ipv4.ip_forward=1
}
# apart NIC: nothing goes on from there, or comes there from elsewhere.
apart() {
    rules_table
    change nft add rule inet "$table" through iifname "$1" drop
    change nft add rule inet "$table" through oifname "$1" drop
}
has_table=
rules_table() {
    table=$lab-attached
    [ -z "$has_table" ] || return 0
    has_table=yes
    change nft add table inet "$table"
    change nft add chain inet "$table" out '{ type nat hook postrouting priority srcnat; }'
    change nft add chain inet "$table" through '{ type filter hook forward priority filter; }'
}
# serve_leases OPTION...: DHCP, and names as this computer knows them.
serve_leases() {
    command -v dnsmasq >/dev/null || fail "start needs dnsmasq"
    change dnsmasq --conf-file=/dev/null --bind-interfaces --except-interface=lo --no-hosts \
        --no-ping --dhcp-authoritative --dhcp-sequential-ip --leasefile-ro --user=root \
        --pid-file="$attached/dnsmasq.pid" "$@"
}
# join BRIDGE: the segment takes in a NIC of this computer, or becomes a part of a bridge of its.
join() {
    if ip link show dev "$bridge_nic" type bridge 2>/dev/null | grep -q .; then
        change ip -n "$lab._wires" link add name to-bridge mtu 65535 type veth \
            peer name "$near-lan" netns $$
        inside ip -n "$lab._wires" link set dev to-bridge master "$1" up
        change ip link set dev "$near-lan" master "$bridge_nic" up
        return
    fi
    [ -z "$(ip -brief address show dev "$bridge_nic" scope global | awk '{ print $3 }')" ] ||
        fail "$bridge_nic has addresses of this computer; make it a port of a bridge, and name that"
    note bridge "$bridge_nic"
    change ip link set dev "$bridge_nic" netns "$lab._wires"
    inside ip -n "$lab._wires" link set dev "$bridge_nic" master "$1" up
}

# detach: undoes all of it, as far as it came.
detach() {
    [ -d "$attached" ] || return 0
    nft delete table inet "$lab-attached" 2>/dev/null || true
    if [ -e "$attached/dnsmasq.pid" ]; then
        pid=$(cat "$attached/dnsmasq.pid")
        ! grep -qs "$attached" "/proc/$pid/cmdline" || kill "$pid" 2>/dev/null || true
    fi
    for wire in $(ip -n "$lab._wires" -o link show 2>/dev/null | sed -n 's/^[0-9]*: \(to-[^@:]*\).*/\1/p'); do
        ip -n "$lab._wires" link delete dev "$wire" # and its other end, here
    done
    if [ -e "$attached/bridge" ]; then
        name=$(cat "$attached/bridge")
        ip -n "$lab._wires" link set dev "$name" nomaster 2>/dev/null || true
        ip -n "$lab._wires" link set dev "$name" netns $$ 2>/dev/null || true
        ip link set dev "$name" up 2>/dev/null || true
    fi
    if [ -e "$attached/forwarding" ]; then
        before=$(cat "$attached/forwarding")
        rm "$attached/forwarding"
        heir=$(ls /run/*.attached/forwarding 2>/dev/null | head -n 1)
        if [ -n "$heir" ]; then # another lab needs it still
            echo "$before" >"$heir"
        else
            sysctl -q -w "net.ipv4.ip_forward=$before"
        fi
    fi
    rm -rf "$attached"
}
