#!/usr/bin/env bash
# The script of `jackal export --as namespaces`, run for real: real_lab_test.sh JACKAL SOURCES
set -euo pipefail
jackal=$1 sources=$2

if [ "$(id -u)" -ne 0 ] || ! unshare --net true 2>/dev/null; then
    echo "SKIPPED: needs root and network namespaces"
    [ -z "${JACKAL_KERNEL_REQUIRED:-}" ] && exit 77
    exit 1
fi

folder=$(mktemp -d)
cd "$folder"
finish() {
    for lab in lab other broken; do [ ! -e $lab.sh ] || sh $lab.sh stop >/dev/null 2>&1 || true; done
    rm -rf "$folder"
}
trap finish EXIT
wrong() { echo "WRONG: $*" >&2; exit 1; }
count() { ip netns list | grep -c "^$1\." || true; }
# says WORDS STATUS COMMAND...: the command ends with the status, and says the words.
says() {
    local words=$1 status=$2 said got=0
    shift 2
    said=$("$@" 2>&1) || got=$?
    [ "$got" -eq "$status" ] || wrong "$* ended with $got, not $status: $said"
    grep -qF -- "$words" <<<"$said" || wrong "$* did not say \"$words\" but: $said"
}

# Names of their own, so that labs of the person who runs this are left alone.
id=$$
plan() { sed "s/^lab: .*/lab: $2-$id/" "$sources/$1"; }
plan demo/skerry.yaml lab >lab.yaml
plan demo/mistakes/no-return-route.yaml other | sed "s/\[desk, pump\]/&, gets: no-reply/" >other.yaml
"$jackal" export lab.yaml --as namespaces -o lab.sh >/dev/null
"$jackal" export other.yaml --as namespaces -o other.sh >/dev/null
sh -n lab.sh

# The life of a lab.
says "are not there" 1 sh lab.sh status
says "started 33 machines" 0 sh lab.sh start
all=$(count "lab-$id")
says "it is there already" 1 sh lab.sh start
[ "$(count lab-$id)" -eq "$all" ] || wrong "a second start disturbed the first"
says "10.41.0.34/28" 0 sh lab.sh status
says "all 81 answers are as the plan expects" 0 sh lab.sh check
says "10.42.0.34/28" 0 sh lab.sh enter helm ip -brief address
says "1 received" 0 sh lab.sh enter helm ping -c 1 -W 5 10.41.0.34
says "there is no machine hlem" 1 sh lab.sh enter hlem
says "write start, serve" 1 sh lab.sh

# A second lab beside it; what fails as expected is as expected.
says "started" 0 sh other.sh start
says "are as the plan expects" 0 sh other.sh check
says "stopped" 0 sh other.sh stop
[ "$(count other-$id)" -eq 0 ] || wrong "stop left something of the other lab"
[ "$(count lab-$id)" -eq "$all" ] || wrong "stopping one lab disturbed another"

# A break that the plan does not expect.
sh lab.sh enter lamp-r1 ip link set eth4 down
says "answers are not as the plan expects" 1 sh lab.sh check
sh lab.sh enter helm sleep 1000 &
says "stopped" 0 sh lab.sh stop
[ "$(count lab-$id)" -eq 0 ] || wrong "stop left something"
"$jackal" export lab.yaml --as namespaces --cut lamp-r1--vessel-r1 -o lab.sh --replace >/dev/null
says "started" 0 sh lab.sh start
says "NOT AS EXPECTED" 1 sh lab.sh check
says "stopped" 0 sh lab.sh stop

# Real DHCP servers, clients and a relay give out what the plan foresees, in their start order.
"$jackal" export lab.yaml --as namespaces --with-dhcp -o lab.sh --replace >/dev/null
[ -z "$(sh lab.sh start | grep -v started)" ] || wrong "a lease is not as in the plan"
says "10.40.8.111/27" 0 sh lab.sh enter mess-pad ip -brief address
says "all 81 answers are as the plan expects" 0 sh lab.sh check
says "stopped" 0 sh lab.sh stop
cat >other.yaml <<END
lab: other-$id
subnets:
  outer: {prefix: 10.50.0.0/24, dhcp: {range: +20-+29, exclude: +21, reservations: {clock: +40}}}
  inner: {prefix: 10.50.1.0/24, dhcp: {size: 5, server: outer-r1, relay: inner-r1, lease: 1h}}
  deep:  {prefix: 10.50.2.0/24, dhcp: {size: 5, router: none}}
