// Routing protocols: worked examples of the RFCs, shortest paths held against Boost.Graph, the
// decision process of BGP, and what holds whatever the lab.
#include "lab_of.h"

#include "jackal/probe/timeline.h"
#include "jackal/routing/discord.h"

#include <algorithm>
#include <boost/graph/adjacency_list.hpp>
#include <boost/graph/dijkstra_shortest_paths.hpp>
#include <doctest/doctest.h>
#include <fmt/format.h>
#include <map>
#include <random>

using namespace jackal;

namespace {

// The cost of what OSPF or another protocol taught the machine for the prefix, and the names of the
// machines that it sends to: "10 RT3, RT5"; "none".
std::string learned(const routing::Settled& settled, const std::string& machine,
                    const std::string& prefix) {
    const lab::Lab& lab = settled.lab();
    std::string text;
    std::string names;
    for (const routing::Route& route : settled.routes(*lab.machine(machine))) {
        if (route.to != net::parse_prefix(prefix) || !routing::is_learned(route.kind))
            continue;
        text = fmt::format("{} {}", routing::to_string(route.kind), route.metric);
        names +=
            (names.empty() ? " " : ", ") + lab.machine_name(lab.owners_of(route.via).front().nic);
    }
    return text.empty() ? "none" : text + names;
}

// Routers n0, n1, … that speak OSPF, joined at random; the same for one seed. Each has a subnet.
std::string random_mesh(unsigned seed, int routers, int links, const std::string& area) {
    std::mt19937 random(seed);
    auto below = [&](int n) { return static_cast<int>(random() % static_cast<unsigned>(n)); };
    std::string text = "lab: mesh\nsubnets:\n";
    for (int i = 0; i < routers; ++i)
        text += fmt::format("  s{}: {{prefix: [10.1.{}.0/24, 'fd01:0:0:{}::/64']}}\n", i, i, i);
    text += "guests:\n";
    for (int i = 0; i < routers; ++i)
        text += fmt::format("  g{}: {{nics: [{{subnet: s{}}}]}}\n", i, i);
    text += "routers:\n";
    for (int i = 0; i < routers; ++i)
        text += fmt::format("  n{}: {{nics: [{{subnet: s{}}}], ospf: {{areas: {{{}: all}}}}}}\n", i,
                            i, area);
    text += "links:\n";
    for (int l = 0; l < links; ++l) {
        int one = l < routers ? l : below(routers);
        int other = l < routers ? (l + 1) % routers : below(routers);
        if (one == other)
            other = (other + 1) % routers;
        text += fmt::format("  - {{between: [n{}, n{}], cost: {}}}\n", one, other, 1 + below(6));
    }
    return text;
}

} // namespace

