// The whole road from a text to an answered ping, with whatever libFuzzer makes of the plans in
// demo/ and tests/refusals. Nothing may crash, hang or trip a sanitizer.
#include "jackal/jackal.h"

using namespace jackal;

namespace {

void use(const std::string& text) {
    volatile std::size_t size = text.size(); // keeps the work from being optimized away
    (void)size;
}

// A text of a few hundred bytes can ask for 10,000 machines; the fuzzer's time is better spent on
// many small labs.
bool is_small(const plan::Plan& plan) {
    return plan.machines.size() <= 64 && plan.subnets.size() <= 64 && plan.links.size() <= 64;
}

void ask_everything(const plan::Plan& plan) {
    lab::Lab lab = lab::build(plan);
    routing::Settled settled = routing::settle(lab);
    use(exports::check_json(plan, lab, reach::check(settled)));
    use(exports::addresses_json(lab));
    use(exports::machines_json(lab));
    if (plan.machines.size() < 2)
        return;
    const std::string& from = plan.machines.front().name;
    const std::string& to = plan.machines.back().name;
    auto question = probe::question(lab, from, to);
    probe::TraceAnswer trace = probe::trace(settled, *question);
    probe::Mending mending = probe::mend(plan, from, to);
    use(exports::trace_json(plan, settled, trace, &mending));
    use(exports::routes_json(settled, {question->from.machine}, trace.ping.destination));
    use(exports::verify_json(lab, probe::verify(settled)));
}

} // namespace

extern "C" int LLVMFuzzerTestOneInput(const unsigned char* data, std::size_t size) {
    std::string_view text(reinterpret_cast<const char*>(data), size);
    plan::Reading reading = plan::read(text, "fuzz");
    if (reading.plan && is_small(reading.plan->entries()))
        ask_everything(reading.plan->written());
    return 0;
}
