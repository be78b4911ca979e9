#include "jackal/lab/build.h"
#include "jackal/packet/icmp.h"
#include "jackal/packet/source.h"
#include "jackal/packet/walk.h"
#include "jackal/plan/read.h"

#include <doctest/doctest.h>

using namespace jackal;
using packet::Ending;

namespace {

// west -- r1 -- middle -- r2 -- east, with routes for the far subnets, and a spare NIC on r1.
constexpr const char* chain = R"(lab: chain
subnets:
  west:   {prefix: [10.0.1.0/24, "fd00:1::/64"]}
  middle: {prefix: [10.0.2.0/24, "fd00:2::/64"]}
  east:   {prefix: [10.0.3.0/24, "fd00:3::/64"]}
  spare:  {prefix: [10.0.4.0/24, "fd00:4::/64"]}
guests:
  a: {nics: [{subnet: west}]}
  b: {nics: [{subnet: east}]}
routers:
  r1:
    nics: [{subnet: west}, {subnet: middle}, {subnet: spare, state: SPARE}]
    routes: [{to: east, via: r2}]
  r2:
    nics: [{subnet: middle}, {subnet: east, mtu: 1400}]
    routes: [{to: default, via: r1}]
    forwards: FORWARDS
)";

struct Chain {
    explicit Chain(const char* spare = "up", const char* forwards = "true") {
        std::string text = chain;
        text.replace(text.find("SPARE"), 5, spare);
        text.replace(text.find("FORWARDS"), 8, forwards);
        lab = lab::build(*plan::read(text, "chain").plan);
    }

    packet::Journey send(const char* from, const char* source, const char* destination,
                         int ttl = 64, unsigned size = 84) const {
        return packet::walk(
            routing::settle(lab), *lab.machine(from),
            {*net::parse_address(source), *net::parse_address(destination), ttl, size});
    }

    lab::Lab lab;
};

std::string way(const lab::Lab& lab, const packet::Journey& journey) {
    std::string text;
    for (const packet::Step& step : journey.steps)
        text += (text.empty() ? "" : " ") + lab.machines[step.machine].name;
    return text;
}

} // namespace

TEST_CASE("a packet walks from machine to machine in both families") {
    Chain c;
    for (auto [source, destination] :
         {std::pair{"10.0.1.2", "10.0.3.2"}, std::pair{"fd00:1::2", "fd00:3::2"}}) {
        packet::Journey journey = c.send("a", source, destination);
        CHECK(journey.ending == Ending::delivered);
        CHECK(way(c.lab, journey) == "a r1 r2 b");
        CHECK(journey.ttl_left == 62);
        CHECK(journey.forwarded() == 2);
    }
}

TEST_CASE("every way a journey can end, and the error that tells of it") {
    struct Row {
        const char* forwards;
        const char* destination;
        int ttl;
        unsigned size;
        Ending ending;
        packet::IcmpError error;
        const char* way;
    };
    using packet::IcmpError;
    const Row rows[] = {
        {"true", "10.0.1.2", 64, 84, Ending::delivered, IcmpError::none, "a"},
        {"true", "10.0.2.1", 64, 84, Ending::delivered, IcmpError::none, "a r1"}, // far side
        {"true", "10.9.9.9", 64, 84, Ending::no_route, IcmpError::net_unreachable, "a r1"},
        {"true", "10.0.3.77", 64, 84, Ending::no_neighbour, IcmpError::host_unreachable, "a r1 r2"},
        {"false", "10.0.3.2", 64, 84, Ending::not_forwarding, IcmpError::none, "a r1 r2"},
        {"false", "10.0.3.1", 64, 84, Ending::delivered, IcmpError::none, "a r1 r2"},
        {"true", "10.0.3.2", 1, 84, Ending::ttl_expired, IcmpError::time_exceeded, "a r1"},
        {"true", "10.0.3.2", 2, 84, Ending::ttl_expired, IcmpError::time_exceeded, "a r1 r2"},
        {"true", "10.0.3.2", 3, 84, Ending::delivered, IcmpError::none, "a r1 r2 b"},
        {"true", "10.0.3.2", 64, 1400, Ending::delivered, IcmpError::none, "a r1 r2 b"},
        {"true", "10.0.3.2", 64, 1401, Ending::too_big, IcmpError::packet_too_big, "a r1 r2"},
        {"true", "10.0.1.255", 64, 84, Ending::to_broadcast, IcmpError::none, "a"},
        {"true", "10.0.3.255", 64, 84, Ending::to_broadcast, IcmpError::none, "a r1 r2"},
    };
    for (const Row& row : rows) {
        CAPTURE(row.destination);
        CAPTURE(row.ttl);
        Chain c("up", row.forwards);
        packet::Journey journey = c.send("a", "10.0.1.2", row.destination, row.ttl, row.size);
        CHECK(journey.ending == row.ending);
        CHECK(packet::icmp_error(journey.ending) == row.error);
        CHECK(way(c.lab, journey) == row.way);
    }
}