// RFC 2328 section 2.3, figure 2, and the table of router RT6 in section 2.3 (table 3), with the
// externals of section 2.3 as type 1.
TEST_CASE("the sample autonomous system of RFC 2328 has the routing table that it prints") {
    std::string subnets;
    for (int n : {1, 2, 3, 4, 6, 7, 8, 9, 10, 11})
        subnets += fmt::format("  n{}: {{prefix: 10.0.{}.0/24}}\n", n, n);
    const std::map<int, std::map<std::string, int>> costs = {
        {1, {{"n1", 3}, {"n3", 1}}},
        {2, {{"n2", 3}, {"n3", 1}}},
        {3, {{"n4", 2}, {"n3", 1}, {"rt6", 8}}},
        {4, {{"n3", 1}, {"rt5", 8}}},
        {5, {{"rt4", 8}, {"rt6", 7}, {"rt7", 6}}},
        {6, {{"rt3", 6}, {"rt5", 6}, {"rt10", 7}}},
        {7, {{"rt5", 6}, {"n6", 1}}},
        {8, {{"n6", 1}, {"n7", 4}}},
        {9, {{"n9", 1}, {"n11", 3}}},
        {10, {{"n6", 1}, {"n8", 3}, {"rt6", 5}}},
        {11, {{"n8", 2}, {"n9", 1}}},
        {12, {{"n9", 1}, {"n10", 2}}}};
    for (int n : {5, 7}) // outside OSPF, so that its routers are gone by
        subnets +=
            fmt::format("  out{0}: {{prefix: 198.51.100.{1}/29, gateway: none}}\n", n, n * 8);
    std::string routers;
    for (const auto& [number, nics] : costs) {
        std::string list;
        std::string cost;
        std::string spoken;
        for (const auto& [to, value] : nics) {
            spoken += (spoken.empty() ? "" : ", ") + to;
            if (to[0] == 'n')
                list += fmt::format("{}{{subnet: {}}}", list.empty() ? "" : ", ", to);
            cost += fmt::format("{}{}: {}", cost.empty() ? "" : ", ", to, value);
        }
        std::string more;
        if (number == 5 || number == 7)
            more = fmt::format(", redistribute: {{from: static, type: 1, policy: out{}}}", number);
        if (number == 5 || number == 7)
            list += fmt::format("{}{{subnet: out{}}}", list.empty() ? "" : ", ", number);
        if (number == 12)
            more += ", passive: n10";
        routers += fmt::format("  rt{}:\n    router-id: 192.0.2.{}\n    nics: [{}]\n"
                               "    ospf: {{areas: {{0: [{}]}}, cost: {{{}}}{}}}\n",
                               number, number, list, spoken, cost, more);
        if (number == 5) // n12 to n14, and of rt7 n12 and n15
            routers += "    routes: [{to: 203.0.112.0/24, via: x5}, {to: 203.0.113.0/24, via: x5}, "
                       "{to: 203.0.114.0/24, via: x5}]\n";
        if (number == 7)
            routers += "    routes: [{to: 203.0.112.0/24, via: x7}, "
                       "{to: 203.0.115.0/24, via: x7}]\n";
    }
    lab::Lab lab =
        lab_of("lab: sample\nsubnets:\n" + subnets
               + "policies:\n  out5: {default: accept, rules: [{do: accept, med: 8}]}\n"
                 "  out7: {default: accept, rules: [{do: accept, prefix: 203.0.112.0/24, med: 2}, "
                 "{do: accept, med: 9}]}\n"
               + "guests: {x5: {nics: [{subnet: out5}]}, x7: {nics: [{subnet: out7}]}}\n"
               + "routers:\n" + routers
               + "links: [{between: [rt3, rt6]}, {between: [rt4, rt5]}, {between: [rt5, rt6]}, "
                 "{between: [rt5, rt7]}, {between: [rt6, rt10]}]\n");
    routing::Settled settled = routing::settle(lab);
    const std::pair<int, std::string> table[] = {
        {1, "10 rt3"},  {2, "10 rt3"},  {3, "7 rt3"},   {4, "8 rt3"},    {6, "8 rt10"},
        {7, "12 rt10"}, {8, "10 rt10"}, {9, "11 rt10"}, {10, "13 rt10"}, {11, "14 rt10"}};
    for (const auto& [network, way] : table) {
        CAPTURE(network);
        CHECK(learned(settled, "rt6", fmt::format("10.0.{}.0/24", network)) == "ospf " + way);
    }
    CHECK(learned(settled, "rt6", "203.0.112.0/24") == "ospf 10 rt10");
    CHECK(learned(settled, "rt6", "203.0.113.0/24") == "ospf 14 rt5");
    CHECK(learned(settled, "rt6", "203.0.115.0/24") == "ospf 17 rt10");
}

