// Tables that real speakers of the protocols fill in the same way; each row is a small lab, and the
// rule of the RFC that decides.
#include "jackal/plan/edit.h"
#include "jackal/routing/discord.h"
#include "jackal/routing/provenance.h"
#include "jackal/routing/settled.h"

#include "lab_of.h"

#include <fmt/format.h>

using namespace jackal;

namespace {

// The next hop by which a machine sends to an address; "none" without a route.
std::string next_hop(const routing::Settled& settled, const char* machine, const char* to) {
    auto route = settled.route(*settled.lab().machine(machine), *net::parse_address(to));
    return route ? net::to_string(route->via) : "none";
}

std::string subnets(const std::string& rest) {
    return "lab: t\nsubnets:\n"
           "  a: {prefix: 10.0.1.0/24, gateway: none}\n"
           "  b: {prefix: 10.0.2.0/24, gateway: none}\n"
           "  c: {prefix: 10.0.3.0/24, gateway: none}\n"
           "  own: {prefix: 10.9.0.0/24, gateway: none}\n"
           + rest;
}

// NICs on subnets with the machine's number as host part: `nics("2", "a b")`.
std::string nics(const char* number, const std::string& on) {
    std::string list;
    for (char subnet : on)
        if (subnet == 'o')
            list += std::string("{subnet: own, address: 10.9.0.") + number + "},";
        else
            list += std::string("{subnet: ") + subnet + ", address: 10.0."
                    + static_cast<char>('1' + (subnet - 'a')) + "." + number + "},";
    return std::string("router-id: 192.0.2.") + number + ", nics: [" + list + "]";
}

// r1 takes "a" for a broadcast network, and has a static route by way of a machine there; r2 of
// number 2 takes it for point-to-point; r3 is behind r1.
std::string one_sided(const char* r1, const char* r3, const char* length_of_r2 = "") {
    return subnets("routers:\n") + "  r1: {" + nics(r1, "ab")
           + ", routes: [{to: 198.51.100.0/24, via: 10.0.1.9}], ospf: {areas: {0: all}, network: "
             "{eth0: broadcast}, redistribute: static}}\n  r2: {router-id: 192.0.2.2, nics: "
             "[{subnet: a, address: 10.0.1.2"
           + length_of_r2 + "}], ospf: {areas: {0: all}, network: {eth0: point-to-point}}}\n  r3: {"
           + nics(r3, "b") + ", ospf: {areas: {0: all}}}\n";
}

// r1 has a static route by way of a machine on the segment that it shares with r2.
std::string brought_in(const char* to, const char* r1, const char* r2) {
    return subnets("routers:\n") + "  r1: {" + nics("1", "a") + ", routes: [{to: " + to
           + ", via: 10.0.1.9}], " + r1 + "}\n  r2: {" + nics("2", "a") + ", " + r2 + "}\n";
}

// r3 has "own" in area 2, which r2 joins to area 1 and r1 to the backbone.
std::string behind_area_1(const std::string& told_to_r2) {
    return subnets("routers:\n") + "  r1: {" + nics("1", "ab")
           + ", ospf: {areas: {0: [a], 1: [b]}, virtual-links: {1: r2}}}\n  r2: {" + nics("2", "bc")
           + ", ospf: {areas: {1: [b], 2: [c]}, " + told_to_r2 + "}}\n  r3: {" + nics("3", "co")
           + ", ospf: {areas: {2: all}}}\n";
}

// r4 brings "own" into an NSSA, which r2 joins to the backbone and r1 by "b", and r3 by "c".
std::string nssa() {
    return subnets("routers:\n") + "  r1: {" + nics("1", "a")
           + ", routes: [{to: 198.51.100.0/24, via: 10.0.1.9}], ospf: {areas: {0: all}, "
             "redistribute: static}}\n  r2: {"
           + nics("2", "ab") + ", ospf: {areas: {0: [a], 1: [b]}, nssa: 1}}\n  r3: {"
           + nics("3", "ac")
           + ", ospf: {areas: {0: [a], 1: [c]}, nssa: 1, cost: {eth1: 50}}}\n  r4: {"
           + nics("4", "bco")
           + ", ospf: {areas: {1: [b, c]}, nssa: 1, cost: {eth1: 50}, redistribute: connected}}\n";
}

// Two routers on a segment, each with a prefix of its own there, and one behind it.
std::string unlike_prefixes(const char* protocol) {
    std::string text = "lab: t\nsubnets:\n  mid: {prefix: 'fd00::/48', gateway: none}\n";
    for (int i : {1, 2})
        text += fmt::format("  out{0}: {{prefix: 'fd00:0:{0}::/64', gateway: none}}\n", i);
    text += "routers:\n";
    for (int i : {1, 2})
        text += fmt::format("  r{0}: {{router-id: 192.0.2.{0}, nics: [{{subnet: mid, mac: "
                            "'02:00:00:00:00:0{0}', address: 'fd00:0:0:{0}::{0}/64'}}, {{subnet: "
                            "out{0}}}], {1}}}\n",
                            i, protocol);
    return text;
}

} // namespace

