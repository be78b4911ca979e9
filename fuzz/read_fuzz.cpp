// The reader alone, which sees many more texts a second than the whole road.
#include "jackal/plan/read.h"

extern "C" int LLVMFuzzerTestOneInput(const unsigned char* data, std::size_t size) {
    std::string_view text(reinterpret_cast<const char*>(data), size);
    jackal::plan::Reading reading = jackal::plan::read(text, "fuzz", {{"crew", "60"}});
    if (reading.plan.has_value() != reading.problems.empty())
        __builtin_trap();
    return 0;
}