TEST_CASE(
    "on random graphs OSPF finds the costs that Boost.Graph finds, and all equal first hops") {
    using Graph =
        boost::adjacency_list<boost::vecS, boost::vecS, boost::directedS, boost::no_property,
                              boost::property<boost::edge_weight_t, unsigned>>;
    constexpr int routers = 24;
    for (unsigned seed = 1; seed <= 12; ++seed) {
        lab::Lab lab = lab_of(random_mesh(seed, routers, 50, "0"));
        Graph graph(routers);
        auto number = [&](lab::NicId nic) {
            return static_cast<unsigned>(std::stoul(lab.machine_name(nic).substr(1)));
        };
        std::map<std::pair<unsigned, unsigned>, unsigned> cheapest;
        for (const lab::Link& link : lab.links) {
            unsigned cost = lab.speaker(lab.nics[link.first].machine)->ospf->on(link.first)->cost;
            for (auto [a, b] : {std::pair(link.first, link.second), {link.second, link.first}}) {
                boost::add_edge(number(a), number(b), cost, graph);
                auto [known, is_new] = cheapest.emplace(std::pair(number(a), number(b)), cost);
                known->second = std::min(known->second, cost);
            }
        }
        std::vector<std::vector<unsigned>> costs(routers, std::vector<unsigned>(routers));
        for (unsigned source = 0; source < routers; ++source)
            boost::dijkstra_shortest_paths(graph, source,
                                           boost::distance_map(costs[source].data()));
        routing::Settled settled = routing::settle(lab);
        for (unsigned from = 0; from < routers; ++from) {
            std::map<net::Prefix, std::pair<unsigned, std::set<unsigned>>> found;
            for (const routing::Route& route :
                 settled.routes(*lab.machine(fmt::format("n{}", from))))
                if (routing::is_learned(route.kind)) {
                    found[route.to].first = route.metric;
                    found[route.to].second.insert(number(lab.owners_of(route.via).front().nic));
                }
            for (unsigned to = 0; to < routers; ++to) {
                if (from == to)
                    continue;
                const auto& way = found[net::parse_prefix(fmt::format("10.1.{}.0/24", to)).value()];
                REQUIRE(way.first == costs[from][to] + 10); // the subnet's own NIC
                std::set<unsigned> firsts;
                for (const auto& [ends, cost] : cheapest)
                    if (ends.first == from && cost + costs[ends.second][to] == costs[from][to])
                        firsts.insert(ends.second);
                REQUIRE(way.second == firsts);
            }
        }
    }
}

TEST_CASE("after cuts the tables are those of the lab without what was cut") {
    for (unsigned seed = 1; seed <= 8; ++seed) {
        std::string text = random_mesh(seed, 14, 24, "0");
        if (seed % 2 == 0) // two areas, and a default from outside
            text.replace(text.find("n3: {nics: [{subnet: s3}], ospf: {areas: {0: all}"),
                         std::string("n3: {nics: [{subnet: s3}], ospf: {areas: {0: all}").size(),
                         "n3: {nics: [{subnet: s3}], ospf: {areas: {0: all, 5: [s3]}, "
                         "default: always");
        lab::Lab lab = lab_of(text);
        routing::Condition whole(lab);
        routing::Tables tables(lab);
        auto before = tables.learn(whole);
        for (std::uint32_t l = 0; l + 1 < lab.links.size(); l += 2) {
            routing::Condition cut = whole;
            for (std::uint32_t n : {l, l + 1}) {
                const lab::Link& link = lab.links[lab::LinkId{n}];
                cut.cut(lab, lab.machine_name(link.first) + "--" + lab.machine_name(link.second));
            }
            auto after = tables.learn_again(*before, whole, cut);
            auto anew = tables.learn(cut);
            for (lab::MachineId machine : lab.machines.ids()) {
                auto one = after->offers(machine);
                auto other = anew->offers(machine);
                REQUIRE(one.size() == other.size());
                for (std::size_t i = 0; i < one.size(); ++i) {
                    REQUIRE(one[i].to == other[i].to);
                    REQUIRE(one[i].metric == other[i].metric);
                    std::ranges::sort(one[i].gates);
                    std::ranges::sort(other[i].gates);
                    REQUIRE(one[i].gates == other[i].gates);
                }
            }
            CHECK(after->neighbours().size() == anew->neighbours().size());
        }
    }
}

TEST_CASE("once converged, packets arrive wherever there is a way, and never circle") {
    for (unsigned seed = 20; seed < 24; ++seed) {
        lab::Lab lab = lab_of(random_mesh(seed, 10, 13, "0"));
        routing::Condition cut(lab);
        cut.cut(lab, "n2--n3");
        cut.cut(lab, "n7");
        routing::Settled settled = routing::settle(lab, cut);
        for (int from = 0; from < 10; ++from)
            for (int to = 0; to < 10; ++to) {
                auto question =
                    probe::question(lab, fmt::format("g{}", from), fmt::format("g{}", to), {});
                for (const auto& answer : probe::ping_every_way(settled, *question)) {
                    CAPTURE(from);
                    CAPTURE(to);
                    bool there = from == to || (from != 7 && to != 7);
                    CHECK(answer.reaches == there);
                    if (answer.out)
                        CHECK(answer.out->ending != packet::Ending::ttl_expired);
                }
            }
    }
}

