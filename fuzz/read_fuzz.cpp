// The reader, and what editors ask of a text that may be half written: they see many more texts a
// second than the whole road.
#include "jackal/editor/completion.h"
#include "jackal/editor/position.h"
#include "jackal/plan/read.h"

extern "C" int LLVMFuzzerTestOneInput(const unsigned char* data, std::size_t size) {
    std::string_view text(reinterpret_cast<const char*>(data), size);
    jackal::plan::Reading reading = jackal::plan::read(text, "fuzz", {{"crew", "60"}});
    if (reading.plan.has_value() != reading.problems.empty())
        __builtin_trap();
    using namespace jackal::editor;
    const Positions positions(text, Unit::utf16);
    const jackal::plan::Mark mark = positions.mark(
        {static_cast<std::uint32_t>(size % 41), static_cast<std::uint32_t>(size % 23)});
    const auto outline = Outline::read(text);
    const Completions found = complete(text, mark, outline ? &*outline : nullptr, nullptr);
    if (found.at.end != mark)
        __builtin_trap();
    if (!outline)
        return 0;
    outline->spot(mark);
    outline->symbols();
    for (const Mention& mention : outline->mentions())
        if (outline->entry(mention) == nullptr || outline->at(mention.at.begin) == nullptr)
            __builtin_trap();
    return 0;
}