TEST_CASE("routers choose as the standards say") {
    struct Row {
        const char* rule;
        std::string text;
        const char* machine;
        const char* via;
        const char* to = "10.9.0.77";
    };
    const Row rows[] = {
        {"RFC 4271 section 5.1.5: no other AS is told of a local preference",
         subnets(
             "policies: {push: {default: accept, rules: [{do: accept, preference: 200, prepend: "
             "2}]}}\nrouters:\n")
             + "  r1: {" + nics("1", "ao")
             + ", bgp: {as: 64501, neighbours: {r3: {as: 64503, gives: push}}, networks: own}}\n  "
               "r2: {"
             + nics("2", "bo")
             + ", bgp: {as: 64502, neighbours: {r3: {as: 64503}}, networks: own}}\n  r3: {"
             + nics("3", "ab")
             + ", bgp: {as: 64503, neighbours: {r1: {as: 64501}, r2: {as: 64502}}}}\n",
         "r3", "10.0.2.2"},
        {"RFC 4271 section 9.1.2.2 c: MEDs are compared of what the own AS originated",
         subnets("routers:\n") + "  r1: {" + nics("1", "ab")
             + ", routes: [{to: 10.9.0.0/24, via: 10.0.2.9}], bgp: {as: 64501, neighbours: {r3: "
               "{as: 64501, next-hop-self: true}}, redistribute: {from: static, metric: 30}}}\n"
               "  r2: {"
             + nics("2", "ac")
             + ", routes: [{to: 10.9.0.0/24, via: 10.0.3.9}], bgp: {as: 64501, neighbours: {r3: "
               "{as: 64501, next-hop-self: true}}, redistribute: {from: static, metric: 5}}}\n"
               "  r3: {"
             + nics("3", "a")
             + ", bgp: {as: 64501, neighbours: {r1: {as: 64501}, r2: {as: 64501}}}}\n",
         "r3", "10.0.1.2"},
        {"RFC 4271 section 9.1.3: what a router's table does not use it does not announce",
         subnets("policies: {liked: {default: accept, rules: [{do: accept, preference: "
                 "200}]}}\nrouters:\n")
             + "  r1: {" + nics("1", "ao")
             + ", bgp: {as: 64501, neighbours: {r2: {as: 64502}}, networks: own}}\n  r2: {"
             + nics("2", "abo")
             + ", bgp: {as: 64502, neighbours: {r1: {as: 64501, takes: liked}, r3: {as: 64502}}, "
               "networks: own}}\n  r3: {"
             + nics("3", "b") + ", bgp: {as: 64502, neighbours: {r2: {as: 64502}}}}\n",
         "r3", "10.0.2.2"},
        {"RFC 2328 section 9.4: a designated router that takes the segment for point-to-point does "
         "not know of it, so nobody announces the network",
         one_sided("1", "3"), "r3", "none", "10.0.1.77"},
        {"RFC 2328 section 9.4: but it announces it itself if it is designated",
         one_sided("3", "1"), "r3", "10.0.2.3", "10.0.1.77"},
        {"RFC 2328 section 10.5: and who asks for its own mask does not hear of the other at all",
         one_sided("1", "3", "/25"), "r3", "10.0.2.1", "10.0.1.77"},
        {"RFC 2328 section 16.4 (3): a forwarding address must be found inside OSPF",
         one_sided("1", "3"), "r3", "none", "198.51.100.7"},
        {"RFC 2328 section 16.4 (3): then all go by the way to it", one_sided("3", "1"), "r3",
         "10.0.2.3", "198.51.100.7"},
        {"RFC 2328 section 16.4 (3): from its own segment straight",
         brought_in("198.51.100.0/24", "ospf: {areas: {0: all}, redistribute: static}",
                    "ospf: {areas: {0: all}}"),
         "r2", "10.0.1.9", "198.51.100.7"},
        {"RFC 3101 section 2.3: out of an NSSA a forwarding address leads by the cheaper border",
         nssa(), "r1", "10.0.1.2"},
        {"RFC 3101 section 1.2: external routes do not come in, but a default route", nssa(), "r4",
         "10.0.2.2", "198.51.100.7"},
        {"RFC 5340 section 4.8.2: next hops are link-local, whatever prefixes the two have",
         unlike_prefixes("ospf: {areas: {0: all}}"), "r1", "fe80::ff:fe00:2", "fd00:0:2::7"},
        {"RFC 2080 section 2.1.1: in RIP too", unlike_prefixes("rip: {nics: all}"), "r1",
         "fe80::ff:fe00:2", "fd00:0:2::7"},
        {"RFC 5340 section 4.8.1: a prefix that others announce of a network is on the link",
         unlike_prefixes("ospf: {areas: {0: all}}"), "r1", "::", "fd00:0:0:2::7"},
        {"RFC 2328 section 16.2: a way to an ASBR inside an area goes first",
         subnets("routers:\n") + "  r1: {" + nics("1", "ab")
             + ", ospf: {areas: {0: [a], 1: [b]}, cost: {eth0: 1, eth1: 50}}}\n  r2: {"
             + nics("2", "ac")
             + ", ospf: {areas: {0: [a], 1: [c]}, cost: {eth0: 1, eth1: 1}}}\n  r3: {"
             + nics("3", "bco") + ", ospf: {areas: {1: [b, c]}, redistribute: connected}}\n",
         "r1", "10.0.2.3"},
        {"RFC 4271 section 5.1.3 (1): the next hop of a route that is brought in is told",
         brought_in("10.9.0.0/24",
                    "bgp: {as: 64501, neighbours: {r2: {as: 64501}}, redistribute: static}",
                    "bgp: {as: 64501, neighbours: {r1: {as: 64501}}}"),
         "r2", "10.0.1.9"},
        {"RFC 4271 section 5.1.3 (2): so is a third party's on a shared segment",
         subnets("routers:\n") + "  r1: {" + nics("1", "ao")
             + ", bgp: {as: 64501, neighbours: {r2: {as: 64502}}, networks: own}}\n  r2: {"
             + nics("2", "a")
             + ", bgp: {as: 64502, neighbours: {r1: {as: 64501}, r3: {as: 64503}}}}\n  r3: {"
             + nics("3", "a") + ", bgp: {as: 64503, neighbours: {r2: {as: 64502}}}}\n",
         "r3", "10.0.1.1"},
        {"RFC 2453 section 3.9.1: all networks of a NIC are announced, also its second one",
         "lab: t\nsubnets:\n  a: {prefix: 10.0.1.0/24}\n  b: {prefix: 10.0.2.0/24}\nrouters:\n"
         "  r1: {nics: [{subnet: a}, {subnet: b, address: [10.0.2.1, 10.9.0.1/24]}], rip: {nics: "
         "all}}\n  r2: {nics: [{subnet: a, address: 10.0.1.2}], rip: {nics: all}}\n",
         "r2", "10.0.1.1"},
        {"RFC 4456 section 6: a reflector tells others of its AS what a client told it",
         subnets("routers:\n") + "  r1: {" + nics("1", "ao")
             + ", bgp: {as: 64501, neighbours: {r2: {as: 64501}}, networks: own}}\n  r2: {"
             + nics("2", "ab")
             + ", bgp: {as: 64501, neighbours: {r1: {as: 64501, client: true}, r3: {as: 64501}}, "
               "networks: a}}\n  r3: {"
             + nics("3", "b") + ", bgp: {as: 64501, neighbours: {r2: {as: 64501}}}}\n",
         "r3", "10.0.2.2"},
        {"RFC 4271 section 9.1.2.1: a next hop may be found by another path",
         subnets("routers:\n") + "  r1: {" + nics("1", "ao")
             + ", bgp: {as: 64501, neighbours: {r2: {as: 64502}}, networks: own}}\n  r2: {"
             + nics("2", "ab")
             + ", bgp: {as: 64502, neighbours: {r1: {as: 64501}, r3: {as: 64502}}, networks: a}}\n"
               "  r3: {"
             + nics("3", "b") + ", bgp: {as: 64502, neighbours: {r2: {as: 64502}}}}\n",
         "r3", "10.0.2.2"},
        {"a path of another AS (20) goes before an own route of OSPF (110), also if that is "
         "brought "
         "in",
         subnets("routers:\n") + "  r1: {" + nics("1", "ao")
             + ", bgp: {as: 64501, neighbours: {r2: {as: 64502}}, networks: own}}\n  r2: {"
             + nics("2", "ab")
             + ", ospf: {areas: {0: [b]}}, bgp: {as: 64502, neighbours: {r1: {as: 64501}}, "
               "redistribute: ospf}}\n  r3: {"
             + nics("3", "bo") + ", ospf: {areas: {0: all}}}\n",
         "r2", "10.0.1.1"},
        {"RFC 2328 section 3.3: who is in two areas tells each of the other",
         subnets("routers:\n") + "  r1: {" + nics("1", "ao") + ", ospf: {areas: {1: all}}}\n  r2: {"
             + nics("2", "ab") + ", ospf: {areas: {1: [a], 2: [b]}}}\n  r3: {" + nics("3", "b")
             + ", ospf: {areas: {2: all}}}\n",
         "r3", "10.0.2.2"},
        {"RFC 2328 section 16.4.1: a way inside an area other than the backbone goes first",
         subnets("routers:\n") + "  r1: {" + nics("1", "ab")
             + ", ospf: {areas: {0: [a], 1: [b]}, cost: {eth0: 1, eth1: 10}}}\n  r2: {"
             + nics("2", "abo") + ", ospf: {areas: {0: [a], 1: [b]}, redistribute: connected}}\n",
         "r1", "10.0.2.2"},
        {"RFC 2328 section 15: a virtual link joins an area to the backbone through another one",
         behind_area_1("virtual-links: {1: r1}"), "r1", "10.0.2.2"},
        {"RFC 2328 section 15: written at one end alone it is down",
         behind_area_1("cost: {eth0: 3}"), "r1", "none"},
        {"RFC 2328 section 16.1 (2b): any link back will do",
         subnets("routers:\n") + "  r1: {" + nics("1", "ab")
             + ", ospf: {areas: {0: all}, cost: {eth0: 20, eth1: 10}, network: {eth0: "
               "point-to-point, eth1: point-to-point}}}\n  r2: {"
             + nics("2", "abo")
             + ", ospf: {areas: {0: all}, network: {eth0: point-to-point, eth1: broadcast}}}\n",
         "r1", "10.0.2.2"},
        {"each border prefers OSPF (110) to RIP (120), so one of them hands over: the first",
         subnets("routers:\n") + "  r1: {" + nics("1", "ao") + ", rip: {nics: all}}\n  b1: {"
             + nics("2", "ab")
             + ", rip: {nics: a, redistribute: ospf}, ospf: {areas: {0: [b]}, redistribute: "
               "rip}}\n  b2: {"
             + nics("3", "ab")
             + ", rip: {nics: a, redistribute: ospf}, ospf: {areas: {0: [b]}, redistribute: "
               "rip}}\n  r2: {"
             + nics("4", "b") + ", ospf: {areas: {0: [b]}}}\n",
         "r2", "10.0.2.2"},
    };
    for (const Row& row : rows) {
        CAPTURE(row.rule);
        const lab::Lab lab = lab_of(row.text);
        CHECK(next_hop(routing::settle(lab), row.machine, row.to) == row.via);
    }
    const lab::Lab borders = lab_of(std::end(rows)[-1].text);
    const routing::Settled settled = routing::settle(borders);
    CHECK(next_hop(settled, "b1", "10.9.0.77") == "10.0.1.1");
    CHECK(next_hop(settled, "b2", "10.9.0.77") == "10.0.2.2");
    const auto& disputes = settled.lessons()->disputes();
    REQUIRE(disputes.size() == 1);
    CHECK(disputes.front().kind == routing::Dispute::Kind::by_turns);
    CHECK(routing::protocol_findings(borders, *settled.lessons()).front().severity
          == lab::Severity::warning);
}