TEST_CASE("areas: border routers summarise, stubs take a default route and no externals") {
    lab::Lab lab = lab_of("lab: areas\n"
                          "subnets:\n  a: {prefix: 10.1.0.0/24}\n  b: {prefix: 10.1.1.0/24}\n"
                          "  m: {prefix: 10.2.0.0/24}\n  z: {prefix: 10.3.0.0/24}\n"
                          "guests:\n  ant: {nics: [{subnet: a}]}\n  zebu: {nics: [{subnet: z}]}\n"
                          "routers:\n"
                          "  r1: {nics: [{subnet: a}, {subnet: b}], ospf: {areas: {1: all}}}\n"
                          "  r2: {nics: [{subnet: m}], ospf: {areas: {1: r1, 0: all}, "
                          "summarise: {1: 10.1.0.0/16}}}\n"
                          "  r3: {ospf: {areas: {0: r2, 2: r4}, stub: 2}}\n"
                          "  r4: {nics: [{subnet: z}], ospf: {areas: {2: all}, stub: 2}}\n"
                          "  r5: {ospf: {areas: {0: all}, redistribute: static}, "
                          "routes: [{to: 198.51.100.0/24, via: r2}]}\n"
                          "links: [{between: [r1, r2]}, {between: [r2, r3]}, {between: [r3, r4]}, "
                          "{between: [r2, r5]}]\n");
    routing::Settled settled = routing::settle(lab);
    CHECK(learned(settled, "r4", "10.1.0.0/16") == "ospf 40 r3"); // r4 r3 r2 r1, and its NIC
    CHECK(learned(settled, "r4", "10.1.1.0/24") == "none");
    CHECK(learned(settled, "r4", "10.2.0.0/24") == "ospf 30 r3");
    CHECK(learned(settled, "r4", "0.0.0.0/0") == "ospf 11 r3");
    CHECK(learned(settled, "r4", "198.51.100.0/24") == "none");
    CHECK(learned(settled, "r1", "198.51.100.0/24") == "ospf 20 r2");
    CHECK(learned(settled, "r1", "10.3.0.0/24") == "ospf 40 r2");
    CHECK(outcome(settled, "ant", "zebu") == "reply");
    CHECK(outcome(settled, "zebu", "ant") == "reply");
}

// RFC 2453 section 3.4: 16 is infinity.
TEST_CASE("RIP counts hops up to fifteen, and takes the lower neighbour of equal ones") {
    std::string text = "lab: line\nsubnets:\n  near: {prefix: 10.1.0.0/24}\nrouters:\n";
    for (int i = 0; i < 17; ++i)
        text += fmt::format("  r{}: {{{}rip: {{nics: all}}}}\n", i,
                            i == 0 ? "nics: [{subnet: near}], " : "");
    text += "  x: {rip: {nics: all}}\nlinks:\n";
    for (int i = 0; i < 16; ++i)
        text += fmt::format("  - {{between: [r{}, r{}], prefix: 10.2.{}.0/31}}\n", i, i + 1, i);
    text += "  - {between: [r0, x], prefix: 10.3.0.0/31}\n"
            "  - {between: [x, r2], prefix: 10.3.1.0/31}\n";
    lab::Lab lab = lab_of(text);
    routing::Settled settled = routing::settle(lab);
    CHECK(learned(settled, "r1", "10.1.0.0/24") == "rip 2 r0");
    CHECK(learned(settled, "r2", "10.1.0.0/24") == "rip 3 r1"); // 10.2.1.0 is lower than 10.3.1.0
    CHECK(learned(settled, "r14", "10.1.0.0/24") == "rip 15 r13");
    CHECK(learned(settled, "r15", "10.1.0.0/24") == "none");
}

