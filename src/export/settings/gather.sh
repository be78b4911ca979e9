#!/bin/sh
# Asks the machines of the lab {0} what they are: sh gather.sh FOLDER [namespaces | ssh [OPTION...]]
# namespaces: those that `jackal export --as namespaces` has started; needs root.
# ssh: by `ssh OPTION... MACHINE`, such as -F settings/lab/ssh_config; as root, or nftables stay unknown.
# Writes a folder for each machine, all or nothing; `jackal drift PLAN FOLDER` reads them. What a machine
# says is data: it goes into files of the names that were asked for, and no more than 64 MiB are taken.
set -eu
lab={0}
machines='{1}'

[ $# -ge 1 ] || {{ sed -n '2,6s/^# //p' "$0"; exit 2; }}
folder=$1
by=${{2:-namespaces}}
[ $# -lt 2 ] && shift 1 || shift 2
[ ! -e "$folder" ] || {{ echo "gather: $folder is there already" >&2; exit 1; }}
part=$folder.part$$
mkdir "$part"
trap 'rm -rf "$part"' EXIT

# What is asked, in one go: a line before each answer says where it goes.
questions='
echo "== address.json"; ip -json address
echo "== route.json"; ip -json route
echo "== route6.json"; ip -json -6 route
echo "== neighbour.json"; ip -json neighbour
echo "== rule.json"; ip -json rule
echo "== forwarding"; cat /proc/sys/net/ipv4/ip_forward /proc/sys/net/ipv6/conf/all/forwarding
if rules=$(PATH=$PATH:/usr/sbin:/sbin nft -j list ruleset 2>/dev/null); then echo "== nft.json"; echo "$rules"; fi
echo "== end"
'
case $by in
namespaces) ask() {{ ip netns exec "$lab.$1" sh -c "$questions"; }} ;;
ssh) ask() {{ m=$1; shift; echo "$questions" | ssh -o BatchMode=yes -o ConnectTimeout=10 "$@" "$m" sh; }} ;;
*) echo "gather: write namespaces or ssh, not $by" >&2; exit 2 ;;
esac

silent=0
for machine in $machines; do
    mkdir "$part/$machine"
    said=$(ask "$machine" "$@" 2>"$part/said" | head -c 67108864 | tr -d '\000') || said=
    case $said in
    *'== end') ;;
    *)
        cp "$part/said" "$part/$machine/silent"
        silent=$((silent + 1))
        continue
        ;;
    esac
    printf '%s\n' "$said" | awk -v to="$part/$machine/" '
        BEGIN {{
            count = split("address.json route.json route6.json neighbour.json rule.json forwarding nft.json", names)
            for (i = 1; i <= count; ++i) asked[names[i]] = 1
        }}
        /^== / {{ file = NF == 2 && ($2 in asked) ? to $2 : ""; next }}
        file != "" {{ print > file }}'
done
rm -f "$part/said"
mv "$part" "$folder"
trap - EXIT
set -- $machines
echo "$folder: $# machines asked, $silent without an answer"
