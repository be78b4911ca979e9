#include "lab/mistakes/inspection.h"

#include <fmt/format.h>

namespace jackal::lab {

using plan::Cause;

void exceeded_limits(Inspection& in) {
    Totals sum;
    for (const Site& site : in.lab.sites) {
        sum.cpus += site.totals.cpus;
        sum.memory_mib += site.totals.memory_mib;
        sum.disk_mib += site.totals.disk_mib;
    }
    auto compare = [&](std::string_view what, auto text, std::uint64_t has, std::uint64_t limit) {
        if (limit != 0 && has > limit)
            in.find(Cause::limits_exceeded, Severity::error, std::string(what),
                    fmt::format("the machines ask for {} {}, and the limit is {}", text(has), what,
                                text(limit)),
                    {{}, fmt::format("ask for less {}, or raise the limit", what)},
                    in.lab.limits.at);
    };
    const plan::Sizes& limit = in.lab.limits.sizes;
    compare(
        "cpus", [](std::uint64_t n) { return fmt::format("{}", n); }, sum.cpus, limit.cpus);
    compare("memory", plan::size_text, sum.memory_mib, limit.memory_mib);
    compare("disk", plan::size_text, sum.disk_mib, limit.disk_mib);
}

} // namespace jackal::lab