TEST_CASE("policies that prefer each other's paths: chance decides, and one outcome is told") {
    const std::string like = "policies: {like: {default: accept, rules: [{do: accept, preference: "
                             "200}]}}\nrouters:\n";
    auto inner = [](const char* number, const char* other, const char* on) {
        return "  r" + std::string(number) + ": {" + nics(number, on) + ", bgp: {as: 6450" + number
               + ", neighbours: {r3: {as: 64503}, r" + other + ": {as: 6450" + other
               + ", takes: like}}}}\n";
    };
    const lab::Lab lab = lab_of(subnets(like) + inner("1", "2", "ab") + inner("2", "1", "ac")
                                + "  r3: {" + nics("3", "bco")
                                + ", bgp: {as: 64503, neighbours: {r1: {as: 64501}, r2: {as: "
                                  "64502}}, networks: own}}\n");
    const routing::Settled settled = routing::settle(lab);
    const auto& disputes = settled.lessons()->disputes();
    REQUIRE(disputes.size() == 1);
    CHECK(disputes.front().kind == routing::Dispute::Kind::by_policy);
    CHECK(disputes.front().machines.size() == 2);
    const auto found = routing::protocol_findings(lab, *settled.lessons());
    REQUIRE(found.size() == 1);
    CHECK(found.front().message.find("r1, r2 take is luck") != std::string::npos);
    const std::string states = "r1 goes by r3 and r2 by r1, or else r1 by r2 and r2 by r3";
    CHECK(found.front().message.find(states) != std::string::npos);
    for (const routing::Offer& offer : // each says by whom it leads
         settled.lessons()->offers(*lab.machine("r1")))
        CHECK(offer.gates.size() == 1);
    // One of the two goes by the other.
    const std::string by_other[] = {next_hop(settled, "r1", "10.9.0.77"),
                                    next_hop(settled, "r2", "10.9.0.77")};
    CHECK((by_other[0] == "10.0.1.2") != (by_other[1] == "10.0.1.1"));
}

