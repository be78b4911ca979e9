// All pairs of 10,000 subnets at once, beside walking each pair (a sample of them); the same for
// smaller labs.
#include "../cluster/share.h"
#include "jackal/lab/build.h"
#include "jackal/mend/remedies.h"
#include "jackal/plan/read.h"
#include "jackal/probe/exchange.h"
#include "jackal/reach/check.h"
#include "jackal/reach/matrix.h"
#include "jackal/reach/sweep.h"
#include "plans.h"

#include <atomic>
#include <benchmark/benchmark.h>
#include <chrono>
#include <map>
#include <memory>
#include <queue>
#include <random>
#include <thread>

using namespace jackal;

namespace {

struct Whole {
    explicit Whole(unsigned subnets)
        : lab(lab::build(
            *plan::read(bench::whole_text(subnets, subnets / 10, subnets * 2 / 5), "whole.yaml")
                 .plan)),
          settled(routing::settle(lab)) {
        for (unsigned i = 0; i < subnets; ++i)
            guests.push_back(*lab.addresses_of(lab.machines[lab::MachineId{i}].first_nic).begin());
    }

    lab::Lab lab;
    routing::Settled settled;
    std::vector<lab::AddressId> guests; // one on each subnet
};

Whole& whole(unsigned subnets) {
    static std::map<unsigned, std::unique_ptr<Whole>> made;
    auto& one = made[subnets];
    if (!one)
        one = std::make_unique<Whole>(subnets);
    return *one;
}

void matrix(benchmark::State& state) {
    auto subnets = static_cast<unsigned>(state.range(0));
    Whole& lab = whole(subnets);
    std::uint64_t replies = 0;
    std::uint64_t walked = 0;
    for (auto _ : state) {
        reach::Matrix all = reach::matrix(lab.settled, lab.guests,
                                          {.threads = static_cast<unsigned>(state.range(1))});
        state.PauseTiming();
        replies = all.replies();
        walked = all.walked();
        state.ResumeTiming();
    }
    double pairs = static_cast<double>(subnets) * subnets;
    state.counters["walked"] = static_cast<double>(walked);
    state.counters["answered"] = static_cast<double>(replies) / pairs;
    state.counters["pair"] = benchmark::Counter(pairs, benchmark::Counter::kIsIterationInvariantRate
                                                           | benchmark::Counter::kInvert);
}

// The baseline of check: from the text to a lab whose tables are filled.
void read_and_settle(benchmark::State& state) {
    auto subnets = static_cast<unsigned>(state.range(0));
    const std::string text = bench::whole_text(subnets, subnets / 10, subnets * 2 / 5);
    for (auto _ : state) {
        lab::Lab lab = lab::build(*plan::read(text, "whole.yaml").plan);
        benchmark::DoNotOptimize(routing::settle(lab));
    }
}

// What `jackal check` does of the same text.
void check(benchmark::State& state) {
    auto subnets = static_cast<unsigned>(state.range(0));
    const std::string text = bench::whole_text(subnets, subnets / 10, subnets * 2 / 5);
    reach::Check found;
    for (auto _ : state) {
        plan::Reading reading = plan::read(text, "whole.yaml");
        lab::Lab lab = lab::build(*reading.plan);
        found = reach::check(routing::settle(lab));
        mend::try_remedies(std::move(*reading.plan).written(), lab, found);
    }
    state.counters["asked"] = static_cast<double>(found.pairs_asked);
    state.counters["pairs"] = static_cast<double>(found.pairs);
}

// The baseline.
void each_pair_walked(benchmark::State& state) {
    Whole& lab = whole(static_cast<unsigned>(state.range(0)));
    std::mt19937 random(1);
    auto end = [&] {
        lab::AddressId id = lab.guests[random() % lab.guests.size()];
        lab::NicId nic = lab.lab.addresses[id].nic;
        return probe::Endpoint{.name = {}, .machine = lab.lab.nics[nic].machine, .nic = nic};
    };
    constexpr int sample = 1000;
    for (auto _ : state)
        for (int i = 0; i < sample; ++i)
            benchmark::DoNotOptimize(
                probe::exchange(lab.settled, {.from = end(), .to = end(), .count = 1}).reaches);
    state.counters["pair"] = benchmark::Counter(
        sample, benchmark::Counter::kIsIterationInvariantRate | benchmark::Counter::kInvert);
}

// What every single link of the lab would lose if it were cut.
void every_link_cut(benchmark::State& state) {
    Whole& lab = whole(static_cast<unsigned>(state.range(0)));
    std::size_t cuts = 0;
    for (auto _ : state)
        cuts = reach::sweep(lab.settled, {.what = {reach::CutKind::link}, .threads = 2}).asked;
    state.counters["cut"] =
        benchmark::Counter(static_cast<double>(cuts), benchmark::Counter::kIsIterationInvariantRate
                                                          | benchmark::Counter::kInvert);
}

bool differs(const reach::Matrix& before, const reach::Matrix& after, std::size_t from,
             std::size_t to) {
    if (from == to)
        return false;
    bool replied = before.reaches(from, to);
    return replied != after.reaches(from, to)
           || (replied && !before.is_walked(from, to) && !after.is_walked(from, to)
               && before.way(from, to) != after.way(from, to));
}

// The baseline: tables and matrix from nothing for each of some, and no comparison.
void each_cut_anew(benchmark::State& state) {
    Whole& lab = whole(static_cast<unsigned>(state.range(0)));
    const std::vector<routing::Cut> cuts = routing::single_cuts(lab.lab);
    constexpr std::size_t most = 20;
    const std::size_t step = std::max<std::size_t>(cuts.size() / most, 1);
    std::size_t count = 0;
    for (auto _ : state)
        for (std::size_t i = 0; i < cuts.size(); i += step) {
            routing::Condition condition(lab.lab);
            condition.apply(cuts[i]);
            routing::Settled settled = routing::settle(lab.lab, condition);
            benchmark::DoNotOptimize(reach::matrix(settled, lab.guests, {.threads = 2}).replies());
            ++count;
        }
    state.counters["cut"] = benchmark::Counter(
        static_cast<double>(count), benchmark::Counter::kIsRate | benchmark::Counter::kInvert);
}

// The same with all pairs compared, as what a cut changes is asked for.
void each_cut_compared(benchmark::State& state) {
    Whole& lab = whole(static_cast<unsigned>(state.range(0)));
    const std::vector<routing::Cut> cuts = routing::single_cuts(lab.lab);
    const reach::Asking asking{.keeps_ways = true, .threads = 2};
    const reach::Matrix before = reach::matrix(lab.settled, lab.guests, asking);
    constexpr std::size_t most = 3;
    std::size_t count = 0;
    for (auto _ : state)
        for (std::size_t i = 0; i < most; ++i) {
            routing::Condition condition(lab.lab);
            condition.apply(cuts[i * cuts.size() / most]);
            const routing::Settled settled = routing::settle(lab.lab, condition);
            const reach::Matrix after = reach::matrix(settled, lab.guests, asking);
            std::atomic<std::uint64_t> changed = 0;
            auto compare = [&](std::size_t first) {
                std::uint64_t found = 0;
                for (std::size_t to = first; to < lab.guests.size(); to += 2)
                    for (std::size_t from = 0; from < lab.guests.size(); ++from)
                        found += differs(before, after, from, to) ? 1 : 0;
                changed += found;
            };
            std::jthread other(compare, std::size_t{1});
            compare(0);
            other.join();
            benchmark::DoNotOptimize(changed.load());
            ++count;
        }
    state.counters["cut"] = benchmark::Counter(
        static_cast<double>(count), benchmark::Counter::kIsRate | benchmark::Counter::kInvert);
}

// How long each single link cut takes, in seconds.
const std::vector<double>& cut_times(unsigned subnets) {
    static std::map<unsigned, std::vector<double>> known;
    std::vector<double>& times = known[subnets];
    if (times.empty()) {
        const reach::Sweeping sweeping(whole(subnets).settled, {.what = {reach::CutKind::link}});
        for (std::size_t i = 0; i < sweeping.size(); ++i) {
            auto begin = std::chrono::steady_clock::now();
            benchmark::DoNotOptimize(sweeping.effect(i).lost);
            times.push_back(
                std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count());
        }
    }
    return times;
}

// jackal-sweep by a simulated clock: ranks take cuts as they get free; each message keeps the first
// rank for 20 microseconds, and is on its way for 50.
void simulated_ranks(benchmark::State& state) {
    const std::vector<double>& times = cut_times(static_cast<unsigned>(state.range(0)));
    const auto ranks = static_cast<std::size_t>(state.range(1));
    constexpr double kept = 20e-6;
    constexpr double on_its_way = 50e-6;
    double alone = 0;
    for (double time : times)
        alone += time;
    double end = 0;
    for (auto _ : state) {
        std::priority_queue<double, std::vector<double>, std::greater<>> free;
        for (std::size_t rank = 0; rank < ranks; ++rank)
            free.push(0);
        double giver = 0;
        for (std::size_t next = 0; next < times.size();) {
            giver = std::max(giver, free.top() + on_its_way) + kept;
            free.pop();
            double busy = giver + on_its_way;
            for (std::uint64_t left = cluster::share(times.size() - next, ranks); left > 0; --left)
                busy += times[next++];
            free.push(busy);
        }
        while (!free.empty()) {
            end = free.top();
            free.pop();
        }
    }
    state.counters["efficiency"] = alone / (end * static_cast<double>(ranks));
    state.counters["speedup"] = alone / end;
}

} // namespace

