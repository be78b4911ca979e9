// Sites with a core, peerings, relays, shared ways outside, and tunnels.
#include "lab_of.h"

#include "jackal/lab/peering.h"
#include "jackal/mend/remedies.h"
#include "jackal/plan/validate.h"
#include "jackal/reach/check.h"
#include "jackal/reach/sites.h"
#include "jackal/reach/ways.h"

#include <algorithm>
#include <doctest/doctest.h>
#include <fmt/format.h>

using namespace jackal;

namespace {

// Three automatic sites in a row, each with one guest: west, hub, east. The hub has a router.
std::string three_sites(const std::string& hub, const std::string& peerings) {
    return fmt::format("lab: row\n"
                       "sites:\n"
                       "  west: {{space: 10.1.0.0/16, region: shore, routing: automatic}}\n"
                       "  hub:  {{space: 10.2.0.0/16, region: shore, routing: automatic{}}}\n"
                       "  east: {{space: 10.3.0.0/16, region: sea, routing: automatic}}\n"
                       "subnets:\n"
                       "  w: {{site: west}}\n  h: {{site: hub}}\n  h2: {{site: hub}}\n"
                       "  e: {{site: east}}\n"
                       "guests:\n"
                       "  cow: {{nics: [{{subnet: w}}]}}\n  hen: {{nics: [{{subnet: h}}]}}\n"
                       "  hog: {{nics: [{{subnet: h2}}]}}\n  elk: {{nics: [{{subnet: e}}]}}\n"
                       "routers:\n  pass: {{nics: [{{subnet: h}}]}}\n"
                       "outside: {{hosts: {{far: {{address: 198.51.100.7}}}}}}\n"
                       "peerings:\n{}",
                       hub, peerings);
}

std::string peering(const std::string& one, const std::string& other, const std::string& sides) {
    return fmt::format("  - {{between: [{}, {}]{}}}\n", one, other, sides);
}

} // namespace

TEST_CASE("a core joins the subnets of its site, at their gateway addresses, and no others") {
    lab::Lab lab = lab_of("lab: one\n"
                          "sites:\n  a: {space: [10.1.0.0/16, 'fd01::/48'], routing: automatic}\n"
                          "  b: {space: 10.2.0.0/16, routing: manual}\n"
                          "subnets:\n  n1: {site: a}\n  n2: {site: a, gateway: last}\n"
                          "  n3: {site: a, core: false}\n  m1: {site: b}\n  m2: {site: b}\n"
                          "guests:\n  g1: {nics: [{subnet: n1}]}\n  g2: {nics: [{subnet: n2}]}\n"
                          "  g3: {nics: [{subnet: n3}]}\n  h1: {nics: [{subnet: m1}]}\n"
                          "  h2: {nics: [{subnet: m2}]}\n"
                          "routers:\n  r: {nics: [{subnet: n1}]}\n");
    lab::MachineId core = *lab.machine("a-core");
    CHECK(bool(lab.machines[core].is_core));
    CHECK(lab.machines[core].nic_count == 2);
    for (lab::NicId nic : lab.nics_of(core))
        for (net::Family family : net::both_families) {
            const lab::Segment& segment = lab.segments[lab.nics[nic].segment];
            CHECK(lab.first_address(nic, family)->address
                  == lab.subnets[segment.subnet].gateway[family]);
        }
    CHECK(outcome(lab, "g1", "g2") == "reply");
    CHECK(outcome(lab, "g1", "g3") == "no-router-between");
    CHECK(outcome(lab, "h1", "h2") == "no-router-between");
    CHECK(outcome(lab, "g1", "h1") == "sites-not-joined");
}

TEST_CASE("in a plan of one site no subnet need name it, whatever is outside") {
    const lab::Lab lab = lab_of(
        "lab: t\nsites: {s: {routing: automatic}}\nsubnets: {a: {}, b: {}, w: {uplink: nat}}\n"
        "guests: {g: {nics: [{subnet: a}]}, h: {nics: [{subnet: b}]}}\n");
    CHECK(outcome(lab, "g", "h") == "reply");
    CHECK(lab.sites[lab::SiteId{0}].core);
}

TEST_CASE(
    "half a peering is the cause between its own sites, not between one of them and a third") {
    const lab::Lab lab = lab_of(
        "lab: t\nsites: {a: {routing: automatic}, b: {routing: automatic}, c: {routing: "
        "automatic}}\n"
        "subnets: {x: {site: a}, y: {site: b}, z: {site: c}}\n"
        "guests: {g: {nics: [{subnet: x}]}, h: {nics: [{subnet: y}]}, k: {nics: [{subnet: z}]}}\n"
        "peerings:\n  - {between: [a, b], a: {accept: true}}\n"
        "  - {between: [b, c], b: {accept: true}, c: {accept: true}}\n");
    CHECK(outcome(lab, "g", "h") == "peering-half");
    CHECK(outcome(lab, "h", "k") == "reply");
    CHECK(outcome(lab, "g", "k") == "sites-not-joined");
}