TEST_CASE("a prefix of BGP that holds the machine's neighbours and is closer takes its sessions") {
    auto text = [](const char* west) {
        return std::string("lab: taken\nsubnets: {lane: {prefix: 10.1.0.0/24}}\nrouters:\n")
               + "  north: {nics: [{subnet: lane, address: 10.1.0.1}], bgp: {as: 64512, "
                 "neighbours: {south: {as: 64513}, west: {as: 64514}}}}\n"
                 "  south: {nics: [{subnet: lane, address: 10.1.0.2}], bgp: {as: 64513, "
                 "neighbours: {north: {as: 64512}, west: {as: 64514}}}}\n"
                 "  west: {nics: [{subnet: lane, address: "
               + west
               + "}], bgp: {as: 64514, neighbours: {north: {as: 64512}, south: {as: 64513}}, "
                 "redistribute: connected}}\n";
    };
    const lab::Lab lab = lab_of(text("10.1.0.9/28"));
    const routing::Settled settled = routing::settle(lab);
    const auto& disputes = settled.lessons()->disputes();
    REQUIRE(disputes.size() == 2); // north loses south, and south north; both keep west
    for (const routing::Dispute& dispute : disputes) {
        CHECK(dispute.kind == routing::Dispute::Kind::takes_sessions);
        CHECK(net::to_string(dispute.to) == "10.1.0.0/28");
        REQUIRE(dispute.machines.size() == 2);
        CHECK(lab.machines[dispute.machines[1]].name
              == (lab.machines[dispute.machines[0]].name == "north" ? "south" : "north"));
    }
    const lab::Lab whole = lab_of(text("10.1.0.9"));
    CHECK(routing::settle(whole).lessons()->disputes().empty());
}