// As Linux does: an IPv4 address belongs to the machine whatever its NIC's state, an IPv6 address
// goes with its NIC.
TEST_CASE("whoever shares a MAC on its segment hears answers only by luck") {
    for (const char* state : {"up", "down"}) {
        std::string text =
            "lab: clones\nsubnets: {shore: {prefix: 10.0.1.0/24}}\nguests:\n"
            "  a: {nics: [{subnet: shore, mac: '02:00:5e:00:00:01'}]}\n"
            "  b: {nics: [{subnet: shore, mac: '02:00:5e:00:00:01', state: STATE}]}\n"
            "  c: {nics: [{subnet: shore}]}\n";
        text.replace(text.find("STATE"), 5, state);
        lab::Lab lab = lab::build(*plan::read(text, "clones").plan);
        routing::Settled settled = routing::settle(lab);
        auto address = [&](const char* name) {
            return lab.first_address(lab.machines[*lab.machine(name)].first_nic, net::Family::ipv4)
                ->address;
        };
        Ending shared =
            std::string_view(state) == "up" ? Ending::which_neighbour : Ending::delivered;
        CHECK(packet::walk(settled, *lab.machine("a"), {address("a"), address("c")}).ending
              == shared);
        CHECK(packet::walk(settled, *lab.machine("c"), {address("c"), address("a")}).ending
              == shared);
    }
}

TEST_CASE("a NIC that is down keeps its IPv4 address and loses its IPv6 address") {
    Chain c("down");
    CHECK(c.send("a", "10.0.1.2", "10.0.4.1").ending == Ending::delivered);
    CHECK(c.send("a", "fd00:1::2", "fd00:4::1").ending == Ending::no_route);
    CHECK(c.send("r1", "10.0.1.1", "10.0.4.9").ending == Ending::no_route);
}

TEST_CASE("a condition cuts machines, NICs and links, and nothing else") {
    lab::Lab lab = lab::build(*plan::read(R"(lab: t
subnets: {s: {prefix: 10.0.0.0/24}}
guests: {g: {nics: [{subnet: s}]}}
routers: {r1: {nics: [{subnet: s}], routes: [{to: default, via: r2}]}, r2: {}}
links: [{between: [r1, r2], prefix: 10.0.9.0/30}]
)",
                                          "t")
                                   .plan);
    auto end = [&](std::string_view cut) {
        routing::Condition condition(lab);
        if (!cut.empty())
            condition.cut(lab, cut);
        return packet::walk(routing::settle(lab, condition), *lab.machine("g"),
                            {*net::parse_address("10.0.0.2"), *net::parse_address("10.0.9.2")})
            .ending;
    };
    CHECK(end("") == Ending::delivered);
    CHECK(end("r2--r1") == Ending::no_neighbour);
    CHECK(end("r2") == Ending::no_neighbour);
    CHECK(end("r2/eth0") == Ending::no_neighbour);
    CHECK(end("r1/eth1") == Ending::no_route);
    CHECK(end("g") == Ending::machine_off);
    for (const char* nothing :
         {"r3", "r1/eth7", "r1--g", "", "--", "r1/eth0--r2/eth0", "ospf:r1--r2"})
        CHECK_FALSE(routing::parse_cut(lab, nothing));
}

