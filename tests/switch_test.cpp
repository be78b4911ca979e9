// Switches: who hears whom, held against frames that are passed from port to port one by one.
#include "lab_of.h"

#include "jackal/lab/wiring.h"
#include "jackal/probe/question.h"

#include <algorithm>
#include <doctest/doctest.h>
#include <fmt/format.h>
#include <random>
#include <set>

using namespace jackal;

namespace {

// A frame on a switch: the port it came in by, and its VLAN there.
using Arrival = std::pair<lab::PortId, std::uint16_t>;

// Whom a frame that a NIC sends gets to, by the rules of IEEE 802.1Q port by port.
std::set<lab::NicId> flood(const lab::Lab& lab, lab::NicId from) {
    std::set<lab::NicId> heard;
    std::set<Arrival> seen;
    std::vector<Arrival> queue;
    std::set<lab::SegmentId> segments;
    auto arrive = [&](lab::PortId port, std::uint16_t tag) { // 0: untagged
        const lab::Port& row = lab.ports[port];
        std::uint16_t vlan = tag == 0 ? row.untagged : tag;
        bool takes = vlan != 0 && (tag == 0 || std::ranges::count(row.tagged, tag) != 0);
        if (takes && row.up && lab.switches[row.owner].up && seen.emplace(port, vlan).second)
            queue.emplace_back(port, vlan);
    };
    auto on_segment = [&](lab::SegmentId segment) {
        if (!segments.insert(segment).second)
            return;
        for (lab::NicId nic : lab.segments[segment].nics)
            if (lab.plugs_of(nic).empty())
                heard.insert(nic);
        for (lab::PortId port : lab.ports.ids())
            if (lab.ports[port].segment == segment)
                arrive(port, 0);
    };
    auto leave = [&](lab::PortId port, std::uint16_t vlan) {
        const lab::Port& row = lab.ports[port];
        bool tagged = std::ranges::count(row.tagged, vlan) != 0;
        if (!row.up || (!tagged && row.untagged != vlan))
            return;
        std::uint16_t tag = tagged ? vlan : 0;
        for (const lab::Plug& plug : lab.plugs)
            if (plug.port == port && plug.vlan == tag)
                heard.insert(plug.nic);
        for (const lab::Cable& cable : lab.cables)
            if (cable.up && (cable.first == port || cable.second == port))
                arrive(cable.first == port ? cable.second : cable.first, tag);
        if (row.segment && tag == 0)
            on_segment(row.segment);
    };
    auto plugs = lab.plugs_of(from);
    if (plugs.empty())
        on_segment(lab.nics[from].segment);
    else
        arrive(plugs.front().port, plugs.front().vlan);
    while (!queue.empty()) {
        auto [came, vlan] = queue.back();
        queue.pop_back();
        for (lab::PortId port : lab.ports.ids())
            if (lab.ports[port].owner == lab.ports[came].owner)
                leave(port, vlan);
    }
    return heard;
}

// Switches of random ports and cables, and a guest on most of the ports.
std::string random_wiring(std::mt19937& random) {
    auto below = [&](int n) { return static_cast<int>(random() % static_cast<unsigned>(n)); };
    std::string switches;
    std::string guests;
    std::vector<std::string> free;
    for (int s = 0; s < 4; ++s) {
        switches += fmt::format("  s{}: {{state: {}, ports: {{", s, below(9) == 0 ? "down" : "up");
        for (int p = 0; p < 6; ++p) {
            std::string name = fmt::format("s{}/p{}", s, p);
            std::string state = below(9) == 0 ? ", state: down" : "";
            int vlan = 1 + below(3);
            if (p < 3) {
                std::string native = below(2) == 0 ? "" : fmt::format(", native: {}", vlan);
                switches += fmt::format("p{}: {{trunk: [{}, {}]{}{}}}, ", p, 1 + below(3),
                                        1 + below(3), native, state);
                free.push_back(name);
            } else {
                bool segment = p == 5 && below(2) == 0;
                switches += fmt::format("p{}: {{vlan: {}{}{}}}, ", p, vlan,
                                        segment ? ", segment: hall" : "", state);
                if (!segment)
                    guests += fmt::format("  g{}-{}: {{nics: [{{subnet: hall, port: {}}}]}}\n", s,
                                          p, name);
            }
        }
        switches += "}}\n";
    }
    std::ranges::shuffle(free, random);
    std::string links;
    for (std::size_t i = 1; i < 8; i += 2)
        links += fmt::format("  - {{between: [{}, {}]}}\n", free[i - 1], free[i]);
    for (std::size_t i = 8; i < free.size(); ++i)
        guests += fmt::format("  t{}: {{nics: [{{subnet: hall, port: {}, vlan: {}}}]}}\n", i,
                              free[i], 1 + below(3));
    return "lab: wired\nsubnets: {hall: {prefix: 10.50.0.0/16}}\nswitches:\n" + switches
           + "guests:\n  on-segment: {nics: [{subnet: hall}]}\n" + guests + "links:\n" + links;
}

} // namespace

