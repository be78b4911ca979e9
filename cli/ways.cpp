#include "command.h"

#include <fmt/format.h>

namespace jackal::cli {

namespace {

struct WaysOptions {
    PlanOptions plan;
    std::vector<std::string> words; // [PLAN] SITE SITE
};

constexpr std::size_t most_changes_shown = 12;

std::string ways_text(const Style& style, const std::string& one, const std::string& other,
                      const std::vector<reach::Way>& ways) {
    Table table({"way", "replies", "round trip", "MTU", "hourly cost", "changes"});
    for (std::size_t column : {1, 2, 3, 4, 5})
        table.right(column);
    std::string changes;
    for (const reach::Way& way : ways) {
        std::string name(reach::to_string(way.kind));
        if (!way.impossible.empty()) {
            table.add({style.strong(name), style.faint("cannot be"), "-", "-", "-", "-"});
            changes += fmt::format("\n{}\n{}\n", style.strong(name),
                                   style.paragraph("cannot be: " + way.impossible, 2));
            continue;
        }
        bool all = way.replies == way.pairs;
        std::string replies = fmt::format("{} of {}", way.replies, way.pairs);
        std::vector<std::string> lines = exports::way_lines(way);
        bool any = way.replies != 0;
        table.add({style.strong(name), all ? style.good(replies) : replies,
                   any ? fmt::format("{:.2f} ms", way.round_trip.count() / 1000) : "-",
                   any ? fmt::format("{}", way.mtu_bytes) : "-",
                   fmt::format("{:.2f}", way.hourly_cost), fmt::format("{}", lines.size())});
        if (lines.empty() && way.gap.empty())
            continue;
        changes += fmt::format("\n{}\n", style.strong(name));
        for (std::size_t i = 0; i < std::min(lines.size(), most_changes_shown); ++i)
            changes += fmt::format("  {}\n", lines[i]);
        if (lines.size() > most_changes_shown)
            changes += fmt::format("  and {} more\n", lines.size() - most_changes_shown);
        if (!way.gap.empty())
            changes += style.paragraph(fmt::format("{} {}", style.bad("gap"), way.gap), 2) + "\n";
    }
    return fmt::format("from {} to {} and back\n\n", style.strong(one), style.strong(other))
           + table.text(style) + changes;
}

Outcome ways(WaysOptions& options, const Style& style) {
    if (options.words.size() == 3)
        options.plan.path = options.words.front();
    else if (names_a_plan(options.words.front()))
        throw NotAsked("write [PLAN] SITE SITE; a site is missing");
    Opened opened = open_plan(options.plan);
    lab::SiteId ends[2];
    for (std::size_t i : {0, 1}) {
        const std::string& name = options.words[options.words.size() - 2 + i];
        ends[i] = site_named(opened.lab, name);
        if (opened.lab.sites[ends[i]].outside)
            throw NotAsked(fmt::format("{} is no site of the lab", name));
    }
    if (ends[0] == ends[1])
        throw NotAsked("write two different sites");
    auto found = reach::ways(opened.plan, opened.lab, ends[0], ends[1]);
    if (options.plan.json())
        return {exports::ways_json(opened.lab, ends[0], ends[1], found) + "\n"};
    return {
        ways_text(style, opened.lab.sites[ends[0]].name, opened.lab.sites[ends[1]].name, found)};
}

} // namespace

void add_ways(CLI::App& app, Run& run) {
    auto options = std::make_shared<WaysOptions>();
    CLI::App* command = app.add_subcommand(
        "ways", "what a peering, a tunnel and a wire would each bring two sites");
    command->add_option("SITE_WORDS", options->words, "PLAN is as for jackal check")
        ->required()
        ->expected(2, 3)
        ->type_name("");
    add_common_options(*command, options->plan);
    command->footer("Example:\n"
                    "  jackal ways skerry.yaml harbour vessel\n"
                    "\n"
                    "Each way is built on a copy of the plan and asked: reach, time, MTU, what it\n"
                    "costs an hour, and what must be changed at each site.");
    command->callback(
        [&run, options] { run = [options](const Style& style) { return ways(*options, style); }; });
}

} // namespace jackal::cli
