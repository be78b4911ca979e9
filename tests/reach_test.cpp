// What is said of a whole lab: every pair without a reply is told of, and nothing that is not so.
#include "jackal/reach/check.h"

#include "lab_of.h"
#include "sanitized.h"

#include <algorithm>
#include <filesystem>
#include <set>

using namespace jackal;

namespace {

std::vector<std::string> told(const std::string& text) {
    const lab::Lab lab = lab_of(text);
    std::vector<std::string> slugs;
    for (const lab::Finding& finding : reach::check(routing::settle(lab)).findings)
        slugs.emplace_back(plan::slug(finding.cause));
    return slugs;
}

constexpr const char* two_subnets =
    "lab: t\nsubnets: {a: {prefix: 10.50.1.0/24}, b: {prefix: 10.50.2.0/24}}\n";

} // namespace

TEST_CASE("check tells what pings between machines tell, as the machines would ask") {
    struct Row {
        std::string text;
        std::vector<std::string> slugs;
    };
    using Slugs = std::vector<std::string>;
    const Row rows[] = {
        // The packet leaves by the translated NIC, and from its address.
        {"lab: t\nsubnets: {inner: {prefix: 10.50.1.0/24}, wan: {uplink: nat}}\n"
         "guests:\n  g: {nics: [{subnet: wan, address: dhcp}, {subnet: inner}]}\n",
         {"no-router-between"}},
        // Not the first guest of its subnet.
        {std::string(two_subnets)
             + "guests: {g: {nics: [{subnet: a}]}, g2: {nics: [{subnet: a}], gateway: none}, "
               "h: {nics: [{subnet: b}]}}\nrouters: {r: {nics: [{subnet: a}, {subnet: b}]}}\n",
         {"no-return-route"}},
        // Both directions fail, so no reply is lost.
        {std::string(two_subnets)
             + "guests: {g: {nics: [{subnet: a}]}, h: {nics: [{subnet: b}]}}\nrouters:\n"
               "  r: {nics: [{subnet: a}], ospf: {areas: {0: [s]}}}\n"
               "  s: {nics: [{subnet: b}], ospf: {areas: {0: [r]}}}\nlinks: [{between: [r, s]}]\n",
         {"network-not-announced", "network-not-announced"}},
        // The router is there, and is not to forward: no other one is missing.
        {std::string(two_subnets)
             + "guests: {g: {nics: [{subnet: a}]}, h: {nics: [{subnet: b}]}}\n"
               "routers: {r: {forwards: false, nics: [{subnet: a}, {subnet: b}]}}\n",
         {"next-hop-does-not-forward"}},
        // What the plan expects is no finding, and says as much of the other direction.
        {std::string(two_subnets)
             + "guests: {g: {nics: [{subnet: a}]}, h: {nics: [{subnet: a, state: down}]}}\n"
               "expect: [{ping: [g, h], gets: nic-down}]\n",
         {"nic-down"}},
    };
    for (const Row& row : rows) {
        CAPTURE(row.text);
        CHECK(told(row.text) == Slugs(row.slugs));
    }
}

TEST_CASE("check asks all pairs of guests of a lab too large to ask all its machines") {
    if (sanitized)
        return; // too slow
    constexpr std::size_t guests = limits::checked_ends + 10;
    std::string subnets = "lab: t\nsubnets:\n";
    std::string machines = "guests:\n";
    std::string router = "routers:\n  hub:\n    filter: wall\n    nics:\n";
    for (std::size_t i = 0; i < guests; ++i) {
        const std::string n = std::to_string(i);
        subnets += "  s" + n + ": {size: /29}\n";
        machines += "  g" + n + ": {nics: [{subnet: s" + n + "}]"
                    + (i == guests - 1 ? ", gateway: none}\n" : "}\n");
        router += "      - {subnet: s" + n + "}\n";
    }
    const lab::Lab lab = lab_of(subnets + machines + router
                                + "filters: {wall: {default: allow, rules: "
                                  "[{do: deny, way: through, from: g4000, to: g7}]}}\n");
    const reach::Check check = reach::check(routing::settle(lab));
    CHECK(check.pairs_asked > guests * (guests - 1));
    CHECK(check.pairs_asked < check.pairs);
    CHECK(check.answered + check.explained == check.pairs_asked);
    CHECK(check.explained > 2 * (guests - 2)); // who has no gateway is at one end of almost all
    CHECK(check.explained < 3 * guests);
    auto has = [&](plan::Cause cause, const std::string& subject) {
        return std::ranges::any_of(check.findings, [&](const lab::Finding& finding) {
            return finding.cause == cause && finding.subject == subject;
        });
    };
    CHECK(has(plan::Cause::no_return_route, "g" + std::to_string(guests - 1)));
    CHECK(has(plan::Cause::filter_denies, "hub"));
}

