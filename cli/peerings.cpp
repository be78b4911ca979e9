#include "command.h"

#include <fmt/format.h>

namespace jackal::cli {

namespace {

struct PeeringsOptions {
    PlanOptions plan;
    std::string site;
    std::string add; // SITE=PREFIX
};

std::string state_text(const Style& style, const routing::Settled& settled,
                       const lab::Peering& peering) {
    if (peering.state != plan::PeeringState::up)
        return style.bad(plan::to_string(peering.state));
    return settled.condition().link_up(peering.link) ? style.good("up") : style.bad("down");
}

std::string peering_name(const lab::Lab& lab, lab::PeeringId id) {
    const lab::Peering& peering = lab.peerings[id];
    return fmt::format("{}--{}", lab.sites[peering.sites[0]].name,
                       lab.sites[peering.sites[1]].name);
}

// What keeps those that are not up from carrying anything.
std::string missing_text(const Style& style, const Opened& opened,
                         const std::vector<lab::PeeringId>& peerings) {
    std::string out;
    for (lab::PeeringId id : peerings) {
        const lab::Peering& peering = opened.lab.peerings[id];
        if (peering.state == plan::PeeringState::up)
            continue;
        lab::Finding f = lab::describe(opened.lab, peering);
        out += fmt::format("\n{}  {}\n    {}\n", style.strong(plan::slug(f.cause)),
                           style.faint(plan::to_string(f.at, opened.lab.source)), f.message);
        for (const std::string& line : lab::to_lines(f.remedy))
            out += fmt::format("    {} {}\n", style.good("remedy"), line);
    }
    return out;
}

// Whether a site could get one more range, as far as its peers go.
Outcome would_fit(const Style& style, const Opened& opened, const std::string& wish) {
    std::size_t equals = wish.find('=');
    auto prefix = equals == wish.npos ? std::nullopt : net::parse_prefix(wish.substr(equals + 1));
    if (!prefix)
        throw NotAsked(fmt::format("--add {}: write --add SITE=PREFIX", wish));
    lab::SiteId site = site_named(opened.lab, wish.substr(0, equals));
    std::string out;
    std::size_t peers = 0;
    for (const lab::Peering& peering : opened.lab.peerings) {
        int side = peering.side_of(site);
        if (side < 0)
            continue;
        ++peers;
        const lab::Site& peer = opened.lab.sites[peering.sites[1 - side]];
        for (const net::Prefix& range : lab::ranges_of(opened.lab, peering.sites[1 - side]))
            if (range.overlaps(*prefix))
                out += fmt::format("  {}  {} of its peer {} overlaps it\n", style.bad("no"),
                                   net::to_string(range), style.strong(peer.name));
    }
    std::string what = fmt::format("{} for site {}: ", net::to_string(*prefix),
                                   style.strong(opened.lab.sites[site].name));
    if (out.empty())
        return {what + fmt::format("overlaps nothing of its {}\n", counted(peers, "peer"))};
    return {what + "the peering would be blocked\n" + out, status_no};
}

Outcome peerings(PeeringsOptions& options, const Style& style) {
    if (options.site.empty() && !options.plan.path.empty() && !names_a_plan(options.plan.path))
        std::swap(options.site, options.plan.path); // one word, and it is a site
    Opened opened = open_plan(options.plan);
    if (!options.add.empty())
        return would_fit(style, opened, options.add);
    routing::Settled settled = settle(opened, options.plan);
    std::vector<lab::PeeringId> wanted;
    bool all_up = true;
    std::optional<lab::SiteId> site;
    if (!options.site.empty())
        site = site_named(opened.lab, options.site);
    for (lab::PeeringId id : opened.lab.peerings.ids()) {
        const lab::Peering& peering = opened.lab.peerings[id];
        if (site && peering.side_of(*site) < 0)
            continue;
        wanted.push_back(id);
        all_up &= peering.link && settled.condition().link_up(peering.link);
    }
    int status = all_up ? status_well : status_no;
    if (options.plan.json())
        return {json_of(opened, options.plan, settled,
                        [&](const routing::Settled& asked) {
                            return exports::peerings_json(asked, wanted);
                        }),
                status};
    if (options.plan.format == Format::csv)
        return {exports::peerings_csv(opened.lab, wanted), status};
    if (wanted.empty())
        return {"no peerings\n"};
    Rows rows{{"peering", "state"}, 1, [&](const routing::Settled& asked) {
                  std::vector<std::vector<std::string>> states;
                  for (lab::PeeringId id : wanted)
                      states.push_back({peering_name(opened.lab, id),
                                        state_text(Style(false), asked, opened.lab.peerings[id])});
                  return states;
              }};
    return {peerings_table(style, settled, wanted) + missing_text(style, opened, wanted)
                + changes_text(style, opened, options.plan, settled, rows),
            status};
}

} // namespace

std::string peerings_table(const Style& style, const routing::Settled& settled,
                           const std::vector<lab::PeeringId>& peerings) {
    const lab::Lab& lab = settled.lab();
    Table table({"peering", "state", "one side", "other side", "delay", "hourly cost"});
    table.right(4);
    table.right(5);
    for (lab::PeeringId id : peerings) {
        const lab::Peering& peering = lab.peerings[id];
        auto side = [&](int number) {
            return fmt::format("{} {}", lab.sites[peering.sites[number]].name,
                               lab::side_text(peering, number));
        };
        table.add({style.strong(peering_name(lab, id)), state_text(style, settled, peering),
                   side(0), side(1),
                   fmt::format("{:g} ms", probe::Microseconds(peering.delay).count() / 1000),
                   fmt::format("{:.2f}", peering.hourly_cost)});
    }
    return table.text(style);
}

void add_peerings(CLI::App& app, Run& run) {
    auto options = std::make_shared<PeeringsOptions>();
    CLI::App* command =
        app.add_subcommand("peerings", "what the sites consent to, and what comes of it");
    add_table_options(*command, options->plan);
    add_cuts(*command, options->plan);
    command->add_option("SITE", options->site, "only the peerings of this site");
    command
        ->add_option("--add", options->add,
                     "whether a site could get one more range, as far as its peers go")
        ->type_name("SITE=PREFIX");
    command->footer("Examples:\n"
                    "  jackal peerings skerry.yaml\n"
                    "  jackal peerings skerry.yaml --add harbour=10.45.0.0/20\n"
                    "\n"
                    "Exit status 1 if a peering carries nothing, or the range overlaps.");
    command->callback([&run, options] {
        run = [options](const Style& style) { return peerings(*options, style); };
    });
}

} // namespace jackal::cli
