#!/bin/sh
# The lab {0}, live. Made by jackal export --as namespaces.
#
# Every machine is a network namespace of Linux, every segment a bridge, every working link a pair
# of virtual Ethernet devices; filters and translations are nftables rules. Run it as root. It needs
# iproute2 and procps, for filters and translations nftables, for check also iputils-ping, and for
# services socat, for --with-dhcp dnsmasq-base and udhcpc, for --with-routing bird2.
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
speaking=/run/$lab.speakers # what routing daemons are told, and how they are asked
