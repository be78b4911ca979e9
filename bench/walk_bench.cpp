// Packets through 1,000 routers with 10,000 routes each, beside a walk that knows nothing but
// where each router's packets go: one array access a hop in a table of the same shape.
#include "jackal/lab/build.h"
#include "jackal/packet/walk.h"
#include "plans.h"

#include <benchmark/benchmark.h>
#include <memory>
#include <random>

using namespace jackal;

namespace {

constexpr unsigned subnets = 10'000;
constexpr unsigned routers = 1'000;

struct Bench {
    Bench()
        : lab(lab::build(bench::fully_routed(subnets, routers))), settled(routing::settle(lab)) {
        std::mt19937 random(1);
        for (int i = 0; i < 4096; ++i)
            pairs.emplace_back(random() % subnets, random() % subnets);
    }

    lab::Lab lab;
    routing::Settled settled;
    std::vector<std::pair<std::uint32_t, std::uint32_t>> pairs;
};

Bench& full() {
    static Bench bench;
    return bench;
}

net::Address guest_address(std::uint32_t subnet) {
    return net::Address::ipv4(10U << 24 | subnet << 8 | 2);
}

void packet_walk(benchmark::State& state) {
    Bench& bench = full();
    std::int64_t hops = 0;
    std::size_t next = 0;
    for (auto _ : state) {
        auto [from, to] = bench.pairs[next++ % bench.pairs.size()];
        packet::Journey journey =
            packet::walk(bench.settled, lab::MachineId{from},
                         {.source = guest_address(from), .destination = guest_address(to)});
        if (journey.ending != packet::Ending::delivered)
            state.SkipWithError("not delivered");
        hops += static_cast<std::int64_t>(journey.steps.size());
    }
    state.SetItemsProcessed(hops); // machine hops
}

// The baseline: the next router for every pair of router and subnet, in one flat table.
void bare_table(benchmark::State& state) {
    std::vector<std::uint16_t> next_router(static_cast<std::size_t>(routers) * subnets);
    for (unsigned r = 0; r < routers; ++r)
        for (unsigned i = 0; i < subnets; ++i) {
            unsigned to = i % routers;
            while (to > r && (to - 1) / 2 != r)
                to = (to - 1) / 2;
            next_router[static_cast<std::size_t>(r) * subnets + i] =
                static_cast<std::uint16_t>(i % routers == r ? r
                                           : to > r         ? to
                                                            : (r - 1) / 2);
        }
    std::mt19937 random(1);
    std::int64_t hops = 0;
    for (auto _ : state) {
        auto at = static_cast<unsigned>(random() % routers);
        auto to = static_cast<unsigned>(random() % subnets);
        hops += 2; // the guests at both ends
        for (;; ++hops) {
            unsigned next = next_router[static_cast<std::size_t>(at) * subnets + to];
            if (next == at)
                break;
            at = next;
        }
        ++hops;
        benchmark::DoNotOptimize(at);
    }
    state.SetItemsProcessed(hops);
}

} // namespace

BENCHMARK(bare_table);
BENCHMARK(packet_walk);
BENCHMARK_MAIN();
