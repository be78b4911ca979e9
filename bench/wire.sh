#!/bin/sh
# Real pings through `jackal live`, beside the same through a router that is a network namespace: the median round trip
# and how many a second, one after another. Needs root.
set -eu
jackal=$1
folder=$(mktemp -d)
a=wire-a b=wire-b router=wire-router lab=wire-lab
clean() {
    for space in $a $b $router $lab; do
        ip netns pids $space 2>/dev/null | xargs -r kill
        ip netns del $space 2>/dev/null || true
    done
    rm -rf "$folder"
}
trap clean EXIT
for space in $a $b $router $lab; do
    ip netns add $space
    ip -n $space link set dev lo up
done

ip link add near netns $a type veth peer name one netns $router
ip link add far netns $b type veth peer name two netns $router
ip -n $a address add 10.60.1.2/24 dev near
ip -n $b address add 10.60.2.2/24 dev far
ip -n $router address add 10.60.1.1/24 dev one
ip -n $router address add 10.60.2.1/24 dev two
for end in "$a near" "$b far" "$router one" "$router two"; do
    set -- $end
    ip -n "$1" link set dev "$2" up
done
ip netns exec $router sysctl -q -w net.ipv4.ip_forward=1
ip -n $a route add default via 10.60.1.1
ip -n $b route add default via 10.60.2.1

cat >"$folder/lab.yaml" <<'END'
lab: wire
subnets: {near: {prefix: 10.60.1.0/24}, far: {prefix: 10.60.2.0/24}}
guests: {desk: {nics: [{subnet: near}]}, pump: {nics: [{subnet: far}]}}
routers: {gate: {nics: [{subnet: near}, {subnet: far}]}}
END
ip netns exec $lab "$jackal" live "$folder/lab.yaml" --as desk </dev/null >/dev/null &
sleep 1

# 80 us of the simulated round trip are what the plan foretells.
measure() {
    ip netns exec "$2" ping -n -q -c 2 10.60.2.2 >/dev/null
    median=$(ip netns exec "$2" ping -n -i 0.002 -c 2001 10.60.2.2 | sed -n 's/.*time=\([0-9.]*\) ms/\1/p' |
        sort -n | sed -n 1001p)
    ms=$(ip netns exec "$2" ping -f -q -c 20000 10.60.2.2 | sed -n 's/.*time \([0-9]*\)ms/\1/p')
    echo "$1: median round trip $median ms, $((20000 * 1000 / ms)) pings a second"
}
measure 'router in a namespace' $a
measure 'jackal live          ' $lab
