#include "command.h"

#include <fmt/format.h>
#include <set>

namespace jackal::cli {

namespace {

struct NeighboursOptions {
    PlanOptions plan;
    std::string machine;
    bool database = false;
    bool announced = false;
};

std::string state_text(const Style& style, const routing::Neighbour& neighbour) {
    std::string_view state = routing::state_name(neighbour);
    if (neighbour.discord == routing::Discord::none)
        return style.good(state);
    return routing::may_be_meant(neighbour.discord) ? style.warning(state) : style.bad(state);
}

std::vector<std::string> cells(const Style& style, const lab::Lab& lab,
                               const routing::Neighbour& n) {
    return {std::string(routing::to_string(n.protocol)), n.nic ? lab.nics[n.nic].name : "",
            n.other ? lab.machines[n.other].name
                    : lab.speaker(n.machine)->bgp->neighbours[n.configured].name,
            state_text(style, n),
            n.transit                             ? fmt::format("virtual link, area {}", *n.transit)
            : n.designated                        ? "designated router"
            : n.discord == routing::Discord::none ? ""
                                                  : std::string(slug(n.discord))};
}

std::vector<std::vector<std::string>>
neighbour_rows(const lab::Lab& lab, const std::vector<routing::Neighbour>& neighbours) {
    std::vector<std::vector<std::string>> rows;
    for (const routing::Neighbour& n : neighbours) {
        std::vector<std::string> row = cells(Style(false), lab, n);
        row.insert(row.begin() + 3, std::string(net::to_string(n.family)));
        row.insert(row.begin(), lab.machines[n.machine].name);
        rows.push_back(std::move(row));
    }
    return rows;
}

// Both families on one line where they fare alike.
std::string neighbours_text(const Style& style, const lab::Lab& lab,
                            const std::vector<routing::Neighbour>& neighbours) {
    Table table({"machine", "protocol", "out", "neighbour", "state", "", "family"});
    std::vector<std::pair<std::string, std::vector<std::string>>> rows; // with the machine
    std::string reasons;
    std::set<std::tuple<routing::Protocol, routing::Discord, lab::MachineId, lab::MachineId>> told;
    for (const routing::Neighbour& n : neighbours) {
        std::vector<std::string> row = cells(style, lab, n);
        const std::string& name = lab.machines[n.machine].name;
        std::string family(net::to_string(n.family));
        auto same = std::ranges::find_if(rows, [&](const auto& known) {
            return known.first == name && std::equal(row.begin(), row.end(), known.second.begin());
        });
        if (same != rows.end()) {
            same->second.back() += ", " + family;
        } else {
            row.push_back(family);
            rows.emplace_back(name, std::move(row));
        }
        // Both ends have the same reason.
        if (n.discord != routing::Discord::none
            && told.emplace(n.protocol, n.discord, std::min(n.machine, n.other),
                            std::max(n.machine, n.other))
                   .second)
            reasons += fmt::format("  {}\n", routing::describe(lab, n).message);
    }
    if (rows.empty())
        return "no machine speaks a routing protocol\n";
    std::string last;
    for (auto& [name, row] : rows) {
        row.insert(row.begin(), name == last ? "" : style.strong(name));
        last = name;
        table.add(row);
    }
    return table.text(style) + (reasons.empty() ? "" : "\n" + reasons);
}

std::vector<std::string> cells(const lab::Lab& lab, const routing::LinkState& state) {
    return {std::string(net::to_string(state.family)),
            fmt::format("{}", state.area),
            std::string(routing::to_string(state.kind))
                + (state.type == 0 ? "" : fmt::format(" {}", state.type)),
            lab.machines[state.origin].name,
            state.neighbour ? lab.machines[state.neighbour].name : net::to_string(state.to),
            fmt::format("{}", state.cost),
            state.forward ? net::to_string(*state.forward) : ""};
}

std::vector<std::vector<std::string>> database_rows(const routing::Settled& settled,
                                                    const std::vector<lab::MachineId>& machines) {
    std::vector<std::vector<std::string>> rows;
    for (lab::MachineId id : machines)
        for (const routing::LinkState& state : settled.learned(id).link_states(id)) {
            rows.push_back(cells(settled.lab(), state));
            rows.back().insert(rows.back().begin(), settled.lab().machines[id].name);
        }
    return rows;
}

std::string database_text(const Style& style, const lab::Lab& lab, const routing::Settled& settled,
                          const std::vector<lab::MachineId>& machines) {
    std::string out;
    for (lab::MachineId id : machines) {
        Table table({"family", "area", "kind", "from", "to", "cost", "forwarding address"});
        auto states = settled.learned(id).link_states(id);
        for (const routing::LinkState& state : states)
            table.add(cells(lab, state));
        if (!states.empty())
            out += (out.empty() ? "" : "\n") + style.strong(lab.machines[id].name) + "\n"
                   + table.text(style, 2);
    }
    return out.empty() ? "no machine speaks OSPF\n" : out;
}

std::vector<std::string> cells(const routing::Neighbour& n, const routing::Offer& offer) {
    bool bgp = n.protocol == routing::Protocol::bgp;
    return {net::to_string(offer.to), fmt::format("{}", offer.metric),
            bgp ? exports::as_path_text(offer.path) : "",
            bgp ? fmt::format("{}", offer.path.local_preference) : "",
            exports::communities_text(offer.path)};
}

std::vector<std::vector<std::string>>
announced_rows(const routing::Settled& settled, const std::vector<routing::Neighbour>& neighbours) {
    std::vector<std::vector<std::string>> rows;
    for (const routing::Neighbour& n : neighbours)
        for (const routing::Offer& offer : settled.learned(n.machine).announced(n)) {
            std::vector<std::string> row{settled.lab().machines[n.machine].name,
                                         settled.lab().machines[n.other].name,
                                         std::string(routing::to_string(n.protocol))};
            std::ranges::move(cells(n, offer), std::back_inserter(row));
            rows.push_back(std::move(row));
        }
    return rows;
}

std::string announced_text(const Style& style, const lab::Lab& lab, const routing::Settled& settled,
                           const std::vector<routing::Neighbour>& neighbours) {
    std::string out;
    for (const routing::Neighbour& n : neighbours) {
        auto offers = settled.learned(n.machine).announced(n);
        if (offers.empty())
            continue;
        out +=
            fmt::format("{}{} to {} by {}\n", out.empty() ? "" : "\n",
                        style.strong(lab.machines[n.machine].name),
                        style.strong(lab.machines[n.other].name), routing::to_string(n.protocol));
        Table table({"to", "metric", "AS path", "local preference", "communities"});
        for (const routing::Offer& offer : offers)
            table.add(cells(n, offer));
        out += table.text(style, 2);
    }
    return out.empty() ? "nothing is announced by RIP or BGP; OSPF floods its database "
                         "(--database)\n"
                       : out;
}

Outcome neighbours(NeighboursOptions& options, const Style& style) {
    if (options.machine.empty() && !options.plan.path.empty() && !names_a_plan(options.plan.path))
        std::swap(options.machine, options.plan.path); // one word, and it is a machine
    Opened opened = open_plan(options.plan);
    routing::Settled settled = settle(opened, options.plan);
    std::vector<lab::MachineId> machines;
    if (!options.machine.empty())
        machines.push_back(machine_named(opened.lab, options.machine));
    else
        for (const lab::Speaker& speaker : opened.lab.speakers)
            machines.push_back(speaker.machine);
    auto wanted_of = [&](const routing::Settled& asked) {
        std::vector<routing::Neighbour> all = asked.lessons()->neighbours();
        std::erase_if(all, [&](const routing::Neighbour& n) {
            return std::ranges::find(machines, n.machine) == machines.end();
        });
        return all;
    };
    std::vector<routing::Neighbour> wanted = wanted_of(settled);
    bool apart = std::ranges::any_of(wanted, [](const routing::Neighbour& n) {
        return n.discord != routing::Discord::none && !routing::may_be_meant(n.discord);
    });
    int status = apart && !options.database && !options.announced ? status_no : status_well;
    if (options.plan.json())
        return {json_of(opened, options.plan, settled,
                        [&](const routing::Settled& asked) {
                            return options.database ? exports::link_states_json(asked, machines)
                                   : options.announced
                                       ? exports::announced_json(asked, wanted_of(asked))
                                       : exports::neighbours_json(asked, wanted_of(asked));
                        }),
                status};
    if (options.database)
        return {
            database_text(style, opened.lab, settled, machines)
            + changes_text(
                style, opened, options.plan, settled,
                {{"machine", "family", "area", "kind", "from", "to", "cost", "forwarding_address"},
                 6,
                 [&](const routing::Settled& asked) { return database_rows(asked, machines); }})};
    if (options.announced)
        return {announced_text(style, opened.lab, settled, wanted)
                + changes_text(style, opened, options.plan, settled,
                               {{"machine", "neighbour", "protocol", "to", "metric", "AS path",
                                 "local preference", "communities"},
                                4,
                                [&](const routing::Settled& asked) {
                                    return announced_rows(asked, wanted_of(asked));
                                }})};
    return {neighbours_text(style, opened.lab, wanted)
                + changes_text(style, opened, options.plan, settled,
                               {{"machine", "protocol", "out", "neighbour", "family", "state", ""},
                                5,
                                [&](const routing::Settled& asked) {
                                    return neighbour_rows(opened.lab, wanted_of(asked));
                                }}),
            status};
}

} // namespace

void add_neighbours(CLI::App& app, Run& run) {
    auto options = std::make_shared<NeighboursOptions>();
    CLI::App* command = app.add_subcommand(
        "neighbours", "who exchanges routes with whom by OSPF, RIP and BGP, and why not");
    add_plan_options(*command, options->plan, true);
    command->add_option("MACHINE", options->machine, "only this machine's");
    auto* database =
        command->add_flag("--database", options->database, "the link-state databases of OSPF");
    command
        ->add_flag("--announced", options->announced,
                   "what is announced to each neighbour by RIP and BGP")
        ->excludes(database);
    command->footer("Examples:\n"
                    "  jackal neighbours skerry.yaml\n"
                    "  jackal neighbours skerry.yaml quay-r1 --announced\n"
                    "  jackal neighbours skerry.yaml quay-r1 --database\n"
                    "\n"
                    "The status is 1 if two that should be neighbours are not.");
    command->callback([&run, options] {
        run = [options](const Style& style) { return neighbours(*options, style); };
    });
}

} // namespace jackal::cli
