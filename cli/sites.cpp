#include "command.h"

#include <fmt/format.h>

namespace jackal::cli {

namespace {

std::string cell(const Style& style, const reach::SitePair& row) {
    if (row.pairs == 0)
        return style.faint("-");
    std::string text = fmt::format("{}/{}", row.replies, row.pairs);
    return row.replies == row.pairs ? style.good(text) : style.bad(text);
}

std::string site_name(const lab::Lab& lab, lab::SiteId site) {
    return lab.sites[site].name.empty() ? "the lab" : lab.sites[site].name;
}

std::string time_text(const reach::SitePair& pair) {
    return pair.replies == 0 ? "-" : fmt::format("{:.2f} ms", milliseconds(pair.round_trip));
}

std::vector<std::vector<std::string>> site_rows(const lab::Lab& lab,
                                                const reach::SiteReach& reach) {
    std::vector<std::vector<std::string>> rows;
    for (std::size_t i = 0; i < reach.rows.size(); ++i) {
        const reach::SitePair& pair = reach.rows[i];
        rows.push_back({site_name(lab, reach.sites[i / reach.sites.size()]),
                        site_name(lab, reach.sites[i % reach.sites.size()]),
                        fmt::format("{}/{}", pair.replies, pair.pairs), time_text(pair)});
    }
    return rows;
}

std::string sites_text(const Style& style, const lab::Lab& lab, const reach::SiteReach& reach) {
    std::vector<std::string> headings{"from \\ to"};
    for (lab::SiteId site : reach.sites)
        headings.push_back(site_name(lab, site));
    Table table(headings);
    Table times(headings);
    std::string gaps;
    for (std::size_t from = 0; from * reach.sites.size() < reach.rows.size(); ++from) {
        std::vector<std::string> row{style.strong(headings[from + 1])};
        std::vector<std::string> time = row;
        for (std::size_t to = 0; to < reach.sites.size(); ++to) {
            const reach::SitePair& pair = reach.rows[from * reach.sites.size() + to];
            row.push_back(cell(style, pair));
            time.push_back(pair.replies == 0 ? style.faint("-") : time_text(pair));
            if (pair.first_gap)
                gaps +=
                    fmt::format("\n{} to {}  {}  {}\n    between {}: {}\n", headings[from + 1],
                                headings[to + 1], style.strong(plan::slug(pair.first_gap->cause)),
                                style.faint(plan::to_string(pair.first_gap->at, lab.source)),
                                pair.gap_between, pair.first_gap->explanation);
        }
        table.add(row);
        times.add(time);
    }
    return "pings between subnets with guests that get their reply\n" + table.text(style)
           + "\nmean round trip\n" + times.text(style) + gaps;
}

} // namespace

void add_sites(CLI::App& app, Run& run) {
    auto options = std::make_shared<PlanOptions>();
    CLI::App* command = app.add_subcommand("sites", "which sites reach which, and why not");
    add_table_options(*command, *options);
    add_cuts(*command, *options);
    command->footer("Example:\n"
                    "  jackal sites skerry.yaml\n"
                    "\n"
                    "One machine of every subnet pings one of every other.");
    command->callback([&run, options] {
        run = [options](const Style& style) -> Outcome {
            Opened opened = open_plan(*options);
            routing::Settled settled = settle(opened, *options);
            Progress progress("asking");
            reach::SiteReach reach = reach::between_sites(settled, std::ref(progress));
            auto reach_of = [&](const routing::Settled& asked) {
                return &asked == &settled ? reach : reach::between_sites(asked, std::ref(progress));
            };
            if (options->json())
                return {json_of(opened, *options, settled, [&](const routing::Settled& asked) {
                    return exports::sites_json(opened.lab, reach_of(asked));
                })};
            if (options->format == Format::csv)
                return {exports::sites_csv(opened.lab, reach)};
            Rows rows{
                {"from", "to", "replies", "round trip"}, 2, [&](const routing::Settled& asked) {
                    return site_rows(opened.lab, reach_of(asked));
                }};
            return {sites_text(style, opened.lab, reach)
                    + changes_text(style, opened, *options, settled, rows)};
        };
    });
}

} // namespace jackal::cli