namespace {

// AS 65001 hears of AS 65009's 10.9.0.0/24 by two neighbours, east and west; `told` changes one
// thing. The middle is told of both.
std::string choice(const std::string& east, const std::string& west, const std::string& more = "") {
    return "lab: choice\nsubnets: {far: {prefix: 10.9.0.0/24}}\n"
           "policies:\n"
           "  better: {default: accept, rules: [{do: accept, preference: 200}]}\n"
           "  longer: {default: accept, rules: [{do: accept, prepend: 2}]}\n"
           "  med-9: {default: accept, rules: [{do: accept, med: 9}]}\n"
           "  none: {default: refuse}\n"
           "routers:\n"
           "  middle: {router-id: 192.0.2.1, bgp: {as: 65001, neighbours: {east: {as: 65002"
           + east + "}, west: {as: 65002" + west
           + "}}}}\n"
             "  east: {router-id: 192.0.2.3, bgp: {as: 65002, neighbours: {middle: {as: 65001}, "
             "far: {as: 65009}}}}\n"
             "  west: {router-id: 192.0.2.2, bgp: {as: 65002, neighbours: {middle: {as: 65001}, "
             "far: {as: 65009}}}}\n"
             "  far: {router-id: 192.0.2.9, nics: [{subnet: far}], bgp: {as: 65009, networks: far, "
             "neighbours: {east: {as: 65002}, west: {as: 65002}}}}\n"
             "links: [{between: [middle, east]}, {between: [middle, west]}, "
             "{between: [east, far]}, {between: [west, far]}]\n"
           + more;
}

} // namespace

// RFC 4271 section 9.1.2, step by step.
TEST_CASE("BGP decides by preference, AS path, MED and router id, and says by which") {
    using routing::Decision;
    struct Case {
        std::string east, west, chosen;
        Decision step;
    };
    const Case cases[] = {{", takes: better", "", "east", Decision::local_preference},
                          {"", ", takes: longer", "east", Decision::as_path_length},
                          {"", ", takes: med-9", "east", Decision::med},
                          {"", "", "west", Decision::router_id},
                          {", takes: better", ", takes: better", "west", Decision::router_id}};
    for (const Case& c : cases) {
        lab::Lab lab = lab_of(choice(c.east, c.west));
        routing::Settled settled = routing::settle(lab);
        auto offers = settled.learned({}).offers(*lab.machine("middle"));
        std::erase_if(offers, [](const auto& o) { return net::to_string(o.to) != "10.9.0.0/24"; });
        REQUIRE(offers.size() == 2);
        CHECK(lab.machines[offers[0].from].name == c.chosen);
        CHECK(offers[1].lost_by == c.step);
        CHECK(offers[0].path.as_path.back() == 65009);
    }
    lab::Lab refused = lab_of(choice(", takes: none", ", takes: none"));
    CHECK(learned(routing::settle(refused), "middle", "10.9.0.0/24") == "none");
}

TEST_CASE(
    "inside an AS the next hop must be found, or the border router puts itself in its place") {
    auto text = [](const std::string& self, const std::string& igp) {
        return "lab: inner\nsubnets: {far: {prefix: 10.9.0.0/24}, here: {prefix: 10.1.0.0/24}}\n"
               "guests: {ant: {nics: [{subnet: here}]}, emu: {nics: [{subnet: far}]}}\n"
               "routers:\n"
               "  deep: {nics: [{subnet: here}], ospf: {areas: {0: all}}, bgp: {as: 65001, "
               "neighbours: {edge: {as: 65001}}, networks: here}}\n"
               "  edge: {ospf: {areas: {0: [deep"
               + igp
               + "]}}, bgp: {as: 65001, "
                 "neighbours: {deep: {as: 65001"
               + self
               + "}, far: {as: 65002}}}}\n"
                 "  far: {nics: [{subnet: far}], bgp: {as: 65002, neighbours: {edge: {as: 65001}}, "
                 "networks: far}}\n"
                 "links: [{between: [deep, edge]}, {between: [edge, far]}]\n";
    };
    lab::Lab neither = lab_of(text("", ""));
    CHECK(learned(routing::settle(neither), "deep", "10.9.0.0/24") == "none");
    for (const auto& [self, igp] :
         {std::pair(", next-hop-self: true", ""), std::pair("", ", far")}) {
        lab::Lab lab = lab_of(text(self, igp));
        routing::Settled settled = routing::settle(lab);
        CHECK(learned(settled, "deep", "10.9.0.0/24") == "bgp 0 edge");
        CHECK(outcome(settled, "ant", "emu") == "reply");
    }
}

