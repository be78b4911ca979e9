// What the reader never lets pass, and a plan that a program fills in may have all the same: such a
// plan is written as a text, and read as any other.
#include "jackal/plan/difference.h"
#include "jackal/plan/write.h"
#include "plan/fields/codecs.h"
#include "plan/validate/validate.h"

namespace jackal::plan {

namespace {

// The line that a problem is in, as the place that a plan without a file has.
std::string line_at(std::string_view text, Mark at) {
    for (std::uint32_t line = 1; line < at.line; ++line)
        text.remove_prefix(text.find('\n') + 1);
    text = text.substr(0, text.find('\n'));
    return std::string(text.substr(std::min(text.find_first_not_of(' '), text.size())));
}

} // namespace

std::vector<Problem> value_problems(const Plan& plan) {
    std::vector<Problem> problems;
    for (const Machine& machine : plan.machines)
        if (machine.clone_digits > machine.name.size())
            problems.push_back({machine.at, "more letters of a clone's name than it has"});
    for (const Subnet& subnet : plan.subnets)
        if (subnet.size && subnet.size->value > 32) // as a text it would be one of IPv6
            problems.push_back({subnet.at, "an IPv4 size is /8 to /32"});
    const std::string text = text_of(plan);
    Plan again;
    again.source = plan.source;
    if (auto document = Document::read(text, problems); document && problems.empty()) {
        Reader reader(*document, problems);
        read_entry(reader, document->root(), plan_entry(), again);
    }
    for (Problem& problem : problems)
        if (problem.at)
            problem = {{}, fmt::format("{}, in {}", problem.message, line_at(text, problem.at))};
    if (problems.empty())
        for (const PlaceChange& change : difference(plan, again))
            problems.push_back(
                {{}, fmt::format("cannot be written as it is: {}", to_line(change))});
    return problems;
}

} // namespace jackal::plan
