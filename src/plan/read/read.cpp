#include "jackal/plan/read.h"

#include "parameters.h"
#include "plan/fields/codecs.h"

#include <algorithm>
#include <array>
#include <fstream>

namespace jackal::plan {

namespace {

// A parameter may choose among the regions that the plan names, and bring no new one: a region that
// nothing is told of has the usual distances, so a slip would go unseen.
void check_regions_set(Reader& r, std::string_view text, const Plan& plan) {
    std::vector<std::string> known;
    for (const SiteRegion& region : plan.regions) {
        known.push_back(region.name);
        for (const auto& [name, distance] : region.to)
            known.push_back(name.value);
    }
    auto is_known = [&](const Site& site) {
        return site.region.empty() || std::ranges::find(known, site.region) != known.end();
    };
    if (std::ranges::all_of(plan.sites, is_known))
        return;
    const Reading unset = read(text, plan.source);
    if (!unset.plan)
        return;
    for (const Site& site : unset.plan->written().sites)
        known.push_back(site.region);
    for (const Site& site : plan.sites)
        if (!is_known(site))
            r.problem(site.at, fmt::format("there is no region \"{}\"", site.region));
}

} // namespace

Reading read(std::string_view text, std::string source, const Settings& settings) {
    Reading reading;
    reading.source = source;
    if (auto document = Document::read(text, reading.problems)) {
        Plan plan;
        plan.source = std::move(source);
        Reader reader(*document, reading.problems);
        fill_in_parameters(*document, reader, settings);
        if (document->kind(document->root()) == NodeKind::mapping)
            read_entry(reader, document->root(), plan_entry(), plan);
        else
            reader.problem(document->root(), "a plan is a mapping that starts with `lab: NAME`");
        if (!settings.empty())
            check_regions_set(reader, text, plan);
        std::vector<Problem> found;
        auto whole = Complete::of(std::move(plan), found);
        bool is_read = reading.problems.empty(); // else what has no place follows from that
        for (Problem& problem : found)
            if (is_read || problem.at)
                reader.problem(problem.at, std::move(problem.message));
        if (reading.problems.empty())
            reading.plan = std::move(whole);
    }
    std::stable_sort(
        reading.problems.begin(), reading.problems.end(), [](const Problem& a, const Problem& b) {
            return std::pair(a.at.line, a.at.column) < std::pair(b.at.line, b.at.column);
        });
    auto same = [](const Problem& a, const Problem& b) {
        return a.at == b.at && a.message == b.message; // of an entry that others are like
    };
    auto repeated = std::ranges::unique(reading.problems, same);
    reading.problems.erase(repeated.begin(), repeated.end());
    for (Problem& problem : reading.problems)
        problem.message = printable(problem.message);
    return reading;
}

std::string text_of(std::istream& stream) {
    std::string text;
    std::array<char, 1 << 16> part{};
    while (text.size() <= limits::plan_bytes && (stream.read(part.data(), part.size()), true)
           && stream.gcount() > 0)
        text.append(part.data(), static_cast<std::size_t>(stream.gcount()));
    return text;
}

Reading read_file(const std::string& path, const Settings& settings) {
    std::ifstream file(path, std::ios::binary);
    std::string text = text_of(file);
    if (text.empty()) {
        Reading reading;
        reading.source = path;
        reading.problems.push_back({{}, "cannot be opened, or is empty"});
        return reading;
    }
    return read(text, path, settings);
}

} // namespace jackal::plan