TEST_CASE("protocols hand over to each other, and static routes come before what is learned") {
    lab::Lab lab =
        lab_of("lab: chain\n"
               "subnets: {a: {prefix: 10.1.0.0/24}, z: {prefix: 10.2.0.0/24}}\n"
               "guests: {ant: {nics: [{subnet: a}]}, zebu: {nics: [{subnet: z}]}}\n"
               "routers:\n"
               "  r1: {nics: [{subnet: a}], ospf: {areas: {0: all}}}\n"
               "  r2: {ospf: {areas: {0: r1}, redistribute: [rip, connected]}, "
               "rip: {nics: [r3], redistribute: [{from: ospf, metric: 3}, connected]}}\n"
               "  r3: {rip: {nics: [r2], redistribute: [bgp, connected]}, bgp: {as: 65001, "
               "neighbours: {r4: {as: 65002}}, redistribute: [rip, connected]}}\n"
               "  r4: {nics: [{subnet: z}], bgp: {as: 65002, "
               "neighbours: {r3: {as: 65001}}, networks: z}}\n"
               "links: [{between: [r1, r2]}, {between: [r2, r3]}, {between: [r3, r4]}]\n");
    routing::Settled settled = routing::settle(lab);
    CHECK(outcome(settled, "ant", "zebu") == "reply");
    CHECK(learned(settled, "r1", "10.2.0.0/24") == "ospf 20 r2");
    CHECK(learned(settled, "r3", "10.1.0.0/24") == "rip 4 r2");
    CHECK(learned(settled, "r4", "10.1.0.0/24") == "bgp 0 r3");
    CHECK(settled.lessons()->disputes().empty());

    lab::Lab with_static =
        lab_of("lab: wins\nsubnets: {a: {prefix: 10.1.0.0/24}}\n"
               "routers:\n"
               "  r1: {nics: [{subnet: a}], ospf: {areas: {0: all}}}\n"
               "  r2: {ospf: {areas: {0: all}}, routes: [{to: a, via: r3, metric: 900}]}\n"
               "  r3: {ospf: {areas: {0: all}}}\n"
               "links: [{between: [r1, r2]}, {between: [r2, r3]}, {between: [r3, r1]}]\n");
    routing::Settled wins = routing::settle(with_static);
    auto route = wins.route(*with_static.machine("r2"), net::parse_address("10.1.0.9").value());
    CHECK(route->kind == routing::RouteKind::static_route);
}

TEST_CASE("the order of entries changes nothing but which of equals comes first") {
    std::string text = random_mesh(3, 9, 14, "0");
    plan::Reading reading = plan::read(text, "t");
    plan::Plan turned = reading.plan->written();
    std::ranges::reverse(turned.machines);
    std::ranges::reverse(turned.subnets);
    lab::Lab one = lab_of(text);
    lab::Lab other = lab::build(turned);
    routing::Settled here = routing::settle(one);
    routing::Settled there = routing::settle(other);
    for (int i = 0; i < 9; ++i)
        for (int s = 0; s < 9; ++s) {
            std::string name = fmt::format("n{}", i);
            net::Address far = net::parse_address(fmt::format("10.1.{}.9", s)).value();
            CHECK(here.route(*one.machine(name), far)->metric
                  == there.route(*other.machine(name), far)->metric);
        }
}

