#!/bin/sh
# The lab {0} as virtual machines. Made by jackal export --as machines.
#
# Every machine runs in QEMU, by KVM where that works, from a disk that lies over its base image,
# which stays as it is; those that the plan has `runs-as: namespace`, and all outside the lab, are
# network namespaces of Linux. Every segment is a bridge in the namespace {0}._wires. Run it as
# root. It needs qemu-system-x86, qemu-utils, iproute2 and procps, for consoles socat, and for
# namespaces nftables, iputils-ping, socat, dnsmasq-base, udhcpc and bird2 as far as the plan has
# such things. Of an image it asks for cloud-init (NoCloud), and for the programs that its machine
# is told of: nftables, dnsmasq, bird, ping, socat.
#
#     sh FILE start                       the whole lab, or nothing of it
#     sh FILE serve                       has something listen where the plan says so
#     sh FILE status                      what is there
#     sh FILE enter MACHINE [COMMAND...]  its console, or one command
#     sh FILE check                       asks what the plan expects, and compares
#     sh FILE stop                        removes the lab with its disks, also what a crash left
#
# Labs of other names may run at the same time.
#
# Not as in the plan:
{1}set -eu

lab={0}
speaking=/run/$lab.speakers    # what routing daemons are told, and how they are asked
disks=/var/tmp/$lab.machines   # disks and consoles of virtual machines while they run
here=$(CDPATH='' cd "$(dirname "$0")" && pwd)