TEST_CASE("of two borders that hand over both ways chance decides, and both states are told") {
    auto border = [](const char* number) {
        return "  b" + std::string(number) + ": {" + nics(number, "ab")
               + ", rip: {nics: [a], redistribute: ospf}, ospf: {areas: {0: [b]}, redistribute: "
                 "rip}}\n";
    };
    const lab::Lab lab = lab_of(subnets("routers:\n") + border("1") + border("2") + "  r3: {"
                                + nics("3", "ao") + ", rip: {nics: all}}\n");
    const routing::Settled settled = routing::settle(lab);
    const auto found = routing::protocol_findings(lab, *settled.lessons());
    REQUIRE(found.size() == 1);
    const std::string states = "b1 goes by r3 and b2 by b1, or else b1 by b2 and b2 by r3";
    CHECK(found.front().message.find(states) != std::string::npos);
    CHECK(next_hop(settled, "b1", "10.9.0.77") == "10.0.1.3");
    CHECK(next_hop(settled, "b2", "10.9.0.77") == "10.0.2.1");
}

TEST_CASE("an area that is a stub here and an NSSA there becomes the same") {
    const std::string text = subnets("routers:\n") + "  r1: {" + nics("1", "a")
                             + ", ospf: {areas: {1: all}, stub: 1}}\n  r2: {" + nics("2", "a")
                             + ", ospf: {areas: {1: all}, nssa: 1}}\n";
    const plan::Plan plan = plan::read(text, "t").plan->written();
    const lab::Lab lab = lab::build(plan);
    const routing::Settled settled = routing::settle(lab);
    const auto found = routing::protocol_findings(lab, *settled.lessons());
    REQUIRE(found.size() == 1);
    CHECK(found.front().cause == plan::Cause::stub_differs);
    const lab::Lab mended = lab::build(plan::apply(plan, found.front().remedy.edits).plan.value());
    CHECK(routing::protocol_findings(mended, *routing::settle(mended).lessons()).empty());
}

