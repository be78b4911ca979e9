// From the text of a plan to a lab, beside libyaml's own load of the same bytes into a document.
#include "jackal/lab/build.h"
#include "jackal/plan/read.h"
#include "plans.h"

#include <benchmark/benchmark.h>
#include <yaml.h>

using namespace jackal;

namespace {

const std::string& text_for(std::int64_t scale) {
    static const std::string once = bench::tree_text(10'000, 20'000, 500);
    static const std::string tenfold = bench::tree_text(100'000, 200'000, 5'000);
    return scale == 1 ? once : tenfold;
}

void libyaml_document(benchmark::State& state) {
    const std::string& text = text_for(state.range(0));
    for (auto _ : state) {
        yaml_parser_t parser;
        yaml_document_t document;
        yaml_parser_initialize(&parser);
        yaml_parser_set_input_string(&parser, reinterpret_cast<const unsigned char*>(text.data()),
                                     text.size());
        if (yaml_parser_load(&parser, &document) == 0)
            state.SkipWithError("not loaded");
        yaml_document_delete(&document);
        yaml_parser_delete(&parser);
    }
    state.SetBytesProcessed(static_cast<std::int64_t>(text.size()) * state.iterations());
}

void text_to_lab(benchmark::State& state) {
    const std::string& text = text_for(state.range(0));
    for (auto _ : state) {
        plan::Reading reading = plan::read(text, "bench");
        lab::Lab lab = lab::build(*reading.plan);
        benchmark::DoNotOptimize(lab.nics.size());
    }
    state.SetBytesProcessed(static_cast<std::int64_t>(text.size()) * state.iterations());
}

} // namespace

// The argument is the size: 1 for 10,000 subnets, 20,000 guests and 500 routers; 10 for tenfold.
BENCHMARK(libyaml_document)->Arg(1)->Arg(10)->Unit(benchmark::kMillisecond);
BENCHMARK(text_to_lab)->Arg(1)->Arg(10)->Unit(benchmark::kMillisecond);
BENCHMARK_MAIN();