TEST_CASE("a peering carries something only if both sides say so") {
    struct Case {
        const char* sides;
        const char* state;
        const char* gets;
    };
    for (const Case& c : {Case{"", "not declared", "peering-undeclared"},
                          {", west: {}", "half", "peering-half"},
                          {", hub: {exit: lend}", "half", "peering-half"},
                          {", west: {accept: false}", "refused", "peering-refused"},
                          {", west: {}, hub: {accept: false}", "refused", "peering-refused"},
                          {", west: {accept: true}, hub: {}", "up", "reply"}}) {
        CAPTURE(c.sides);
        lab::Lab lab = lab_of(three_sites("", peering("west", "hub", c.sides)));
        const lab::Peering& row = lab.peerings[lab::PeeringId{0}];
        CHECK(plan::to_string(row.state) == c.state);
        for (auto [from, to] : {std::pair{"cow", "hog"}, {"hog", "cow"}})
            CHECK(outcome(lab, from, to) == c.gets);
        CHECK(outcome(lab, "hen", "hog") == "reply");
        CHECK(bool(row.link) == (row.state == plan::PeeringState::up));
    }
}

TEST_CASE("peerings are not transitive: a relay must be there, and both ends must take it") {
    for (int what = 0; what < 16; ++what) {
        bool relay = what & 1;
        bool west = what & 2;
        bool east = what & 4;
        bool forwards = what & 8;
        CAPTURE(what);
        auto side = [](bool takes) { return takes ? "{relay: true}" : "{}"; };
        std::string text = three_sites(
            relay ? ", relay: pass" : "",
            peering("west", "hub", fmt::format(", hub: {{}}, west: {}", side(west)))
                + peering("hub", "east", fmt::format(", hub: {{}}, east: {}", side(east))));
        if (!forwards)
            text.replace(text.find("pass: {"), 7, "pass: {forwards: false, ");
        lab::Lab lab = lab_of(text);
        const char* expected = !relay || !west || !east ? "no-relay"
                               : forwards               ? "reply"
                                                        : "next-hop-does-not-forward";
        CHECK(outcome(lab, "cow", "elk") == expected);
        CHECK(outcome(lab, "elk", "cow") == expected);
        CHECK(outcome(lab, "cow", "hen") == "reply");
        mend::Mending mending = mend::reply(plan::read(text, "t").plan->written(), {"cow", "elk"});
        CHECK(mending.mends);
    }
}

TEST_CASE("no route of one's own makes a core pass on what comes from a peer") {
    std::string text = three_sites("", peering("west", "hub", ", hub: {}, west: {}")
                                           + peering("hub", "east", ", hub: {}, east: {}"));
    text.replace(text.find("west: {"), 7, "west: {routes: [{to: e, via: hub-core}], ");
    lab::Lab lab = lab_of(text);
    routing::Settled settled = routing::settle(lab);
    auto answer = probe::ping(settled, *probe::question(lab, "cow", "elk"));
    CHECK(answer.out->ending == packet::Ending::not_relayed);
    CHECK(answer.diagnosis->cause == plan::Cause::no_relay);
}

TEST_CASE("a site's own routes go before those that a peering brings") {
    std::string text = three_sites("", peering("west", "hub", ", hub: {}, west: {}"));
    for (const char* to : {"w", "10.1.0.0/16", "10.1.0.0/24"}) {
        CAPTURE(to);
        std::string own = text;
        own.replace(own.find("hub:  {"), 7,
                    fmt::format("hub: {{routes: [{{to: {}, via: pass}}], ", to));
        lab::Lab lab = lab_of(own);
        routing::Settled settled = routing::settle(lab);
        auto route = settled.route(
            *lab.machine("hub-core"),
            lab.first_address(*lab.nic(*lab.machine("cow"), "eth0"), net::Family::ipv4)->address);
        CHECK(lab.owners_of(route->via).front().machine == *lab.machine("pass"));
    }
}

