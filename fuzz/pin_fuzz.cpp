// Pinning, renumbering and the changes of text behind them: every result must be read again, mean
// the same, and be what it is when it is made once more.
#include "jackal/jackal.h"

using namespace jackal;

extern "C" int LLVMFuzzerTestOneInput(const unsigned char* data, std::size_t size) {
    std::string text(reinterpret_cast<const char*>(data), size);
    plan::Reading reading = plan::read(text, "fuzz");
    if (!reading.plan || reading.plan->entries().machines.size() > 64
        || reading.plan->entries().subnets.size() > 64)
        return 0;
    exports::Pinning pinning = exports::pin(text, "fuzz");
    if (pinning.text.has_value() != pinning.problems.empty())
        __builtin_trap();
    if (pinning.text && exports::pin(*pinning.text, "fuzz").text != pinning.text)
        __builtin_trap();
    lab::Lab lab = lab::build(*reading.plan);
    for (const lab::Site& site : lab.sites)
        for (const char* to : {"10.200.0.0/16", "fd77::/48", "10.201.0.0/26"}) {
            exports::Renumbering answer =
                exports::renumber(text, "fuzz", {}, site.name, *net::parse_prefix(to));
            if (answer.text && !plan::read(*answer.text, "fuzz").plan)
                __builtin_trap();
        }
    return 0;
}
