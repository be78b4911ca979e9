// Subnets of mixed sizes placed into one /8 and one IPv6 /32, beside a plain first fit over the
// sorted list of what is taken.
#include "jackal/net/place.h"

#include <benchmark/benchmark.h>
#include <random>

using namespace jackal;

namespace {

// Sizes that fill about two thirds of the space, whatever their number.
std::vector<net::PlaceWish> wishes_of(net::Family family, std::size_t count) {
    const int space = family == net::Family::ipv4 ? 8 : 32;
    int typical = space;
    while (std::size_t{1} << (typical - space) < count)
        ++typical;
    std::mt19937 random(1);
    std::vector<net::PlaceWish> wishes;
    for (std::size_t i = 0; i < count; ++i)
        wishes.push_back({family, typical + static_cast<int>(random() % 4)});
    return wishes;
}

net::Prefix space_of(net::Family family) {
    return net::parse_prefix(family == net::Family::ipv4 ? "10.0.0.0/8" : "fd00:7::/32").value();
}

template <net::Family family>
void place(benchmark::State& state) {
    auto wishes = wishes_of(family, static_cast<std::size_t>(state.range(0)));
    net::Prefix space = space_of(family);
    for (auto _ : state) {
        net::Placements placed = net::place({&space, 1}, {}, wishes);
        if (!placed.shortages.empty())
            state.SkipWithError("no room");
        benchmark::DoNotOptimize(placed);
    }
    state.SetComplexityN(state.range(0));
}

// The baseline: for each wish in turn, the first aligned gap between what is taken already. It is
// quadratic, so it is not asked for more than 10,000, where it takes two seconds.
std::optional<net::Prefix> first_fit(std::vector<net::Prefix>& taken, const net::Prefix& space,
                                     int length) {
    net::Prefix candidate(space.first(), length);
    auto at = taken.begin();
    for (; at != taken.end() && at->first() <= candidate.last(); ++at)
        while (candidate.first() <= at->last())
            candidate = net::Prefix(candidate.last().plus(1), length);
    if (!space.contains(candidate))
        return std::nullopt;
    taken.insert(at, candidate);
    return candidate;
}

template <net::Family family>
void first_fit_in_a_list(benchmark::State& state) {
    auto wishes = wishes_of(family, static_cast<std::size_t>(state.range(0)));
    net::Prefix space = space_of(family);
    for (auto _ : state) {
        std::vector<net::Prefix> taken;
        for (const net::PlaceWish& wish : wishes)
            if (!first_fit(taken, space, wish.length))
                state.SkipWithError("no room");
        benchmark::DoNotOptimize(taken);
    }
}

BENCHMARK(place<net::Family::ipv4>)
    ->RangeMultiplier(10)
    ->Range(1000, 1'000'000)
    ->Unit(benchmark::kMillisecond)
    ->Complexity(benchmark::oNLogN);
BENCHMARK(first_fit_in_a_list<net::Family::ipv4>)
    ->RangeMultiplier(10)
    ->Range(1000, 10'000)
    ->Unit(benchmark::kMillisecond)
    ->Iterations(1);
BENCHMARK(place<net::Family::ipv6>)
    ->RangeMultiplier(10)
    ->Range(1000, 1'000'000)
    ->Unit(benchmark::kMillisecond)
    ->Complexity(benchmark::oNLogN);
BENCHMARK(first_fit_in_a_list<net::Family::ipv6>)
    ->RangeMultiplier(10)
    ->Range(1000, 10'000)
    ->Unit(benchmark::kMillisecond)
    ->Iterations(1);

} // namespace

BENCHMARK_MAIN();