// A router that hears its own address from its neighbour hears nothing, and no next hop is an
// address of the machine itself.
TEST_CASE("an IPv4 address twice on a segment keeps routers from becoming neighbours") {
    for (const char* protocol : {"ospf: {areas: {0: all}}", "rip: {nics: all}"})
        for (const char* addresses : {"10.0.0.1/24", "'fd00::1/64'"}) {
            const bool is_ipv6 = addresses[0] == '\''; // link-local addresses are not there twice
            CAPTURE(protocol);
            CAPTURE(addresses);
            auto lab = lab_of(fmt::format(R"(
lab: twice
subnets:
  wire: {{prefix: [10.0.0.0/24, 'fd00::/64'], gateway: none}}
  west: {{prefix: [10.0.1.0/24, 'fd00:0:0:1::/64']}}
  east: {{prefix: [10.0.2.0/24, 'fd00:0:0:2::/64']}}
routers:
  west-r1: {{router-id: 192.0.2.1, nics: [{{subnet: wire, address: [{0}]}}, {{subnet: west}}], {1}}}
  east-r1: {{router-id: 192.0.2.2, nics: [{{subnet: wire, address: [{0}]}}, {{subnet: east}}], {1}}}
)",
                                          addresses, protocol));
            routing::Settled settled = routing::settle(lab);
            std::vector<routing::Neighbour> found = settled.lessons()->neighbours();
            REQUIRE(!found.empty());
            for (const routing::Neighbour& n : found) {
                CHECK((n.state == routing::NeighbourState::full) == is_ipv6);
                if (is_ipv6)
                    continue;
                CHECK(n.discord == routing::Discord::own_address);
                CHECK(routing::describe(lab, n).cause == plan::Cause::duplicate_address);
            }
            CHECK(learned(settled, "west-r1", "10.0.2.0/24") == "none");
            CHECK((learned(settled, "west-r1", "fd00:0:0:2::/64") == "none") == !is_ipv6);
        }
}

// What two namespaces and a router between them did when its route moved from one NIC to another
// while a ping went on, with the rules of each row (Linux: nf_nat_oif_changed, and the records of
// flows that were there before).
TEST_CASE("a ping that goes on is translated as it began") {
    struct Row {
        const char* rules;
        const char* cut;
        int older_flow; // pings lost to it
        bool ends_well;
    };
    const Row rows[] = {
        {"{out: eth1}, {out: eth2}", "gate-r1--north-r1", 1, true},
        {"{out: eth1}", "gate-r1--north-r1", 1, false},
        {"{out: eth2}", "gate-r1--north-r1", 78, false},
        {"{out: eth1}, {out: eth2}", "gate-r1/eth1", 0, true}, // forgotten with the NIC
    };
    for (const Row& row : rows) {
        CAPTURE(row.rules);
        CAPTURE(row.cut);
        auto lab = lab_of(fmt::format(R"(
lab: gate
subnets:
  office: {{prefix: 10.9.0.0/24}}
  far: {{prefix: 192.0.2.0/28}}
guests:
  desk: {{nics: [{{subnet: office}}]}}
  buoy: {{nics: [{{subnet: far}}]}}
routers:
  gate-r1: {{nics: [{{subnet: office}}], nat: [{}], ospf: {{areas: {{0: [north-r1, south-r1]}}}}}}
  north-r1: {{ospf: {{areas: {{0: all}}}}}}
  south-r1: {{ospf: {{areas: {{0: all}}}}}}
  far-r1: {{nics: [{{subnet: far}}], ospf: {{areas: {{0: all}}}}}}
links:
  - {{between: [gate-r1, north-r1]}}
  - {{between: [gate-r1, south-r1], cost: 50}}
  - {{between: [north-r1, far-r1]}}
  - {{between: [south-r1, far-r1]}}
)",
                                      row.rules));
        probe::TimelineQuestion asked{
            .ping = *probe::question(lab, "desk", "buoy"),
            .count = 100,
            .interval = std::chrono::milliseconds(100),
            .events = {{std::chrono::seconds(2), false, routing::parse_cut(lab, row.cut).value()}}};
        auto timeline = probe::timeline(lab, asked);
        int older_flow = 0;
        int sent = 0;
        for (const probe::Stretch& stretch : timeline.stretches) {
            sent += stretch.count;
            if (stretch.answer.diagnosis
                && stretch.answer.diagnosis->cause == plan::Cause::older_flow)
                older_flow += stretch.count - stretch.received;
        }
        CHECK(sent == 100);
        CHECK(older_flow == row.older_flow);
        CHECK(timeline.stretches.back().answer.reaches == row.ends_well);
    }
}

// As a ping found them between real daemons (see docs/design.md).
TEST_CASE("how long a ping is without a reply while a NIC is down, and once it is up again") {
    const std::string bgp = R"(
lab: pair
routers:
  west-r1: {loopback: 10.9.0.1, router-id: 10.9.0.1, bgp: {as: 64512, neighbours: {east-r1: {as: 64513}}, redistribute: connected}}
  east-r1: {loopback: 10.9.0.2, router-id: 10.9.0.2, bgp: {as: 64513, neighbours: {west-r1: {as: 64512}}, redistribute: connected}}
links:
  - {between: [west-r1, east-r1]}
)";
    // south-r1 is in area 1 alone; what west-r1 says in area 1 reaches nobody without its NIC
    // there.
    const std::string areas = R"(
