// The whole road from a text to all answers, with whatever libFuzzer makes of the plans in demo/
// and tests/refusals. Nothing may crash, hang or trip a sanitizer.
#include "asks.h"
#include "jackal/plan/read.h"

extern "C" int LLVMFuzzerTestOneInput(const unsigned char* data, std::size_t size) {
    std::string text(reinterpret_cast<const char*>(data), size);
    jackal::plan::Reading reading = jackal::plan::read(text, "fuzz");
    fuzz::reached("texts");
    if (reading.plan)
        fuzz::ask_everything(text, *reading.plan);
    return 0;
}