TEST_CASE("a way outside is shared if one side lends and the other borrows") {
    struct Case {
        const char* hub;
        const char* west;
        bool uplink;
        const char* gets;
    };
    for (const Case& c : {Case{"", "", true, "exit-not-lent"},
                          {"exit: lend", "", true, "exit-not-borrowed"},
                          {"", "exit: borrow", true, "exit-not-lent"},
                          {"exit: lend", "exit: borrow", true, "reply"},
                          {"exit: lend", "exit: borrow", false, "exit-missing"}}) {
        CAPTURE(c.hub);
        CAPTURE(c.west);
        std::string text = three_sites(
            "", peering("west", "hub", fmt::format(", hub: {{{}}}, west: {{{}}}", c.hub, c.west)));
        if (c.uplink)
            text.replace(text.find("h2: {"), 5, "up: {site: hub, size: /28, uplink: nat}\n  h2: {");
        plan::Plan plan = plan::read(text, "t").plan->written();
        lab::Lab lab = lab::build(plan);
        CHECK(outcome(lab, "cow", "198.51.100.7") == c.gets);
        CHECK(mend::reply(plan, {"cow", "198.51.100.7"}).mends);
        if (c.uplink)
            CHECK(outcome(lab, "hog", "198.51.100.7") == "reply");
    }
}

TEST_CASE(
    "sites that own some of the same addresses cannot be peers, whichever way that is written") {
    auto lab_with = [](const std::string& a, const std::string& b) {
        return lab_of("lab: l\nsites:\n  a: {routing: automatic, space: 10.1.0.0/16}\n"
                      "  b: {routing: automatic, space: "
                      + a + "}\nsubnets:\n  n: {site: a}\n  m: {site: b" + b
                      + "}\npeerings: [{between: [a, b], a: {}, b: {}}]\n");
    };
    CHECK(lab_with("10.2.0.0/16", "").peerings[lab::PeeringId{0}].state == plan::PeeringState::up);
    for (auto [space, more] : {std::pair{"10.0.0.0/15", ""},
                               {"[10.2.0.0/16, 10.1.128.0/17]", ""},
                               {"10.2.0.0/16", ", prefix: 10.1.9.0/24"}}) {
        lab::Lab lab = lab_with(space, more);
        const lab::Peering& row = lab.peerings[lab::PeeringId{0}];
        CHECK(row.state == plan::PeeringState::blocked);
        REQUIRE(row.overlaps.size() == 1);
        CHECK(net::to_string(row.overlaps[0].first) == "10.1.0.0/16");
        CHECK_FALSE(lab::describe(lab, row).remedy.edits.empty());
    }
}

TEST_CASE(
    "a peering of manual sites ends at the routers they name, and is cut by the sites' names") {
    std::string text =
        "lab: l\nsites: {a: {space: 10.1.0.0/16}, b: {space: 10.2.0.0/16}}\n"
        "subnets:\n  n: {site: a}\n  n2: {site: a}\n  m: {site: b}\n"
        "guests:\n  g: {nics: [{subnet: n}]}\n  h: {nics: [{subnet: m}]}\n"
        "  k: {nics: [{subnet: n2}], gateway: auto}\n"
        "routers:\n  r: {nics: [{subnet: n}]}\n  s: {nics: [{subnet: m}]}\n"
        "  t: {nics: [{subnet: n2}, {subnet: n, address: auto}]}\n"
        "peerings: [{between: [a, b], a: {border: r}, b: {border: s}, delay: 7ms}]\n";
    lab::Lab lab = lab_of(text);
    CHECK(outcome(lab, "g", "h") == "reply");
    CHECK(outcome(lab, "k", "h") == "no-route"); // the other routers know of it what they are told
    routing::Condition cut(lab);
    CHECK_THROWS_AS(cut.cut(lab, "a--c"), std::invalid_argument);
    cut.cut(lab, "b--a");
    CHECK(outcome(routing::settle(lab, cut), "g", "h") == "link-down");
    auto answer = probe::ping(routing::settle(lab), *probe::question(lab, "g", "h"));
    CHECK(answer.round_trip.mean > probe::Microseconds(14000));
    CHECK(answer.round_trip.mean < probe::Microseconds(14500));
}

TEST_CASE("regions say how far a peering reaches, unless it says so itself") {
    std::string text =
        three_sites("", peering("west", "hub", "") + peering("hub", "east", "")
                            + peering("west", "east", ", delay: 9ms, hourly-cost: 2"))
        + "regions: {sea: {to: {shore: {delay: 30ms, peering-cost: 0.5}}}}\n";
    lab::Lab lab = lab_of(text);
    auto row = [&](std::uint32_t n) { return lab.peerings[lab::PeeringId{n}]; };
    CHECK(row(0).within_region);
    CHECK(row(0).delay == std::chrono::milliseconds(1));
    CHECK(row(0).hourly_cost == 0.01);
    CHECK(row(1).delay == std::chrono::milliseconds(30));
    CHECK(row(1).hourly_cost == 0.5);
    CHECK(row(2).delay == std::chrono::milliseconds(9));
    CHECK(row(2).hourly_cost == 2);
}

