// Answers in short English, for tables and for the texts inside JSON.
#pragma once

#include "jackal/api.h"
#include "jackal/lab/usage.h"
#include "jackal/lab/why.h"
#include "jackal/packet/walk.h"
#include "jackal/reach/ways.h"
#include "jackal/routing/provenance.h"

namespace jackal::exports {

/// `1 guest`, `2 guests`.
JACKAL_API std::string counted(std::size_t n, std::string_view noun);

/// Why the machine of step number `step` did what it did: "default via 10.40.0.1 (quay-r1)".
JACKAL_API std::string step_detail(const routing::Settled& settled, const packet::Journey& journey,
                                   std::size_t step);

/// The switches that the packet passed on its way to the machine of a step: "hut-sw p1 > p24,
/// core-sw p2 > p7"; empty if there were none.
JACKAL_API std::string switch_text(const routing::Settled& settled, const packet::Journey& journey,
                                   std::size_t step);

/// The wires of a NIC: "on hut-sw/p1", "on hut-sw/p1 VLAN 20", "a bond of wire0 on hut-sw/p1, wire1
/// (down) on core-sw/p2"; empty if it is directly on its segment.
JACKAL_API std::string wires_text(const lab::Lab& lab, lab::NicId nic);

/// What a switch port carries: "VLAN 20", "trunk 20, 30, native 99".
JACKAL_API std::string port_text(const lab::Port& port);

/// The filters that let the packet pass at the machine of a step, and by what: "filter listening on
/// eth0 allows it by rule 1", "filter listening on eth0 knows the flow".
JACKAL_API std::vector<std::string> filter_texts(const routing::Settled& settled,
                                                 const packet::Journey& journey, std::size_t step);

/// The tunnel that a step puts the packet into, or null.
JACKAL_API const packet::Crossing* crossing_at(const packet::Journey& journey, std::size_t step);

/// What the packet travels in: "in UDP from 10.40.8.129 to 10.42.0.1, 50 bytes longer".
JACKAL_API std::string crossing_text(const lab::Lab& lab, const packet::Crossing& crossing);

/// What the machine of a step translated: "source 10.40.0.9 becomes 192.0.2.7".
JACKAL_API std::vector<std::string> rewrite_texts(const packet::Journey& journey, std::size_t step);

/// A translation in words: "sources of what leaves by eth1", "tcp/8080 that comes in by eth1 to
/// 10.40.0.9:80".
JACKAL_API std::string translation_text(const lab::Lab& lab, const lab::Translation& translation);

/// The changes that a way between two sites takes, a line each, in the words of the plan: those
/// that belong to neither first, then site by site.
JACKAL_API std::vector<std::string> way_lines(const reach::Way& way);

/// What differs in two plans, a line each: `guests.desk.nics[0].mtu: 1400, was the usual`. Of many
/// changes of one kind (the same key of entries of one section) the first few, and how many more.
JACKAL_API std::vector<std::string> written_lines(const std::vector<plan::PlaceChange>& changes);

/// The names of the filters that stand on a NIC, that of its subnet first.
JACKAL_API std::vector<std::string> filters_on(const lab::Lab& lab, lab::NicId nic);

/// "guest", "router", or "outside" for what is not written in the plan.
JACKAL_API std::string_view kind_text(const lab::Machine& machine);

/// "written", "pinned", "gateway", "next free", "link", "loopback", "lease" or "link-local".
JACKAL_API std::string_view to_string(lab::AddressOrigin origin);

/// `255.255.255.192` for an IPv4 prefix, `/64` for an IPv6 one.
JACKAL_API std::string mask_text(const net::Prefix& prefix);

/// "site harbour", or "the lab" for the site of a plan without sites.
JACKAL_API std::string site_text(const lab::Lab& lab, lab::SiteId site);

/// A prefix, and why it is that one, in a sentence.
struct Why {
    net::Prefix prefix;
    std::string text;
};

/// Why the prefixes of a subnet (its name), a link (`quay-r1--lamp-r1`) or a loopback
/// (`quay-r1/lo`) are where they are; empty if the lab has no such segment. `lab` is built from
/// `plan`.
JACKAL_API std::vector<Why> why(const plan::Plan& plan, const lab::Lab& lab, std::string_view name);

/// What an address is, in a sentence without its subject: "is hydrophone/eth0, …".
JACKAL_API std::string whose_text(const lab::Lab& lab, net::Address address,
                                  const lab::Whose& whose);

/// `64512 64513`, or `own`.
JACKAL_API std::string as_path_text(const routing::Path& path);
/// `64512:100 64512:200`
JACKAL_API std::string communities_text(const routing::Path& path);

/// How a protocol came to a route: "intra-area, area 0, from quay-r1", "AS path 64513 64514, from
/// lamp-r1".
JACKAL_API std::string origin_text(const lab::Lab& lab, const routing::Offer& offer);

/// Why the machine that has those routes does not use the offer: "lower local preference",
/// "distance 200 after 20 (bgp)"; empty if it does.
JACKAL_API std::string loss_text(const routing::Offer& offer,
                                 const std::vector<routing::Route>& routes);

/// "quay-r1 does not tell lamp-r1 of 10.40.8.0/26 by BGP: it does not bring it in (ospf)".
JACKAL_API std::string stopped_text(const lab::Lab& lab, const routing::Stopped& stopped);

/// One word for the kind: "machine", "gateway", "network", "broadcast", "dhcp", "reserved", "free",
/// "space", "lan" or "outside".
JACKAL_API std::string_view to_string(lab::Whose::Kind kind);

/// Pings and connections that are expected as the `expect` section of a plan.
JACKAL_API std::string expect_section(const std::vector<plan::Expectation>& expectations);

} // namespace jackal::exports
