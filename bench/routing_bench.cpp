// Routing protocols: all OSPF tables of a lab from nothing, beside Dijkstra's algorithm of
// Boost.Graph from every router of the same graph; again after one link was cut; and BGP.
#include "jackal/lab/build.h"
#include "jackal/routing/settled.h"
#include "plans.h"

#include <benchmark/benchmark.h>
#include <boost/graph/adjacency_list.hpp>
#include <boost/graph/dijkstra_shortest_paths.hpp>
#include <cstdlib>
#include <fmt/format.h>
#include <fstream>

using namespace jackal;

namespace {

constexpr unsigned routers = 1'000;
constexpr unsigned links = 4'000;

const plan::Plan& mesh() {
    static const plan::Plan plan = bench::ospf_mesh(routers, links);
    return plan;
}

const lab::Lab& mesh_lab() {
    static const lab::Lab lab = lab::build(mesh());
    return lab;
}

void dijkstra_from_every_router(benchmark::State& state) {
    using Graph =
        boost::adjacency_list<boost::vecS, boost::vecS, boost::directedS, boost::no_property,
                              boost::property<boost::edge_weight_t, unsigned>>;
    Graph graph(routers);
    for (const plan::Link& link : mesh().links) {
        unsigned one = static_cast<unsigned>(std::stoul(link.first.value.substr(1)));
        unsigned other = static_cast<unsigned>(std::stoul(link.second.value.substr(1)));
        boost::add_edge(one, other, link.cost, graph);
        boost::add_edge(other, one, link.cost, graph);
    }
    std::vector<unsigned> costs(routers);
    std::vector<unsigned> before(routers);
    for (auto _ : state)
        for (unsigned source = 0; source < routers; ++source) {
            boost::dijkstra_shortest_paths(
                graph, source, boost::distance_map(costs.data()).predecessor_map(before.data()));
            benchmark::DoNotOptimize(costs[routers - 1]);
        }
}

void ospf_from_nothing(benchmark::State& state) {
    routing::Condition condition(mesh_lab());
    routing::Tables tables(mesh_lab());
    for (auto _ : state)
        benchmark::DoNotOptimize(tables.learn(condition));
}

// One link after another is cut, each time from the whole lab; the median is that of all links.
void ospf_after_a_cut(benchmark::State& state) {
    routing::Condition whole(mesh_lab());
    routing::Tables tables(mesh_lab());
    auto before = tables.learn(whole);
    unsigned next = 0;
    std::vector<double> times_us;
    for (auto _ : state) {
        routing::Condition cut(mesh_lab());
        const plan::Link& link = mesh().links[next++ % links];
        cut.cut(mesh_lab(), link.first.value + "--" + link.second.value);
        auto start = std::chrono::steady_clock::now();
        auto after = tables.learn_again(*before, whole, cut);
        std::chrono::duration<double> time = std::chrono::steady_clock::now() - start;
        benchmark::DoNotOptimize(after);
        state.SetIterationTime(time.count());
        times_us.push_back(time.count() * 1e6);
    }
    std::ranges::nth_element(times_us, times_us.begin() + times_us.size() / 2);
    state.counters["median_us"] = times_us[times_us.size() / 2];
}

// Of ten thousand routers; how much memory the process has then.
void ospf_of_ten_thousand(benchmark::State& state) {
    lab::Lab lab = lab::build(bench::ospf_mesh(10 * routers, 10 * links));
    routing::Condition condition(lab);
    routing::Tables tables(lab);
    for (auto _ : state) {
        auto learned = tables.learn(condition);
        std::ifstream status("/proc/self/status");
        for (std::string word; status >> word;)
            if (word == "VmRSS:") {
                double kib = 0;
                status >> kib;
                state.counters["resident_GiB"] = kib / 1024 / 1024;
            }
        benchmark::DoNotOptimize(learned);
    }
}

void bgp(benchmark::State& state) {
    lab::Lab lab = lab::build(bench::bgp_ring(200, static_cast<unsigned>(state.range(0))));
    routing::Condition condition(lab);
    routing::Tables tables(lab);
    for (auto _ : state)
        benchmark::DoNotOptimize(tables.learn(condition));
}

BENCHMARK(dijkstra_from_every_router)->Unit(benchmark::kMillisecond);
BENCHMARK(ospf_from_nothing)->Unit(benchmark::kMillisecond)->UseRealTime();
BENCHMARK(ospf_after_a_cut)->Unit(benchmark::kMicrosecond)->UseManualTime()->Iterations(links);
BENCHMARK(ospf_of_ten_thousand)->Unit(benchmark::kSecond)->Iterations(1)->Repetitions(1);
BENCHMARK(bgp)
    ->Unit(benchmark::kMillisecond)
    ->Arg(25'000)
    ->Arg(50'000)
    ->Arg(100'000)
    ->Iterations(1);

} // namespace

BENCHMARK_MAIN();
