#include "lab_of.h"
#include "sanitized.h"

#include "jackal/lab/build.h"
#include "jackal/mend/remedies.h"
#include "jackal/plan/read.h"
#include "jackal/probe/trace.h"
#include "jackal/reach/check.h"
#include "jackal/reach/expectations.h"
#include "jackal/reach/verify.h"

#include <algorithm>
#include <doctest/doctest.h>
#include <filesystem>
#include <random>
#include <set>

using namespace jackal;
using plan::Cause;

namespace {

plan::Plan skerry() {
    return plan::read_file(SOURCE_DIR "/demo/skerry.yaml").plan->written();
}

std::vector<std::string> guests(const plan::Plan& plan) {
    std::vector<std::string> names;
    for (const plan::Machine& machine : plan.machines)
        if (machine.kind == plan::MachineKind::guest)
            names.push_back(machine.name);
    return names;
}

probe::PingAnswer ask(const lab::Lab& lab, const std::string& from, const std::string& to,
                      const probe::PingOptions& options = {}) {
    static std::optional<routing::Settled> settled; // answers point into it
    settled = routing::settle(lab);
    return probe::ping(*settled, *probe::question(lab, from, to, options));
}

} // namespace

TEST_CASE("every pair of the demo's guests gets a reply, or lacks a common family") {
    plan::Plan plan = skerry();
    lab::Lab lab = lab::build(plan);
    const routing::Settled settled = routing::settle(lab);
    int replies = 0;
    for (const std::string& from : guests(plan))
        for (const std::string& to : guests(plan)) {
            CAPTURE(from);
            CAPTURE(to);
            bool ipv4_only = from == "hydrophone" || to == "hydrophone";
            bool ipv6_only = from.starts_with("buoy") || to.starts_with("buoy");
            probe::PingAnswer answer = probe::ping(settled, *probe::question(lab, from, to));
            if (ipv4_only && ipv6_only) {
                REQUIRE(answer.diagnosis.has_value());
                CHECK(answer.diagnosis->cause == Cause::no_common_family);
            } else {
                CHECK(answer.received == 4);
                CHECK(answer.reply_ttl == 64 - answer.back->forwarded());
                ++replies;
            }
        }
    CHECK(replies == 20 * 20 - 4);
}

TEST_CASE("the demo plan has no findings and meets its expectations") {
    lab::Lab lab = lab::build(skerry());
    routing::Settled settled = routing::settle(lab);
    reach::Check check = reach::check(settled);
    CHECK(check.findings.empty());
    CHECK(check.pairs_asked == check.pairs);
    CHECK(check.pairs_asked > 28 * 28);
    for (const reach::Verdict& verdict : reach::verify(settled)) {
        CAPTURE(verdict.explanation);
        CHECK(verdict.passed);
    }
}

TEST_CASE("any cut is one wire at a time, whatever the machines are called") {
    const std::string parallel =
        "lab: t\nsubnets: {a: {prefix: 10.1.0.0/24}, b: {prefix: 10.2.0.0/24}}\n"
        "guests: {g: {nics: [{subnet: a}]}, h: {nics: [{subnet: b}]}}\nrouters:\n"
        "  r--1: {nics: [{subnet: a}], ospf: {areas: {0: all}}}\n"
        "  r--2: {nics: [{subnet: b}], ospf: {areas: {0: all}}}\nlinks:\n"
        "  - {between: [r--1, r--2]}\n";
    const std::string expected = "expect: [{ping: [g, h], cut: any}]\n";
    const lab::Lab one = lab_of(parallel + expected);
    const reach::Verdict failed = reach::verify(routing::settle(one)).front();
    CHECK_FALSE(failed.passed);
    CHECK(failed.explanation.find("r--1--r--2") != std::string::npos);
    const lab::Lab two = lab_of(parallel + "  - {between: [r--1, r--2]}\n" + expected);
    CHECK(reach::verify(routing::settle(two)).front().passed);
    const lab::Lab pairs = lab_of(parallel + "  - {between: [r--1, r--2]}\n"
                                  + "expect: [{ping: [g, h], cut: any-two}]\n");
    const reach::Verdict severed = reach::verify(routing::settle(pairs)).front();
    CHECK_FALSE(severed.passed);
    CHECK(severed.explanation.find(" and r--1") != std::string::npos);
    CHECK(routing::single_cuts(two).size() == 2);
    for (const routing::Cut& cut : routing::single_cuts(two))
        CHECK(routing::parse_cut(two, routing::to_string(two, cut)) == cut);
    CHECK(routing::parse_cut(two, "r--1").has_value());
    CHECK(routing::parse_cut(two, "ospf:r--1--r--2").has_value());
}