namespace {

// Two guests, a tunnel between their routers, and a third router under it.
std::string tunnelled(const std::string& more, const std::string& under = "") {
    return "lab: t\nsubnets: {n: {prefix: 10.1.0.0/24}, m: {prefix: 10.2.0.0/24}}\n"
           "guests:\n  g: {nics: [{subnet: n}]}\n  h: {nics: [{subnet: m}]}\n"
           "routers:\n  a: {nics: [{subnet: n}], routes: [{to: m, via: c}, {to: default, via: "
           "b}]}\n"
           "  b: {"
           + under
           + "}\n"
             "  c: {nics: [{subnet: m}], routes: [{to: n, via: a}, {to: default, via: b}]}\n"
             "links:\n  - {between: [a, b], delay: 3ms}\n  - {between: [b, c], delay: 4ms}\n"
             "tunnels: [{between: [a, c], over: [eth1, eth1]"
           + more + "}]\n";
}

probe::PingAnswer ping_through(const std::string& text, unsigned payload_bytes) {
    lab::Lab lab = lab_of(text);
    routing::Settled settled = routing::settle(lab);
    probe::PingAnswer answer =
        probe::ping(settled, *probe::question(lab, "g", "h", {.payload_bytes = payload_bytes}));
    return answer;
}

} // namespace

TEST_CASE(
    "a tunnel's packets travel inside others, which makes them smaller and takes their time") {
    probe::PingAnswer answer = ping_through(tunnelled(""), 56);
    REQUIRE(answer.reaches);
    CHECK(answer.reply_ttl == 62); // two routers, whatever is under the tunnel
    REQUIRE(answer.out->crossings.size() == 1);
    const packet::Crossing& crossing = answer.out->crossings.front();
    CHECK(crossing.works);
    CHECK(crossing.outer->packet.size_bytes == 84 + 50);
    CHECK(crossing.outer->packet.destination_port == 4789);
    CHECK(crossing.outer->steps.size() == 3);
    CHECK(answer.round_trip.mean >= probe::Microseconds(14000));
    CHECK(ping_through(tunnelled(""), 1450 - 28).reaches);
    answer = ping_through(tunnelled(""), 1450 - 27);
    CHECK(answer.diagnosis->cause == plan::Cause::mtu_too_small);
    CHECK(ping_through(tunnelled(", mtu: 1500"), 1450 - 27).reaches); // the outer one in fragments
}

TEST_CASE("a tunnel works only if its packets do, in both directions") {
    const char* no_udp = "filters: {f: {default: allow, rules: [{do: deny, proto: udp, port: 4789, "
                         "from: c}]}}\n";
    for (const std::string& text :
         {tunnelled("", "state: down"), tunnelled("", "forwards: false"),
          tunnelled("", "filter: f") + no_udp, tunnelled(", state: down")}) {
        lab::Lab lab = lab_of(text);
        CAPTURE(text);
        CHECK(outcome(lab, "g", "h")
              == (text.find("eth1], state: down") == text.npos ? "tunnel-down" : "link-down"));
    }
    // The outer packets would be routed into the tunnel itself.
    std::string circular = tunnelled("");
    circular.replace(circular.find("{to: m, via: c}"), 15, "{to: 10.0.0.0/8, via: c}");
    probe::PingAnswer answer = ping_through(circular, 56);
    CHECK(answer.diagnosis->cause == plan::Cause::tunnel_down);
    CHECK(mend::reply(plan::read(circular, "t").plan->written(), {"g", "h"}).mends);
}

TEST_CASE("ways are built and asked, each on a copy of the plan") {
    std::string text = three_sites("", peering("west", "hub", ", hub: {}"));
    plan::Plan plan = plan::read(text, "t").plan->written();
    lab::Lab lab = lab::build(plan);
    auto ways = reach::ways(plan, lab, *lab.site("west"), *lab.site("hub"));
    REQUIRE(ways.size() == 4);
    CHECK(ways[0].replies == 0);
    CHECK(ways[0].pairs == 4);
    CHECK(ways[1].replies == 4);
    CHECK(ways[1].at[0].size() == 1); // west has not said anything yet
    CHECK(ways[1].common.empty());
    CHECK(ways[1].hourly_cost == 0.01);
    CHECK(ways[2].impossible.find("nothing would carry its packets") == 0);
    CHECK(ways[3].replies == 4);
    CHECK(ways[3].mtu_bytes == 1500);
    CHECK(ways[3].hourly_cost == 0.2);

    plan = plan::apply(plan, ways[1].at[0]).plan.value();
    lab = lab::build(plan);
    ways = reach::ways(plan, lab, *lab.site("west"), *lab.site("hub"));
    CHECK_FALSE(ways[1].impossible.empty());
    CHECK(ways[2].replies == 4);
    CHECK(ways[2].mtu_bytes == 1450);
    CHECK(ways[2].round_trip > ways[0].round_trip);
}