BENCHMARK(each_cut_anew)
    ->Arg(300)
    ->Arg(10'000)
    ->Iterations(1)
    ->Unit(benchmark::kMillisecond)
    ->UseRealTime();
BENCHMARK(each_cut_compared)
    ->Arg(300)
    ->Arg(10'000)
    ->Iterations(1)
    ->Unit(benchmark::kMillisecond)
    ->UseRealTime();
BENCHMARK(every_link_cut)
    ->Arg(300)
    ->Arg(10'000)
    ->Iterations(1)
    ->Unit(benchmark::kMillisecond)
    ->UseRealTime();
BENCHMARK(each_pair_walked)->Arg(10'000)->Unit(benchmark::kMillisecond);
BENCHMARK(matrix)
    ->Args({100, 2})
    ->Args({1'000, 2})
    ->Args({10'000, 1})
    ->Args({10'000, 2})
    ->Unit(benchmark::kMillisecond)
    ->UseRealTime();
BENCHMARK(read_and_settle)->Arg(1'000)->Arg(10'000)->Unit(benchmark::kMillisecond)->UseRealTime();
BENCHMARK(check)->Arg(1'000)->Arg(10'000)->Unit(benchmark::kMillisecond)->UseRealTime();
BENCHMARK(simulated_ranks)
    ->ArgsProduct({{1'000, 10'000}, {2, 64, 1'024}})
    ->Unit(benchmark::kMicrosecond);
BENCHMARK_MAIN();