TEST_CASE("apart holds for every packet, also one that is sent on by a translation") {
    struct Row {
        std::string rules;     // of the filter between hall and vault
        std::string nat;       // of the router
        std::string through;   // what gets through; empty if nothing
        std::string desk = {}; // more keys of the guest in hall
    };
    for (const Row& row : std::vector<Row>{
             {"default: deny", "", ""},
             {"default: allow", "",
              "icmp gets through, from 10.1.0.2 to 10.2.0.2: desk > wall > safe"},
             {"default: deny, rules: [{do: allow, proto: udp, port: 4444}]", "", "udp/4444"},
             {"default: deny, rules: [{do: allow, proto: ospf}]", "", "ospf"},
             {"default: allow, rules: [{do: deny, proto: icmp}, {do: deny, proto: tcp}, {do: deny, "
              "proto: udp}, {do: deny, proto: ospf}]",
              "", "a protocol that no rule names"},
             {"default: deny, rules: [{do: allow, from: 10.2.0.0/24, proto: tcp, port: 9}]", "",
              "safe to desk: tcp/9"},
             {"default: deny, rules: [{do: allow, proto: tcp, port: 22, to: safe}]",
              ", nat: [{in: eth0, proto: tcp, port: 2222, to: safe, to-port: 22}]",
              "tcp/22 gets through"},
             {"default: deny, rules: [{do: allow, proto: tcp, port: 22, to: safe}]",
              ", nat: [{in: eth0, proto: tcp, port: 2222, to: safe, to-port: 22}]",
              "gets through, from 10.1.0.2 to 10.1.0.1: desk > wall > safe", ", gateway: none"},
             {"default: deny, rules: [{do: allow, proto: tcp, port: 22, to: safe}]", "", "",
              ", gateway: none"},
         }) {
        CAPTURE(row.rules);
        const lab::Lab lab =
            lab_of("lab: t\nsubnets: {hall: {prefix: 10.1.0.0/24}, vault: {prefix: 10.2.0.0/24}}\n"
                   "guests: {desk: {nics: [{subnet: hall}]"
                   + row.desk
                   + "}, safe: {nics: [{subnet: vault}]}}\n"
                     "routers: {wall: {nics: [{subnet: hall}, {subnet: vault}], filter: between"
                   + row.nat + "}}\nfilters: {between: {" + row.rules
                   + "}}\nexpect: [{apart: [hall, vault]}]\n");
        const reach::Verdict verdict = reach::verify(routing::settle(lab)).front();
        CAPTURE(verdict.explanation);
        CHECK(verdict.pairs == 2);
        CHECK(verdict.passed == row.through.empty());
        CHECK(verdict.explanation.find(row.through) != std::string::npos);
    }
    for (const std::string bad : {"{apart: [a, b], gets: reply}", "{apart: [a, b], ping: [a, b]}",
                                  "{apart: [a, 192.0.2.1]}", "{apart: [a, b], within: 5ms}"}) {
        CAPTURE(bad);
        const plan::Reading reading = plan::read(
            "lab: t\nsubnets: {a: {hosts: 5}, b: {hosts: 5}}\nexpect: [" + bad + "]\n", "t.yaml");
        CHECK_FALSE(reading.plan);
    }
}