lab: areas
subnets:
  office: {prefix: 10.1.0.0/24}
  lane: {prefix: 10.2.0.0/24}
  yard: {prefix: 10.3.0.0/24}
guests:
  desk: {nics: [{subnet: office}]}
  shed: {nics: [{subnet: yard}]}
routers:
  west-r1:
    nics: [{subnet: office}, {subnet: lane}]
    ospf: {areas: {0: [office, east-r1], 1: [lane]}, hello: {eth1: 1s}}
  east-r1:
    ospf: {areas: {0: [west-r1], 1: [south-r1]}, cost: {south-r1: 50}}
  south-r1:
    nics: [{subnet: lane}, {subnet: yard}]
    ospf: {areas: {1: all}, hello: {eth0: 1s}}
links:
  - {between: [west-r1, east-r1]}
  - {between: [east-r1, south-r1]}
)";
    struct Row {
        const std::string& plan;
        const char* from;
        const char* to;
        const char* nic;
        double cut_s; // out of reach for so long while it is down
        double back_s;
    };
    const Row rows[] = {
        // Both ends lose the carrier at once, and connect soon after they have it again.
        {bgp, "10.9.0.1", "10.9.0.2", "east-r1/eth0", 20, 5.1},
        // A dead interval of 4 s less half a hello, and the shortest paths.
        {areas, "desk", "shed", "west-r1/eth1", 3.7, 0},
    };
    for (const Row& row : rows) {
        CAPTURE(row.nic);
        const lab::Lab lab = lab_of(row.plan);
        const routing::Cut cut = routing::parse_cut(lab, row.nic).value();
        using std::chrono::seconds;
        const probe::TimelineQuestion asked{
            .ping = *probe::question(lab, row.from, row.to),
            .count = 600,
            .interval = std::chrono::milliseconds(100),
            .events = {{seconds(3), false, cut}, {seconds(23), true, cut}}};
        double lost_s[2] = {0, 0};
        for (const probe::Stretch& stretch : probe::timeline(lab, asked).stretches)
            if (stretch.received == 0)
                lost_s[stretch.first < 230 ? 0 : 1] += 0.1 * stretch.count;
        CHECK(lost_s[0] == doctest::Approx(row.cut_s).epsilon(0.06));
        CHECK(lost_s[1] == doctest::Approx(row.back_s).epsilon(0.06));
    }
}

TEST_CASE("a router notices at once that the port it is plugged into went down, and tells others") {
    auto lab = lab_of(R"(
lab: ports
subnets:
  core: {prefix: 10.9.0.0/24}
  left: {prefix: 10.9.1.0/24}
  right: {prefix: 10.9.2.0/24}
switches:
  sw: {ports: {p1: {}, p2: {}}}
guests:
  a: {nics: [{subnet: left}]}
  b: {nics: [{subnet: right}]}
routers:
  r1: {router-id: 1.1.1.1, nics: [{subnet: core, port: sw/p1}, {subnet: left}], ospf: {areas: {0: all}}}
  r2: {router-id: 2.2.2.2, nics: [{subnet: core, port: sw/p2}, {subnet: right}], ospf: {areas: {0: all}}}
links: [{between: [r1, r2], cost: 50}]
)");
    probe::TimelineQuestion asked{
        .ping = *probe::question(lab, "a", "b"),
        .count = 100,
        .events = {{std::chrono::seconds(2), false, routing::parse_cut(lab, "sw/p1").value()}}};
    auto timeline = probe::timeline(lab, asked);
    std::map<std::string, double> turns; // seconds after the cut
    for (const probe::Turn& turn : timeline.turns)
        turns.emplace(lab.machines[turn.machine].name, turn.at.count() / 1e6 - 2);
    CHECK(turns.at("r1") < 1);
    CHECK(turns.at("r2") < 1); // by the wire, and not after a dead interval of 40 s
    CHECK(timeline.stretches.back().answer.reaches);
}
