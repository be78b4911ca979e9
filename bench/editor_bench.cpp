// What an editor waits for, in a plan of 1,000 subnets, beside reading that plan.
#include "jackal/editor/completion.h"
#include "jackal/editor/view.h"
#include "jackal/plan/read.h"
#include "plans.h"

#include <benchmark/benchmark.h>

using namespace jackal;

namespace {

const std::string& text() {
    static const std::string text = bench::tree_text(1'000, 2'000, 50);
    return text;
}

const editor::View& view() {
    static const editor::View view(text(), "bench");
    return view;
}

// The use of a name in the middle of the plan.
const editor::Mention& mention() {
    const auto& all = view().outline()->mentions();
    static const editor::Mention& found =
        *std::find_if(all.begin() + static_cast<std::ptrdiff_t>(all.size() / 2), all.end(),
                      [](const editor::Mention& one) { return !one.is_entry; });
    return found;
}

void read_plan(benchmark::State& state) {
    for (auto _ : state)
        benchmark::DoNotOptimize(plan::read(text(), "bench").plan.has_value());
}

void look_at(benchmark::State& state) {
    for (auto _ : state)
        benchmark::DoNotOptimize(editor::View(text(), "bench").settled());
}

void outline(benchmark::State& state) {
    for (auto _ : state)
        benchmark::DoNotOptimize(editor::Outline::read(text())->mentions().size());
}

void symbols(benchmark::State& state) {
    for (auto _ : state)
        benchmark::DoNotOptimize(view().outline()->symbols().size());
}

void hover(benchmark::State& state) {
    for (auto _ : state)
        benchmark::DoNotOptimize(editor::hover(view(), nullptr, mention().at.begin));
}

void complete(benchmark::State& state) {
    for (auto _ : state)
        benchmark::DoNotOptimize(
            editor::complete(text(), mention().at.begin, view().outline(), view().lab())
                .all.size());
}

void rename_entry(benchmark::State& state) {
    for (auto _ : state)
        benchmark::DoNotOptimize(
            editor::rename(text(), *view().outline(), mention().at.begin, "zebra").size());
}

void hints(benchmark::State& state) {
    for (auto _ : state)
        benchmark::DoNotOptimize(editor::hints(view()).size());
}

} // namespace

BENCHMARK(read_plan)->Unit(benchmark::kMillisecond);
BENCHMARK(look_at)->Unit(benchmark::kMillisecond);
BENCHMARK(outline)->Unit(benchmark::kMillisecond);
BENCHMARK(symbols)->Unit(benchmark::kMillisecond);
BENCHMARK(hover)->Unit(benchmark::kMillisecond);
BENCHMARK(complete)->Unit(benchmark::kMillisecond);
BENCHMARK(rename_entry)->Unit(benchmark::kMillisecond);
BENCHMARK(hints)->Unit(benchmark::kMillisecond);
BENCHMARK_MAIN();
