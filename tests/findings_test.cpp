// Findings and silence: what is told of a plan is so, and what fails is told.
#include "jackal/jackal.h"
#include "lab_of.h"
#include "sanitized.h"

#include <algorithm>
#include <doctest/doctest.h>
#include <fmt/format.h>
#include <set>

using namespace jackal;

namespace {

std::vector<std::string> messages(const std::string& text, plan::Cause cause) {
    lab::Lab lab = lab_of(text);
    std::vector<std::string> found;
    for (const lab::Finding& f : reach::check(routing::settle(lab)).findings)
        if (f.cause == cause)
            found.push_back(f.message);
    return found;
}

std::string translating(const std::string& nat) {
    return R"(lab: t
subnets:
  inner: {prefix: 10.1.0.0/24}
  other: {prefix: 10.2.0.0/24}
  outer: {uplink: nat}
guests: {a: {nics: [{subnet: inner}]}}
routers:
  r: {nics: [{subnet: inner}, {subnet: other}, {subnet: outer}], nat: [)"
           + nat + "]}\n";
}

} // namespace

TEST_CASE("a translation that can never match is told, and one that can is not") {
    const std::pair<const char*, const char*> rows[] = {
        {"{out: eth2, from: inner}", ""},
        {"{out: eth2}", ""},
        {"{in: eth2, proto: tcp, port: 80, to: a}", ""},
        {"{out: eth0}", ""}, // of the other inner subnet's, for instance
        {"{out: eth0, from: inner}", "translation 1 of r stands on the wrong side"},
        {"{out: eth2, from: 10.9.0.0/16}", "translation 1 of r matches nothing: nobody has"},
        {"{out: eth2}, {out: eth2, from: inner}", "translation 2 of r never decides anything"},
        {"{in: eth2, proto: tcp, port: 80, to: a}, {in: eth2, proto: tcp, port: 80, to: a}",
         "translation 2 of r never decides anything"},
        {"{in: eth2, proto: tcp, port: 80, to: a}, {in: eth2, proto: udp, port: 80, to: a}", ""},
    };
    for (auto [nat, says] : rows) {
        CAPTURE(std::string(nat));
        auto found = messages(translating(nat), plan::Cause::translation_matches_nothing);
        CHECK(found.size() == (*says == 0 ? 0 : 1));
        CHECK((found.empty() || found.front().starts_with(says)));
    }
}

TEST_CASE("a gateway in the plan that hides the one of a lease is the cause of what it hides") {
    std::string text = R"(lab: t
subnets:
  street: {uplink: nat}
  cellar: {prefix: 10.1.0.0/24}
guests:
  both: {nics: [{subnet: street, address: dhcp}, {subnet: cellar}], gateway: 10.1.0.1}
  desk: {nics: [{subnet: cellar}]}
routers:
  r: {nics: [{subnet: cellar, address: 10.1.0.1}]}
outside: {hosts: {far: {address: 198.51.100.7}}}
)";
    auto found = messages(text, plan::Cause::wrong_default_wins);
    REQUIRE(found.size() == 1);
    CHECK(found.front().find("that came with a lease, which leads there") != std::string::npos);
    CHECK(outcome(lab_of(text), "both", "far") == "wrong-default-wins");
    text.replace(text.find(", gateway: 10.1.0.1"), 19, "");
    CHECK(messages(text, plan::Cause::wrong_default_wins).empty());
    CHECK(outcome(lab_of(text), "both", "far") == "reply");
}