TEST_CASE(
    "a pair of machines without a reply has a finding or an expectation, in every demo plan") {
    std::vector<std::filesystem::path> files{SOURCE_DIR "/demo/skerry.yaml"};
    for (const auto& entry : std::filesystem::directory_iterator(SOURCE_DIR "/demo/mistakes"))
        files.push_back(entry.path());
    std::size_t gaps = 0;
    for (const auto& file : files) {
        CAPTURE(file);
        plan::Reading reading = plan::read_file(file);
        REQUIRE(reading.plan.has_value());
        plan::Plan plan = reading.plan->written();
        plan.expectations.clear();
        const lab::Lab lab = lab::build(plan);
        const routing::Settled settled = routing::settle(lab);
        const reach::Check check = reach::check(settled);
        CHECK(check.unexplained == 0);
        std::set<plan::Cause> causes;
        for (const lab::Finding& finding : check.findings)
            causes.insert(finding.cause);
        if (causes.contains(plan::Cause::no_return_route))
            causes.insert(plan::Cause::no_route); // the same machine, asked the other way round
        for (lab::MachineId from : lab.machines.ids())
            for (lab::MachineId to : lab.machines.ids()) {
                if (from == to || lab.machines[from].outside || lab.machines[to].outside)
                    continue;
                auto end = [&](lab::MachineId id) {
                    return probe::Endpoint{lab.machines[id].name, id, {}, {}};
                };
                auto exchange =
                    probe::exchange(settled, {.from = end(from), .to = end(to), .count = 1});
                if (exchange.replied())
                    continue;
                ++gaps;
                CHECK(causes.contains(probe::diagnose(settled, exchange)->cause));
            }
    }
    CHECK(gaps > 300);
}

TEST_CASE("a machine's name means an address on a shared segment, else none towards the outside") {
    const lab::Lab lab =
        lab_of("lab: t\nsubnets: {wan: {uplink: nat}, a: {prefix: 10.50.1.0/24}, b: {prefix: "
               "10.50.2.0/24}}\nguests: {g: {nics: [{subnet: b}]}, h: {nics: [{subnet: a}]}}\n"
               "routers: {r: {nics: [{subnet: wan, address: dhcp}, {subnet: a}, {subnet: b}]}, "
               "s: {nics: [{subnet: wan, address: dhcp}]}}\n");
    const routing::Settled settled = routing::settle(lab);
    auto address = [&](const char* from, const char* to) {
        return net::to_string(
            *probe::exchange(settled, *probe::question(lab, from, to)).destination);
    };
    CHECK(address("g", "r") == "10.50.2.1");
    const lab::NicId inner = lab.machines[*lab.machine("workstation")].first_nic;
    CHECK(address("g", "workstation")
          == net::to_string(lab.first_address(inner, net::Family::ipv4)->address));
    CHECK(address("h", "r") == "10.50.1.1");
    CHECK(address("s", "r")
          == net::to_string(
              lab.first_address(*lab.nic(*lab.machine("r"), "eth0"), net::Family::ipv4)->address));
}

TEST_CASE("an address of a family that its subnet has no prefix of is explained, too") {
    const auto slugs = told("lab: t\nsubnets: {b: {prefix: [10.50.2.0/24, \"fd01::/64\"]}, "
                            "a: {prefix: 10.50.1.0/24}}\n"
                            "guests: {g: {nics: [{subnet: a, address: [\"fd01::9/64\"]}]}}\n"
                            "routers: {r: {nics: [{subnet: a}, {subnet: b}]}}\n");
    CHECK_FALSE(slugs.empty());
}