guests:
  leaf:  {nics: [{subnet: deep, address: dhcp}]}
  desk:  {count: 3, nics: [{subnet: outer, address: dhcp}]}
  clock: {nics: [{subnet: outer, address: dhcp}]}
  still: {nics: [{subnet: outer, address: 10.50.0.22}]}
  crate: {nics: [{subnet: inner, address: dhcp}]}
  both:  {nics: [{subnet: outer, address: dhcp, metric: 200}, {subnet: inner, address: dhcp, metric: 100}]}
routers:
  deep-r1:  {nics: [{subnet: inner, address: dhcp}, {subnet: deep}]}
  inner-r1: {nics: [{subnet: outer, address: 10.50.0.2}, {subnet: inner}]}
  outer-r1: {nics: [{subnet: outer}], routes: [{to: inner, via: inner-r1}]}
expect:
  - {ping: [crate, desk-3]}
  - {ping: [both, desk-1]}
  - {ping: [leaf, clock], gets: no-route}
END
"$jackal" export other.yaml --as namespaces --with-dhcp -o other.sh --replace >/dev/null
[ -z "$(sh other.sh start | grep -v started)" ] || wrong "a lease is not as in the plan"
says "are as the plan expects" 0 sh other.sh check
says "stopped" 0 sh other.sh stop

# Real routing daemons: a cable that is taken out makes them find another way; one that does not
# start leaves nothing.
plan tests/judge/speakers/asbr-intra-area-first.yaml other >other.yaml
"$jackal" export other.yaml --as namespaces --with-routing -o other.sh --replace >/dev/null
says "started 3 machines" 0 sh other.sh start
says "Full/" 0 sh other.sh status
says "via 10.1.1.3 dev eth1" 0 sh other.sh enter r1 ip route show 10.9.0.0/24
sh other.sh enter r1 ip link set eth1 down
for try in $(seq 30); do
    sh other.sh enter r1 ip route show 10.9.0.0/24 | grep -q "via 10.0.1.2" && break
    sleep 0.5
done
says "via 10.0.1.2 dev eth0" 0 sh other.sh enter r1 ip route show 10.9.0.0/24
says "stopped" 0 sh other.sh stop
[ ! -e "/run/other-$id.speakers" ] || wrong "stop left what daemons were told"
sed -i '0,/^router id .*/s//router id nobody;/' other.sh
says "the routing daemon of r1 does not start" 1 sh other.sh start
[ "$(count other-$id)" -eq 0 ] || wrong "a failed start left something"

# Names that are words of the tools that the script uses, and of the script itself.
cat >other.yaml <<END
lab: other-$id
filters: {machine: {default: allow}, 9lives: {default: allow}}
subnets: {a: {prefix: 10.50.0.0/24, filter: machine}, b: {prefix: 10.50.1.0/24}}
guests:
  g: {nics: [{subnet: a, name: dev}]}
  h: {filter: 9lives, nics: [{subnet: b, name: type, filter: machine}]}
routers: {r: {nics: [{subnet: a, name: up}, {subnet: b, name: mtu}]}}
expect: [{ping: [g, h]}]
END
"$jackal" export other.yaml --as namespaces -o other.sh --replace >/dev/null
says "started" 0 sh other.sh start
says "all 1 answers are as the plan expects" 0 sh other.sh check
says "stopped" 0 sh other.sh stop

# All or nothing: with one bad line in its middle nothing stays; after a crash stop clears.
plan demo/skerry.yaml broken >broken.yaml
"$jackal" export broken.yaml --as namespaces -o broken.sh >/dev/null
sed -i 's/^    machine kettle .*/    false\n&/' broken.sh
says "start failed; removing what was made" 1 sh broken.sh start
[ "$(count broken-$id)" -eq 0 ] || wrong "a failed start left something"
sed -i 's/^    false$/    kill -KILL $$/' broken.sh
sh broken.sh start >/dev/null 2>&1 && wrong "the crash did not happen"
[ "$(count broken-$id)" -gt 0 ] || wrong "the crash came too early to test anything"
says "it is there already" 1 sh broken.sh start
says "stopped" 0 sh broken.sh stop
[ "$(count broken-$id)" -eq 0 ] || wrong "stop does not clear what a crash left"

# Whoever ends it while it starts finds nothing left, however early or late.
plan demo/skerry.yaml broken >broken.yaml
"$jackal" export broken.yaml --as namespaces -o broken.sh --replace >/dev/null
for moment in 0.01 0.03 0.1 0.5 1; do
    sh broken.sh start >/dev/null 2>&1 &
    sleep $moment
    kill -TERM $! 2>/dev/null || true
    if wait $!; then says "stopped" 0 sh broken.sh stop; fi
    [ "$(count broken-$id)" -eq 0 ] || wrong "ended after $moment s, start left something"
done
echo "the real lab works"