TEST_CASE(
    "sites that overlap are parted by changes, and the ranges in their subnets move with them") {
    auto sites = [](const char* ranges) {
        return fmt::format(R"(lab: t
sites:
  east: {{routing: automatic}}
  west: {{routing: automatic}}
subnets:
  one:   {{site: east, prefix: 10.1.0.0/24}}
  other: {{site: west, prefix: 10.1.0.0/25{}}}
  third: {{site: west, prefix: 10.1.0.128/25}}
guests: {{a: {{nics: [{{subnet: one}}]}}, b: {{nics: [{{subnet: other}}]}}}}
peerings: [{{between: [east, west], east: {{}}, west: {{}}}}]
)",
                           ranges);
    };
    plan::Plan plan = plan::read(sites(""), "t").plan->written();
    auto remedy =
        lab::describe(lab::build(plan), lab::build(plan).peerings[lab::PeeringId{0}]).remedy;
    REQUIRE_FALSE(remedy.edits.empty());
    lab::Lab mended = lab::build(plan::apply(plan, remedy.edits).plan.value());
    CHECK(mended.peerings[lab::PeeringId{0}].state == plan::PeeringState::up);
    CHECK(outcome(mended, "a", "b") == "reply");

    plan = plan::read(sites(", reserve: 10.1.0.9"), "t").plan->written();
    remedy = lab::describe(lab::build(plan), lab::build(plan).peerings[lab::PeeringId{0}]).remedy;
    const plan::Plan moved = plan::apply(plan, remedy.edits).plan.value();
    const auto& reserved = std::get<net::Range>(moved.subnet("other")->reserve.front().value);
    CHECK(moved.subnet("other")->prefixes.front().value.contains(reserved.first));
    CHECK(reserved.first.low() % 128 == 9);
}

TEST_CASE("an IPv6 host that would leave a next hop without an answer is told of") {
    std::string text = R"(lab: t
subnets:
  near: {prefix: "fd00:1::/64", gateway: none}
  far:  {prefix: "fd00:2::/64", gateway: none}
guests:
  a: {nics: [{subnet: near, address: "fd00:1::a"}], gateway: "fd00:1::1", routes: [{to: "fd00:2::/64", via: "fd00:1::dead"}]}
  b: {nics: [{subnet: far, address: "fd00:2::b"}], gateway: "fd00:2::1"}
routers:
  r: {nics: [{subnet: near, address: "fd00:1::1"}, {subnet: far, address: "fd00:2::1"}]}
)";
    auto explanation = [](const std::string& plan) {
        lab::Lab lab = lab_of(plan);
        return probe::ping(routing::settle(lab), *probe::question(lab, "a", "b"))
            .diagnosis->explanation;
    };
    CHECK(explanation(text).find("a leaves it for its route to default via fd00:1::1")
          != std::string::npos);
    text.replace(text.find("gateway: \"fd00:1::1\""), 20, "gateway: none");
    CHECK(explanation(text).find("leaves it") == std::string::npos);
}

TEST_CASE("a route may lead to a whole site") {
    lab::Lab lab = lab_of(R"(lab: t
sites:
  east: {space: 10.1.0.0/16}
  west: {space: [10.2.0.0/16, 10.3.0.0/16]}
subnets:
  one:   {site: east, prefix: 10.1.0.0/24}
  mid:   {site: east, prefix: 10.1.9.0/24}
  other: {site: west, prefix: 10.3.4.0/24}
  odd:   {site: west, prefix: 172.16.0.0/24}
guests: {a: {nics: [{subnet: one}]}, b: {nics: [{subnet: other}]}, c: {nics: [{subnet: odd}]}}
routers:
  r1: {nics: [{subnet: one}, {subnet: mid}], routes: [{to: west, via: r2}]}
  r2: {nics: [{subnet: mid}, {subnet: other}, {subnet: odd}], routes: [{to: east, via: r1}]}
)");
    std::set<std::string> targets;
    for (lab::RouteId id : lab.routes_of(*lab.machine("r1")))
        targets.insert(net::to_string(lab.routes[id].to));
    CHECK(targets == std::set<std::string>{"10.2.0.0/16", "10.3.0.0/16", "172.16.0.0/24"});
    CHECK(outcome(lab, "a", "b") == "reply");
    CHECK(outcome(lab, "a", "c") == "reply");
}

