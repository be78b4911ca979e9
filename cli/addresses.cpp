#include "command.h"

#include <fmt/format.h>

namespace jackal::cli {

namespace {

std::string free_text(const lab::PrefixUsage& row) {
    constexpr std::uint64_t readable = 10'000'000;
    return row.free > readable ? "plenty" : fmt::format("{}", row.free);
}

} // namespace

std::string addresses_text(const Style& style, const lab::Lab& lab) {
    Table table({"segment", "prefix", "usable", "", "gateway", "used", "free"});
    table.right(5);
    table.right(6);
    std::vector<lab::PrefixUsage> rows = lab::usage(lab);
    auto add_group = [&](const std::string& heading, lab::SiteId site) {
        std::string last;
        for (const lab::PrefixUsage& row : rows) {
            if (row.site != site)
                continue;
            if (last.empty())
                table.add_line("\n" + heading);
            std::string name = lab.segment_name(row.segment);
            table.add({name == last ? "" : name, net::to_string(row.prefix),
                       net::to_string(row.prefix.first_usable()),
                       fmt::format("to {}", net::to_string(row.prefix.last_usable())),
                       row.gateway ? net::to_string(*row.gateway) : "none",
                       fmt::format("{}", row.used), free_text(row)});
            last = name;
        }
    };
    for (lab::SiteId site : lab.sites.ids()) {
        const lab::Site& entry = lab.sites[site];
        std::string space;
        for (const net::Prefix& prefix : entry.space)
            space += " " + net::to_string(prefix);
        add_group(entry.name.empty() ? fmt::format("lab {}", style.strong(lab.name))
                                     : fmt::format("site {}{}", style.strong(entry.name), space),
                  site);
    }
    add_group("links", {});
    return table.text(style, 2);
}

void add_addresses(CLI::App& app, Run& run) {
    auto options = std::make_shared<PlanOptions>();
    CLI::App* command =
        app.add_subcommand("addresses", "the address plan: prefixes, gateways, used and free");
    add_plan_options(*command, *options, false);
    command->footer("Example:\n"
                    "  jackal addresses skerry.yaml");
    command->callback([&run, options] {
        run = [options](const Style& style) -> Outcome {
            Opened opened = open_plan(*options);
            if (options->json())
                return {exports::addresses_json(opened.lab) + "\n"};
            return {addresses_text(style, opened.lab)};
        };
    });
}

} // namespace jackal::cli