TEST_CASE("broadcast domains are where frames get to") {
    std::mt19937 random(20261123);
    int pairs = 0;
    int heard = 0;
    for (int round = 0; round < 200; ++round) {
        std::string text = random_wiring(random);
        CAPTURE(text);
        lab::Lab lab = lab_of(text);
        lab::Wiring wiring(lab, lab::WiringState(lab));
        for (lab::NicId one : lab.nics.ids()) {
            std::set<lab::NicId> there = flood(lab, one);
            for (lab::NicId other : lab.nics.ids()) {
                if (one == other)
                    continue;
                ++pairs;
                heard += there.contains(other);
                CHECK((wiring.domain(lab, one) == wiring.domain(lab, other))
                      == there.contains(other));
            }
        }
    }
    CHECK(pairs > 10'000);
    CHECK(heard > 100);
}

TEST_CASE("a bond is up while one of its wires is, and every cut of the wiring counts") {
    lab::Lab lab = lab_of(R"(
lab: wired
subnets: {hall: {prefix: 10.50.0.0/24}}
switches:
  one-sw: {ports: {p1: {}, p2: {}, p9: {trunk: [1, 7]}}}
  two-sw: {ports: {p1: {}, p9: {trunk: [1, 7]}}}
guests:
  desk: {nics: [{subnet: hall, port: one-sw/p1}]}
  log:  {nics: [{subnet: hall, bond: [{name: first, port: one-sw/p2}, {port: two-sw/p1}]}]}
links: [{between: [one-sw/p9, two-sw/p9]}]
)");
    auto cause = [&](const std::vector<std::string>& cuts) -> std::string {
        routing::Condition condition(lab);
        for (const std::string& cut : cuts)
            condition.cut(lab, cut);
        routing::Settled settled = routing::settle(lab, condition);
        auto answer = probe::ping(settled, *probe::question(lab, "desk", "log"));
        return answer.diagnosis ? std::string(plan::slug(answer.diagnosis->cause)) : "reply";
    };
    CHECK(cause({}) == "reply");
    CHECK(cause({"log/first"}) == "reply");
    CHECK(cause({"one-sw/p2"}) == "reply");
    CHECK(cause({"log/first", "log/wire1"}) == "port-down");
    CHECK(cause({"log/first", "one-sw--two-sw"}) == "link-down");
    CHECK(cause({"log/first", "one-sw/p9:1"}) == "vlan-not-carried");
    CHECK(cause({"log/first", "one-sw/p9:7"}) == "reply");
    CHECK(cause({"log/first", "two-sw"}) == "port-down");
    CHECK(cause({"one-sw"}) == "port-down");
    CHECK(cause({"desk/eth0"}) == "nic-down");
    for (const char* nothing :
         {"one-sw/p7", "one-sw/p9:8", "one-sw/p9:", "log/second", "two-sw--x"})
        CHECK_FALSE(routing::parse_cut(lab, nothing));
    for (const char* something : {"log/first", "one-sw/p2", "one-sw/p9:7", "two-sw", "desk/eth0",
                                  "two-sw--one-sw", "one-sw/p9--two-sw/p9"})
        CHECK(to_string(lab, routing::parse_cut(lab, something).value()) == something);
}
