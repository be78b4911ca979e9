// Pings that come in by a wire and are answered, beside the two walks that the answer is made of,
// and beside reading and writing the frames alone.
#include "jackal/export/capture.h"
#include "jackal/export/wire.h"
#include "jackal/lab/build.h"
#include "jackal/plan/read.h"
#include "jackal/probe/question.h"
#include "jackal/probe/sightings.h"
#include "plans.h"

#include <benchmark/benchmark.h>
#include <tins/tins.h>

using namespace jackal;

namespace {

const lab::Lab& lab() {
    static const plan::Complete plan = *plan::read(bench::whole_text(200, 50, 120), "bench").plan;
    static const lab::Lab lab = lab::build(plan);
    return lab;
}

const routing::Settled& settled() {
    static const routing::Settled settled = routing::settle(lab());
    return settled;
}

// From the first guest to the last one.
const probe::PingQuestion& question() {
    static const probe::PingQuestion question = [] {
        std::vector<std::string> guests;
        for (const lab::Machine& machine : lab().machines)
            if (machine.kind == plan::MachineKind::guest)
                guests.push_back(machine.name);
        return *probe::question(lab(), guests.front(), guests.back(), {.count = 1});
    }();
    return question;
}

const exports::Bytes& frame() {
    static const exports::Bytes frame = [] {
        probe::Sightings sightings;
        sightings.add(settled(), probe::exchange(settled(), question()), std::chrono::seconds(1));
        for (const probe::Sighting& sighting : sightings.take())
            if (sighting.frame.bears == probe::Bears::echo_request)
                return exports::bytes_of(lab(), sighting.frame);
        return exports::Bytes{};
    }();
    return frame;
}

void walks(benchmark::State& state) {
    for (auto _ : state)
        benchmark::DoNotOptimize(probe::exchange(settled(), question()).received);
    state.SetItemsProcessed(state.iterations());
}

void bytes(benchmark::State& state) {
    for (auto _ : state)
        benchmark::DoNotOptimize(
            Tins::EthernetII(frame().data(), static_cast<std::uint32_t>(frame().size()))
                .serialize());
    state.SetItemsProcessed(state.iterations());
}

void answered(benchmark::State& state) {
    const lab::NicId nic = *lab().nics_of(question().from.machine).begin();
    exports::Wire wire(lab(), {nic});
    probe::Microseconds now{0};
    std::int64_t answers = 0;
    for (auto _ : state) {
        now += std::chrono::milliseconds(1);
        wire.receive(now, nic, frame());
        answers += static_cast<std::int64_t>(wire.due(now).size());
    }
    if (answers + 10'000 < state.iterations())
        state.SkipWithError("pings stay without answers");
    state.SetItemsProcessed(state.iterations());
}

BENCHMARK(walks);
BENCHMARK(bytes);
BENCHMARK(answered);

} // namespace

BENCHMARK_MAIN();
