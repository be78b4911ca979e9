// Every answer, to plans that are made from the schema. Nothing may crash, hang or trip a
// sanitizer.
#include "asks.h"
#include "grammar.h"
#include "jackal/plan/read.h"

extern "C" int LLVMFuzzerTestOneInput(const unsigned char* data, std::size_t size) {
    std::string text = fuzz::plan_from({data, size});
    jackal::plan::Reading reading = jackal::plan::read(text, "fuzz");
    fuzz::reached("texts");
    if (reading.plan)
        fuzz::ask_everything(text, *reading.plan);
    return 0;
}