namespace {

// One random mistake somewhere in the plan.
plan::Edit mistake(const plan::Plan& plan, std::mt19937_64& random) {
    for (;;) {
        const plan::Machine& m = plan.machines[random() % plan.machines.size()];
        switch (random() % 5) {
        case 0:
            if (!m.routes.empty())
                return plan::remove_route(plan, m.name, random() % m.routes.size());
            break;
        case 1:
            if (m.kind == plan::MachineKind::router)
                return plan::set_forwards(plan, m.name, false);
            break;
        case 2:
            if (!m.routes.empty()
                && plan::to_string(m.routes[0].to.value).find(':') == std::string::npos)
                return plan::set_route_via(plan, m.name, 0, *net::parse_address("10.40.8.120"));
            break;
        case 3: return plan::set_machine_gateway(plan, m.name, net::parse_address("10.41.0.7"));
        default:
            if (!plan.links.empty())
                return plan::set_link_mtu(plan, random() % plan.links.size(), 80);
        }
    }
}

// What edits cannot say: things that are down or bare.
void cripple(plan::Plan& plan, std::mt19937_64& random) {
    plan::Machine& m = plan.machines[random() % plan.machines.size()];
    switch (random() % 4) {
    case 0: m.nics[random() % m.nics.size()].up = false; break;
    case 1: m.nics[random() % m.nics.size()].address.kind = plan::NicAddress::Kind::none; break;
    case 2: m.up = false; break;
    default: plan.links[random() % plan.links.size()].up = false;
    }
}

} // namespace

TEST_CASE("whatever is broken in the demo, the remedy mends every ping that fails") {
    std::mt19937_64 random(2026);
    int failures = 0;
    std::set<Cause> causes;
    lab::Lab whole = lab::build(skerry());
    constexpr int rounds = sanitized ? 10 : 100;
    for (int round = 0; round < rounds; ++round) {
        plan::Plan plan = skerry();
        for (std::uint64_t i = 0; i < 1 + random() % 3; ++i)
            plan = plan::apply(plan, {mistake(plan, random)}).plan.value();
        if (random() % 2 == 0)
            cripple(plan, random);
        lab::Lab lab = lab::build(plan);
        std::vector<std::string> names = guests(plan);
        for (int pair = 0; pair < 6; ++pair) {
            const std::string& from = names[random() % names.size()];
            const std::string& to = names[random() % names.size()];
            probe::PingAnswer answer = ask(lab, from, to);
            if (!answer.diagnosis || ask(whole, from, to).diagnosis)
                continue; // some pairs of the demo have no family in common
            ++failures;
            causes.insert(answer.diagnosis->cause);
            mend::Mending mending = mend::reply(plan, {from, to});
            CAPTURE(round);
            CAPTURE(from);
            CAPTURE(to);
            CAPTURE(plan::slug(answer.diagnosis->cause));
            CHECK(mending.mends);
        }
    }
    CHECK(failures > rounds / 2);
    CHECK(causes.size() >= (sanitized ? 4 : 10));
}