TEST_CASE("where news of a prefix stop, and why") {
    using routing::Stop;
    struct Row {
        const char* about;
        std::string text;
        const char* lacks;
        const char* knows;
        Stop why;
    };
    const std::string outer =
        "  r1: {" + nics("1", "ao")
        + ", bgp: {as: 64501, neighbours: {r2: {as: 64502}}, networks: own}}\n";
    const Row rows[] = {
        {"a NIC that is not in OSPF",
         subnets("routers:\n") + "  r1: {" + nics("1", "ao") + ", ospf: {areas: {0: [a]}}}\n  r2: {"
             + nics("2", "a") + ", ospf: {areas: {0: [a]}}}\n",
         "r2", "r1", Stop::not_brought_in},
        {"two hello intervals",
         subnets("routers:\n") + "  r1: {" + nics("1", "ao")
             + ", ospf: {areas: {0: all}, hello: {a: 5s}}}\n  r2: {" + nics("2", "a")
             + ", ospf: {areas: {0: all}}}\n",
         "r2", "r1", Stop::not_neighbours},
        {"a stub area",
         subnets("routers:\n") + "  r1: {" + nics("1", "ao")
             + ", ospf: {areas: {0: [a]}, redistribute: connected}}\n  r2: {" + nics("2", "ab")
             + ", ospf: {areas: {0: [a], 1: [b]}, stub: [1]}}\n  r3: {" + nics("3", "b")
             + ", ospf: {areas: {1: [b]}, stub: [1]}}\n",
         "r3", "r2", Stop::area},
        {"an own AS in the path",
         subnets("routers:\n") + outer + "  r2: {" + nics("2", "ab")
             + ", bgp: {as: 64502, neighbours: {r1: {as: 64501}, r3: {as: 64501}}}}\n  r3: {"
             + nics("3", "b") + ", bgp: {as: 64501, neighbours: {r2: {as: 64502}}}}\n",
         "r3", "r2", Stop::loop},
        {"a next hop outside the AS",
         subnets("routers:\n") + outer + "  r2: {" + nics("2", "ab")
             + ", bgp: {as: 64502, neighbours: {r1: {as: 64501}, r3: {as: 64502}}}}\n  r3: {"
             + nics("3", "b") + ", bgp: {as: 64502, neighbours: {r2: {as: 64502}}}}\n",
         "r3", "r2", Stop::next_hop},
        {"heard inside the AS",
         subnets("routers:\n") + outer + "  r2: {" + nics("2", "ab")
             + ", bgp: {as: 64502, neighbours: {r1: {as: 64501}, r3: {as: 64502, next-hop-self: "
               "true}}}}\n  r3: {"
             + nics("3", "bc")
             + ", bgp: {as: 64502, neighbours: {r2: {as: 64502}, r4: {as: 64502}}}}\n  r4: {"
             + nics("4", "c") + ", bgp: {as: 64502, neighbours: {r3: {as: 64502}}}}\n",
         "r4", "r3", Stop::inside_as},
        {"two reflectors of one cluster",
         subnets("routers:\n") + "  r1: {" + nics("1", "ao")
             + ", bgp: {as: 64501, neighbours: {r2: {as: 64501}}, networks: own}}\n  r2: {"
             + nics("2", "ab")
             + ", bgp: {as: 64501, cluster-id: 192.0.2.9, neighbours: {r1: {as: 64501, client: "
               "true}, r3: {as: 64501}}}}\n  r3: {"
             + nics("3", "b")
             + ", bgp: {as: 64501, cluster-id: 192.0.2.9, neighbours: {r2: {as: 64501}}}}\n",
         "r3", "r2", Stop::loop},
        {"a policy of the one who hears",
         subnets("policies: {none: {default: refuse}}\nrouters:\n") + outer + "  r2: {"
             + nics("2", "a") + ", bgp: {as: 64502, neighbours: {r1: {as: 64501, takes: none}}}}\n",
         "r2", "r1", Stop::is_refused},
    };
    const net::Address own = *net::parse_address("10.9.0.1");
    for (const Row& row : rows) {
        CAPTURE(row.about);
        const lab::Lab lab = lab_of(row.text);
        const routing::Settled settled = routing::settle(lab);
        const routing::Provenance found =
            routing::provenance(settled, *lab.machine(row.lacks), own);
        CHECK((!found.to || found.to->length() == 0));
        REQUIRE(found.stopped.size() == 1);
        const routing::Stopped& stopped = found.stopped.front();
        CHECK(lab.machines[stopped.knows].name == row.knows);
        CHECK(lab.machines[stopped.lacks].name == row.lacks);
        CHECK(routing::to_string(stopped.why) == routing::to_string(row.why));
    }
    // From one who hears of it to the next, back to who has it.
    const lab::Lab lab = lab_of(rows[5].text);
    const routing::Settled settled = routing::settle(lab);
    const routing::Provenance found = routing::provenance(settled, *lab.machine("r3"), own);
    REQUIRE(found.passages.size() == 3);
    CHECK(lab.machines[found.passages[1].machine].name == "r2");
    CHECK(found.passages[2].route.kind == routing::RouteKind::connected);
    CHECK(found.stopped.empty());
}
