
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
# The link-local address of a NIC is made from its MAC.
net.ipv6.conf.all.addr_gen_mode = 0
net.ipv6.conf.default.addr_gen_mode = 0
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