TEST_CASE("each of two parallel links can be cut by the NICs at its ends, in either order") {
    lab::Lab lab = lab::build(*plan::read(R"(lab: twin
routers: {r1: {ospf: {areas: {0: all}}}, r2: {ospf: {areas: {0: all}}}}
links: [{between: [r1, r2]}, {between: [r1, r2]}]
)",
                                          "t")
                                   .plan);
    auto working = [&](const char* text) {
        routing::Condition condition(lab);
        condition.cut(lab, text);
        return std::pair(condition.link_up(lab::LinkId{0}), condition.link_up(lab::LinkId{1}));
    };
    CHECK(working("r1--r2") == std::pair(false, false));
    CHECK(working("r1/eth0--r2/eth0") == std::pair(false, true));
    CHECK(working("r2/eth1--r1/eth1") == std::pair(true, false));
    CHECK(working("ospf:r2--r1") == std::pair(true, true));
    CHECK(*routing::parse_cut(lab, "r1/eth1--r2/eth1")
          == *routing::parse_cut(lab, "r2/eth1--r1/eth1"));
    for (const char* text : {"r1", "r1/eth1", "r2--r1", "r2/eth1--r1/eth1", "ospf:r2--r1"})
        CHECK(to_string(lab, routing::parse_cut(lab, text).value()) == text);
    CHECK(routing::single_cuts(lab).size() == 2); // one at a time
}

TEST_CASE("routes that the kernel would refuse do not exist, and are listed") {
    lab::Lab lab = lab::build(*plan::read(R"(lab: t
subnets: {s: {prefix: [10.0.0.0/24, "fd00::/64"]}, t: {prefix: 10.0.1.0/24}}
routers:
  r1:
    nics: [{subnet: s, address: [10.0.0.1, "fd00::1"]}, {subnet: t, state: down}]
    routes:
      - {to: 10.1.0.0/16, via: 10.0.0.2}
      - {to: 10.1.0.0/16, via: 10.0.0.3}
      - {to: 10.1.0.0/16, via: 10.0.0.3, metric: 5}
      - {to: "fd02::/64", via: "fd00::1"}
      - {to: 10.3.0.0/16, via: 10.0.1.9}
      - {to: 10.4.0.0/16, via: 10.77.0.1}
      - {to: 10.5.0.0/16, via: 10.0.0.255}
      - {to: 10.0.0.0/24, via: 10.0.0.2}
      - {to: "fd00::5/128", via: "fd00::2"}
      - {to: "fd06::/64", via: "fd00::5"}
)",
                                          "t")
                                   .plan);
    routing::Settled settled = routing::settle(lab);
    using routing::Refusal;
    std::vector<std::pair<std::uint32_t, Refusal>> refused;
    for (const routing::RefusedRoute& r : settled.refused())
        refused.emplace_back(lab.routes[r.written].plan_index, r.why);
    std::sort(refused.begin(), refused.end());
    CHECK(refused
          == std::vector<std::pair<std::uint32_t, Refusal>>{{1, Refusal::repeated},
                                                            {3, Refusal::next_hop_is_own},
                                                            {4, Refusal::next_hop_off_link},
                                                            {5, Refusal::next_hop_off_link},
                                                            {6, Refusal::next_hop_is_broadcast},
                                                            {7, Refusal::repeated},
                                                            {9, Refusal::next_hop_is_routed}});
    auto used = settled.route(*lab.machine("r1"), *net::parse_address("10.1.2.3"));
    REQUIRE(used.has_value());
    CHECK(net::to_string(used->via) == "10.0.0.2");
}

TEST_CASE("decisions, taken one after another without a record, lead where the walk leads") {
    for (const char* file : {"/demo/skerry.yaml", "/demo/mistakes/default-route-loop.yaml"}) {
        lab::Lab lab = lab::build(*plan::read_file(std::string(SOURCE_DIR) + file).plan);
        routing::Settled settled = routing::settle(lab);
        std::size_t decisions = 0;
        for (lab::MachineId from : lab.machines.ids())
            for (const lab::Owner& to : lab.owners) {
                auto source = packet::source_address(settled, from, to.address);
                packet::Packet packet{.source = source.value_or(net::Address{}),
                                      .destination = to.address};
                packet::Journey journey = packet::walk(settled, from, packet);
                packet::Header header = packet::header_of(settled, packet);
                packet::Decision decision;
                lab::MachineId at = from;
                for (const packet::Step& step : journey.steps) {
                    REQUIRE(at == step.machine);
                    decision = packet::decide(settled, at, header);
                    CHECK(decision.action == step.action);
                    CHECK(decision.out == step.out);
                    at = decision.machine;
                    ++decisions;
                }
                CHECK(decision.ending == journey.ending);
                CHECK(header.ttl == journey.ttl_left);
                CHECK(header.flow() == journey.flow);
            }
        CHECK(decisions > 0);
    }
}
