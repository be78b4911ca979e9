// Rules of a filter: the first that matches by the index, beside trying them one after another; and
// whole pings through three filters of 100 rules and a translation, beside the same without them.
#include "jackal/lab/build.h"
#include "jackal/packet/walk.h"
#include "jackal/plan/read.h"

#include <benchmark/benchmark.h>
#include <fmt/format.h>
#include <random>

using namespace jackal;

namespace {

// Rules as builders write them: from a network or a host, to a network or a host, to a port or two.
std::vector<lab::FilterRule> rules_of(std::size_t count) {
    std::mt19937 random(1);
    constexpr std::array lengths{8, 16, 24, 32};
    auto prefix = [&] {
        net::Address address = net::Address::ipv4(10U << 24 | (random() & 0xffffff));
        return net::Prefix(address, lengths.at(random() % lengths.size()));
    };
    std::vector<lab::FilterRule> rules;
    for (std::size_t i = 0; i < count; ++i) {
        lab::FilterRule rule{.allows = random() % 2 == 0, .way = plan::Way::through};
        rule.protocol = random() % 4 == 0 ? net::Protocol::udp : net::Protocol::tcp;
        rule.any_from = random() % 4 == 0;
        if (!rule.any_from)
            rule.from = {prefix()};
        rule.any_to = false;
        rule.to = {prefix()};
        auto port = static_cast<std::uint16_t>(1 + random() % 60'000);
        rule.ports = {{port, static_cast<std::uint16_t>(port + random() % 100)}};
        rules.push_back(std::move(rule));
    }
    return rules;
}

std::vector<net::Flow> flows() {
    std::mt19937 random(2);
    std::vector<net::Flow> result;
    for (int i = 0; i < 1024; ++i)
        result.push_back({net::Address::ipv4(10U << 24 | (random() & 0xffffff)),
                          net::Address::ipv4(10U << 24 | (random() & 0xffffff)), net::Protocol::tcp,
                          49152, static_cast<std::uint16_t>(1 + random() % 60'000)});
    return result;
}

void by_index(benchmark::State& state) {
    std::size_t entries_left = lab::RuleIndex::most_entries;
    lab::RuleIndex index(rules_of(static_cast<std::size_t>(state.range(0))), entries_left);
    auto asked = flows();
    std::size_t next = 0;
    for (auto _ : state)
        benchmark::DoNotOptimize(index.first(plan::Way::through, asked[next++ % asked.size()]));
    state.SetItemsProcessed(state.iterations());
}

bool matches(const lab::FilterRule& rule, const net::Flow& flow) {
    auto holds = [](bool any, const std::vector<net::Prefix>& prefixes, net::Address address) {
        return any || (prefixes.front().contains(address));
    };
    return rule.protocol == flow.protocol && rule.ports.front().first <= flow.destination_port
           && flow.destination_port <= rule.ports.front().last
           && holds(rule.any_to, rule.to, flow.destination)
           && holds(rule.any_from, rule.from, flow.source);
}

// The baseline.
void one_by_one(benchmark::State& state) {
    auto rules = rules_of(static_cast<std::size_t>(state.range(0)));
    auto asked = flows();
    std::size_t next = 0;
    for (auto _ : state) {
        const net::Flow& flow = asked[next++ % asked.size()];
        auto found = std::ranges::find_if(
            rules, [&](const lab::FilterRule& rule) { return matches(rule, flow); });
        benchmark::DoNotOptimize(found);
    }
    state.SetItemsProcessed(state.iterations());
}

// A guest, its gateway with a filter and a translation, a second router with a filter, and a guest
// with a third one. The filters' last rules are those that let the ping pass.
lab::Lab guarded_lab(bool guarded) {
    std::string text = "lab: guarded\n"
                       "subnets:\n"
                       "  near: {prefix: 10.1.0.0/24}\n"
                       "  middle: {prefix: 10.2.0.0/24}\n"
                       "  far: {prefix: 10.3.0.0/24}\n";
    if (guarded) {
        text += "filters:\n";
        for (int filter = 0; filter < 3; ++filter) {
            text += fmt::format("  f{}:\n    default: deny\n    rules:\n", filter);
            for (int rule = 0; rule < 99; ++rule)
                text += fmt::format("      - {{do: deny, from: 10.{}.0.0/16, port: {}}}\n",
                                    100 + rule, 1000 + rule);
            text += "      - {do: allow, proto: icmp, from: 10.0.0.0/8}\n";
        }
    }
    const char* nat = guarded ? ", filter: f0, nat: [{out: eth1}]" : "";
    text += fmt::format(
        "guests:\n"
        "  a: {{nics: [{{subnet: near}}]}}\n"
        "  b: {{nics: [{{subnet: far}}]{}}}\n"
        "routers:\n"
        "  r1: {{nics: [{{subnet: near}}, {{subnet: middle}}], routes: [{{to: far, via: r2}}]{}}}\n"
        "  r2: {{nics: [{{subnet: middle}}, {{subnet: far}}], routes: [{{to: near, via: "
        "r1}}]{}}}\n",
        guarded ? ", filter: f2" : "", nat, guarded ? ", filter: f1" : "");
    return lab::build(*plan::read(text, "guarded").plan);
}

void ping_there_and_back(benchmark::State& state, bool guarded) {
    lab::Lab lab = guarded_lab(guarded);
    routing::Settled settled = routing::settle(lab);
    net::Address source = net::Address::ipv4(10U << 24 | 1U << 16 | 2);
    net::Address destination = net::Address::ipv4(10U << 24 | 3U << 16 | 2);
    for (auto _ : state) {
        packet::Journey out = packet::walk(settled, *lab.machine("a"),
                                           {.source = source, .destination = destination});
        packet::Journey back = packet::walk(
            settled, out.last_machine(),
            {.source = out.flow.destination, .destination = out.flow.source, .is_reply = true},
            &out);
        if (back.ending != packet::Ending::delivered || back.last_machine() != *lab.machine("a"))
            state.SkipWithError("no reply");
    }
    state.SetItemsProcessed(state.iterations());
}

void ping_guarded(benchmark::State& state) {
    ping_there_and_back(state, true);
}

// The baseline.
void ping_plain(benchmark::State& state) {
    ping_there_and_back(state, false);
}

BENCHMARK(by_index)->RangeMultiplier(10)->Range(10, 10'000);
BENCHMARK(one_by_one)->RangeMultiplier(10)->Range(10, 10'000);
BENCHMARK(ping_guarded);
BENCHMARK(ping_plain);

} // namespace

BENCHMARK_MAIN();