TEST_CASE("round-trip times are the delays both ways, and chance can be repeated") {
    const char* text = R"(lab: t
subnets: {w: {prefix: 10.0.0.0/24}, e: {prefix: 10.0.1.0/24}}
guests: {a: {nics: [{subnet: w}]}, b: {nics: [{subnet: e}]}}
routers:
  r1: {nics: [{subnet: w}], routes: [{to: e, via: r2}]}
  r2: {nics: [{subnet: e}], routes: [{to: w, via: r1}]}
links: [{between: [r1, r2], delay: 10ms, LOSSY}]
)";
    auto lab_with = [&](const char* lossy) {
        std::string plan = text;
        plan.replace(plan.find("LOSSY"), 5, lossy);
        return lab::build(*plan::read(plan, "t").plan);
    };
    lab::Lab calm = lab_with("loss: 0%");
    probe::PingAnswer answer = ask(calm, "a", "b");
    // Three machines receive the packet on each way.
    CHECK(answer.round_trip.min.count() == doctest::Approx(20'000 + 6 * 20));
    CHECK(answer.round_trip.max.count() == answer.round_trip.min.count());

    lab::Lab rough = lab_with("jitter: 2ms, loss: 30%");
    probe::PingAnswer first = ask(rough, "a", "b", {.count = 1000, .seed = 5});
    probe::PingAnswer second = ask(rough, "a", "b", {.count = 1000, .seed = 5});
    CHECK(first.received == second.received);
    CHECK(first.round_trip.mean == second.round_trip.mean);
    CHECK(first.received == doctest::Approx(490).epsilon(0.15)); // 0.7 there times 0.7 back
    CHECK(first.round_trip.mean.count() == doctest::Approx(22'120).epsilon(0.01));
    CHECK(first.round_trip.max.count() <= 24'120);

    lab::Lab dead = lab_with("loss: 100%");
    answer = ask(dead, "a", "b");
    REQUIRE(answer.diagnosis.has_value());
    CHECK(answer.diagnosis->cause == Cause::packets_lost);
    CHECK(answer.reaches);
}

TEST_CASE("a trace names each machine on the way, and where it ends") {
    lab::Lab lab = lab::build(skerry());
    routing::Settled settled = routing::settle(lab);
    auto hops = [&](const routing::Settled& s, std::string_view from, std::string_view to) {
        std::string text;
        for (const probe::TraceHop& hop : probe::trace(s, *probe::question(lab, from, to)).hops)
            text += lab.machines[hop.machine].name + (hop.address ? " " : "? ");
        return text;
    };
    CHECK(hops(settled, "weather-mast", "helm") == "ridge-r1 lamp-r1 vessel-r1 helm ");
    CHECK(hops(settled, "helm", "helm") == "helm ");
    routing::Condition condition(lab);
    condition.cut(lab, "lamp-r1--vessel-r1");
    CHECK(hops(routing::settle(lab, condition), "weather-mast", "helm") == "ridge-r1 lamp-r1 ");
}

TEST_CASE("an error is heard only if it finds its way back") {
    lab::Lab lab =
        lab::build(*plan::read_file(SOURCE_DIR "/demo/mistakes/no-return-route.yaml").plan);
    // tank-r1 has no route to the hall, so its "host unreachable" never arrives.
    probe::PingAnswer answer = ask(lab, "desk", "10.50.2.99");
    CHECK(answer.error.error == packet::IcmpError::host_unreachable);
    CHECK_FALSE(answer.error.heard);
    answer = ask(lab, "desk", "10.50.0.99");
    CHECK(answer.error.heard);
    CHECK(answer.error.from == answer.source);
}

TEST_CASE("expectations between subnets cover every pair, and fail for one wrong pair") {
    plan::Plan plan = skerry();
    plan.machine("winch")->nics[0].up = false;
    lab::Lab lab = lab::build(plan);
    routing::Settled settled = routing::settle(lab);
    reach::Verdict verdict = reach::verify(settled, 3); // skerry to vessel, IPv6
    CHECK_FALSE(verdict.passed);
    CHECK(verdict.pairs == 24);
    CHECK(verdict.failed == 4);
    CHECK(verdict.explanation.find("nic-down at winch") != std::string::npos);

    plan.expectations = {{.from = std::string("quay"),
                          .to = std::string("kettle"),
                          .within = std::chrono::milliseconds(8)}};
    lab = lab::build(plan);
    settled = routing::settle(lab);
    verdict = reach::verify(settled, 0);
    CHECK(verdict.failed == 2);
    CHECK(verdict.explanation.find("more than 8 ms") != std::string::npos);
}

TEST_CASE("a machine is known by an address that others get to, and a subnet does not ask itself") {
    const lab::Lab lab = lab::build(*plan::read(R"(lab: t
subnets:
  bench: {prefix: ["10.7.0.0/24", "fd07::/64"]}
  shore: {prefix: 10.8.0.0/24}
  lone: {prefix: 10.9.0.0/24}
routers: {mid: {nics: [{subnet: bench}, {subnet: shore}, {subnet: lone}]}}
guests:
  left: {nics: [{way-out: auto}, {subnet: bench}], routes: [{to: shore, via: mid}]}
  right: {nics: [{way-out: auto}, {subnet: bench, address: "fd07::77"}]}
  alone: {nics: [{way-out: auto}]}
  both: {nics: [{subnet: shore, address: 10.8.0.9}, {subnet: bench, filter: own}]}
  beach: {nics: [{subnet: shore}]}
  hermit: {nics: [{subnet: lone}]}
filters: {own: {default: allow, rules: [{do: deny, way: out, proto: icmp, from: 10.8.0.9}]}}
expect:
  - {ping: [lone, lone]}
  - {ping: [shore, left]}
  - {ping: [hermit, hermit]}
)",
                                                "t")
                                         .plan);
    struct Row {
        std::string from;
        std::string to;
        std::string destination; // empty if there is none
        std::optional<Cause> cause;
    };
    for (const Row& row :
         {Row{"beach", "left", "10.7.0.2", {}}, Row{"left", "right", "fd07::77", {}},
          Row{"left", "both", "10.7.0.3", {}}, Row{"beach", "both", "10.8.0.9", {}},
          Row{"left", "alone", "", Cause::behind_translation},
          Row{"left", "right/eth0", "192.168.253.2", Cause::behind_translation},
          Row{"alone", "192.168.253.1", "192.168.253.1", {}},
          Row{"beach", "192.168.253.2", "192.168.253.2", Cause::address_unclaimed},
          Row{"beach", "right", "", Cause::no_common_family}}) {
        CAPTURE(row.from);
        CAPTURE(row.to);
        const probe::PingAnswer answer = ask(lab, row.from, row.to);
        CHECK((answer.destination ? net::to_string(*answer.destination) : "") == row.destination);
        CHECK((answer.diagnosis ? std::optional(answer.diagnosis->cause) : std::nullopt)
              == row.cause);
    }
    const routing::Settled settled = routing::settle(lab);
    const std::vector<std::size_t> pairs{0, 2, 1}; // `both` asks by its NIC on bench
    for (std::size_t i = 0; i < pairs.size(); ++i) {
        CAPTURE(i);
        const reach::Verdict verdict = reach::verify(settled, i);
        CHECK(verdict.passed);
        CHECK(verdict.pairs == pairs[i]);
    }
    // What `reach` counts is what expectations ask: those that it writes are met.
    lab::Lab frozen = lab;
    frozen.expectations = reach::expectations(settled);
    const routing::Settled again = routing::settle(frozen);
    for (const reach::Verdict& verdict : reach::verify(again))
        CHECK_MESSAGE(verdict.passed, verdict.explanation);
}

TEST_CASE("exchanges of one kind have one diagnosis") {
    std::size_t gaps = 0;
    std::size_t kinds = 0;
    for (const char* folder : {SOURCE_DIR "/demo", SOURCE_DIR "/demo/mistakes"})
        for (const auto& file : std::filesystem::directory_iterator(folder)) {
            if (file.path().extension() != ".yaml")
                continue;
            CAPTURE(file.path().string());
            lab::Lab lab = lab::build(*plan::read_file(file.path()).plan);
            routing::Settled settled = routing::settle(lab);
            probe::Diagnoser diagnoser(settled);
            std::set<probe::GapKind> seen;
            for (const lab::Machine& from : lab.machines)
                for (const lab::Machine& to : lab.machines) {
                    auto exchange =
                        probe::exchange(settled, *probe::question(lab, from.name, to.name));
                    if (exchange.replied())
                        continue;
                    CAPTURE(from.name);
                    CAPTURE(to.name);
                    auto alone = probe::diagnose(settled, exchange);
                    const probe::Diagnosis& shared = diagnoser.of(exchange);
                    CHECK(plan::slug(shared.cause) == plan::slug(alone->cause));
                    CHECK(shared.where == alone->where);
                    seen.insert(probe::kind_of(settled, exchange));
                    ++gaps;
                }
            kinds += seen.size();
        }
    CHECK(gaps > kinds); // else nothing is gained
}