TEST_CASE("no peering is proposed for an automatic site whose core joins nothing") {
    plan::Plan plan = plan::read(R"(lab: t
sites:
  one: {space: 10.1.0.0/16, routing: automatic}
  two: {space: 10.2.0.0/16, routing: automatic}
subnets: {s: {site: one, core: false}, u: {site: two}}
guests: {a: {nics: [{subnet: s}]}, b: {nics: [{subnet: u}]}}
routers: {r: {nics: [{subnet: s}]}}
)",
                                 "t")
                          .plan->written();
    lab::Lab lab = lab::build(plan);
    auto gap = lab::gap_between(lab, *lab.site("one"), *lab.site("two"));
    REQUIRE(gap.has_value());
    CHECK(gap->remedy.edits.empty());
    CHECK_NOTHROW(mend::reply(plan, {"a", "b"}));
    reach::Check check = reach::check(routing::settle(lab));
    mend::try_remedies(plan, lab, check);
    for (const lab::Finding& finding : check.findings)
        CHECK(plan::problems(plan::apply(plan, finding.remedy.edits).plan.value()).empty());
}

TEST_CASE("what a way brings is measured where packets go by it") {
    plan::Plan plan = plan::read_file(SOURCE_DIR "/demo/skerry.yaml").plan->written();
    lab::Lab lab = lab::build(plan);
    auto between = [&](const char* one, const char* other) {
        return reach::ways(plan, lab, *lab.site(one), *lab.site(other));
    };
    auto far = between("harbour", "vessel"); // a tunnel joins the two already
    for (const auto& ways : {far, between("school", "harbour"), between("skerry", "school")}) {
        REQUIRE(ways.size() == 4); // also where a new peering would not be gone by
        for (std::size_t i = 0; i < 4; ++i)
            CHECK(ways[i].kind == static_cast<reach::WayKind>(i));
    }
    CHECK(far[0].mtu_bytes == 1400);
    CHECK(far[3].replies == far[3].pairs);
    CHECK(far[3].mtu_bytes == 1500);
    CHECK(far[3].round_trip < far[0].round_trip);

    auto near = between("harbour", "skerry");
    CHECK(near[0].pairs == 24); // of the four and the three subnets with guests
    CHECK(near[2].replies == 24);
    CHECK(near[2].mtu_bytes == 1450);
    CHECK(near[2].round_trip > std::chrono::milliseconds(2 * 5)); // the distance of the regions
    // To the whole site where nothing else is known of its subnets.
    plan::Plan bare =
        plan::read(three_sites("", peering("west", "hub", ", hub: {}, west: {}")), "t")
            .plan->written();
    auto line = reach::ways(bare, lab::build(bare), *lab::build(bare).site("west"),
                            *lab::build(bare).site("east"))[3];
    REQUIRE_FALSE(line.at[0].empty());
    CHECK(plan::to_line(line.at[0].back()).find("to: east") != std::string::npos);
}

TEST_CASE("what cores and peerings stand for is made anew with every change") {
    std::string text = three_sites(", relay: pass",
                                   peering("west", "hub", ", hub: {}, west: {relay: true}")
                                       + peering("hub", "east", ", hub: {}, east: {relay: true}"));
    plan::Plan plan = plan::read(text, "t").plan->written();
    auto size = [](const plan::Plan& p) {
        std::size_t routes = 0;
        for (const plan::Machine& machine : p.machines)
            routes += machine.routes.size();
        return std::tuple(p.machines.size(), p.links.size(), routes);
    };
    const plan::Complete whole(plan);
    CHECK(size(whole.entries()) > size(plan));
    CHECK(size(whole.written()) == size(plan));
    CHECK(size(plan::Complete(whole.written()).entries()) == size(whole.entries()));
    plan.peerings.clear();
    lab::Lab lab = lab::build(plan);
    CHECK(outcome(lab, "cow", "hen") == "sites-not-joined");
    CHECK(lab.links.size() == 1); // that of the outside
}