TEST_CASE("more clients than there are link-local addresses find an end") {
    if (sanitized)
        return; // it takes a minute there
    std::string text = "lab: t\nsubnets: {s: {prefix: 10.0.0.0/8}}\nguests:\n";
    for (int i = 0; i < 7; ++i)
        text += fmt::format("  g{}: {{count: 10000, nics: [{{subnet: s, address: dhcp}}]}}\n", i);
    lab::Lab lab = lab_of(text);
    std::set<net::Address> different;
    for (const lab::Lease& lease : lab.leases)
        different.insert(lease.address);
    CHECK(lab.leases.size() == 70'000);
    CHECK(different.size() == 65'024); // 169.254.1.0 to 169.254.254.255 (RFC 3927 section 2.1)
}

TEST_CASE("each of very many cuts is told apart on a time axis") {
    lab::Lab lab = lab_of(R"(lab: t
subnets: {s: {prefix: 10.1.0.0/24}, u: {prefix: 10.2.0.0/24}}
guests: {a: {nics: [{subnet: s}]}, b: {nics: [{subnet: u}]}}
routers:
  r1: {nics: [{subnet: s}], router-id: 1.1.1.1, ospf: {areas: {0: all}}}
  r2: {nics: [{subnet: u}], router-id: 2.2.2.2, ospf: {areas: {0: all}}}
links: [{between: [r1, r2]}]
)");
    auto cut = *routing::parse_cut(lab, "r1--r2");
    probe::TimelineQuestion question{.ping = *probe::question(lab, "a", "b"), .count = 1300};
    for (int i = 0; i < 300; ++i)
        question.events.push_back({std::chrono::seconds(4 * i + 10), i % 2 == 1, cut});
    probe::Timeline timeline = probe::timeline(lab, question);
    CHECK(timeline.turns.size() >= 300);
    CHECK(timeline.stretches.back().received == timeline.stretches.back().count);
    CHECK(timeline.received > 0);
}

TEST_CASE("two NICs of a router in the wrong order change places, and a stray one moves") {
    auto remedy = [](const std::string& nics) {
        std::string text =
            "lab: t\nsubnets: {a: {prefix: 10.0.1.0/24}, b: {prefix: 10.0.2.0/24}, c: "
            "{prefix: 10.0.3.0/24}}\nguests: {g: {nics: [{subnet: a}]}, h: {nics: "
            "[{subnet: b}]}}\nrouters: {r: {nics: ["
            + nics + "]}}\n";
        plan::Plan plan = plan::read(text, "t").plan->written();
        lab::Lab lab = lab::build(plan);
        reach::Check check = reach::check(routing::settle(lab));
        mend::try_remedies(plan, lab, check);
        std::string lines;
        for (const lab::Finding& f : check.findings)
            if (f.cause == plan::Cause::address_outside_subnet && lines.empty()) {
                CHECK(f.remedy.proof == lab::Remedy::Proof::mends);
                for (const std::string& line : lab::to_lines(f.remedy))
                    lines += line + "\n";
                lab::Lab mended = lab::build(plan::apply(plan, f.remedy.edits).plan.value());
                CHECK(outcome(mended, "g", "h") == "reply");
            }
        return lines;
    };
    CHECK(remedy("{subnet: a, address: 10.0.2.1}, {subnet: b, address: 10.0.1.1}")
          == "routers.r.nics[0].subnet: set b (was a)\nrouters.r.nics[1].subnet: set a (was b)\n");
    CHECK(remedy("{subnet: a, address: 10.0.1.1}, {subnet: c, address: 10.0.2.1}")
          == "routers.r.nics[1].subnet: set b (was c)\n");
    // Where it belongs is one that is right: then it gets the address that h sends to.
    CHECK(remedy("{subnet: a, address: 10.0.1.1}, {subnet: b, address: 10.0.1.9}")
          == "routers.r.nics[1].address: set auto\n");
}

TEST_CASE("what a border knows from elsewhere is handed over, instead of a route for each subnet") {
    const std::pair<const char*, const char*> rows[] = {
        {"{to: far, via: r3}", "routers.r2.ospf.redistribute: add static"},
        {"{to: default, via: r3}", "routers.r2.ospf.default: set true"},
    };
    for (auto [route, line] : rows) {
        CAPTURE(std::string(route));
        std::string text = fmt::format(R"(lab: t
subnets: {{near: {{prefix: 10.0.1.0/24}}, mid: {{prefix: 10.0.2.0/24}}, far: {{prefix: 10.0.3.0/24}}}}
guests: {{g: {{nics: [{{subnet: near}}]}}, h: {{nics: [{{subnet: far}}]}}}}
routers:
  r1: {{router-id: 1.1.1.1, nics: [{{subnet: near}}], ospf: {{areas: {{0: all}}}}}}
  r2: {{router-id: 2.2.2.2, nics: [{{subnet: mid}}], routes: [{}], ospf: {{areas: {{0: r1}}}}}}
  r3: {{nics: [{{subnet: mid}}, {{subnet: far}}], routes: [{{to: default, via: r2}}]}}
links: [{{between: [r1, r2]}}]
)",
                                       route);
        plan::Plan plan = plan::read(text, "t").plan->written();
        CHECK(outcome(lab::build(plan), "g", "h") == "network-not-announced");
        mend::Mending mending = mend::reply(plan, {"g", "h"});
        CHECK(mending.mends);
        REQUIRE(mending.edits.size() == 1);
        CHECK(plan::to_line(mending.edits[0]) == line);
    }
}

TEST_CASE("who announces a network by BGP, to whom a policy refuses it, is not said to keep it") {
    const std::pair<const char*, const char*> rows[] = {
        {"networks: far", "no-route"},
        {"redistribute: connected", "no-route"},
        {"networks: mid", "network-not-announced"},
    };
    for (auto [announces, cause] : rows) {
        CAPTURE(std::string(announces));
        const std::string text = fmt::format(R"(lab: t
subnets: {{near: {{prefix: 10.0.1.0/24}}, mid: {{prefix: 10.0.2.0/24}}, far: {{prefix: 10.0.3.0/24}}}}
guests: {{g: {{nics: [{{subnet: near}}]}}, h: {{nics: [{{subnet: far}}]}}}}
policies: {{shy: {{default: refuse, rules: []}}}}
routers:
  r1: {{nics: [{{subnet: near}}, {{subnet: mid}}], bgp: {{as: 64512, neighbours: {{r2: {{as: 64513, takes: shy}}}}, networks: near}}}}
  r2: {{nics: [{{subnet: mid}}, {{subnet: far}}], bgp: {{as: 64513, neighbours: {{r1: {{as: 64512}}}}, {}}}}}
)",
                                             announces);
        CHECK(outcome(lab::build(plan::read(text, "t").plan->written()), "g", "h") == cause);
    }
}

TEST_CASE("a remedy stands with what its finding asks for behind it") {
    std::string text = R"(lab: t
subnets: {s: {prefix: 10.0.1.0/24}}
switches: {sw: {ports: {p1: {}, p2: {state: down}}}}
guests: {g: {nics: [{subnet: s, address: dhcp, port: sw/p2}]}}
routers: {r: {nics: [{subnet: s, address: 10.0.1.1, port: sw/p1}]}}
)";
    plan::Plan plan = plan::read(text, "t").plan->written();
    lab::Lab lab = lab::build(plan);
    reach::Check check = reach::check(routing::settle(lab));
    mend::try_remedies(plan, lab, check);
    auto found =
        std::ranges::find(check.findings, plan::Cause::no_dhcp_server, &lab::Finding::cause);
    REQUIRE(found != check.findings.end());
    CHECK(found->remedy.proof == lab::Remedy::Proof::mends);
    CHECK(lab::to_lines(found->remedy)
          == std::vector<std::string>{"subnets.s.dhcp: set {size: 16}",
                                      "switches.sw.ports.p2.state: set up"});
}
