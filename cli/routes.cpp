#include "command.h"

#include <fmt/format.h>

namespace jackal::cli {

namespace {

struct RoutesOptions {
    PlanOptions plan;
    std::string machine;
    std::string to;
};

std::vector<std::string> cells(const lab::Lab& lab, const routing::Route& route) {
    bool is_static = route.kind == routing::RouteKind::static_route;
    std::string via;
    if (is_static) {
        auto owners = lab.owners_of(route.via);
        via = net::to_string(route.via);
        if (!owners.empty())
            via += fmt::format(" ({})", lab.machine_name(owners.front().nic));
    }
    return {route.to.length() == 0 ? "default " + std::string(net::to_string(route.to.family()))
                                   : net::to_string(route.to),
            std::string(routing::to_string(route.kind)),
            lab.nics[route.out].name,
            via,
            net::to_string(lab.addresses[route.source].address),
            is_static ? fmt::format("{}", route.metric) : ""};
}

// Local and broadcast entries are left out of whole tables: they say what `machines` says.
bool is_worth_a_line(const routing::Route& route) {
    return route.kind == routing::RouteKind::connected
           || route.kind == routing::RouteKind::static_route;
}

std::string refused_text(const Style& style, const Opened& opened, const routing::Settled& settled,
                         lab::MachineId id) {
    std::string out;
    for (const routing::RefusedRoute& refused : settled.refused()) {
        if (refused.machine != id)
            continue;
        const lab::StaticRoute& route = opened.lab.routes[refused.written];
        std::string why;
        switch (refused.why) {
        case routing::Refusal::next_hop_off_link:
            why = "the next hop is on no subnet that is up";
            break;
        case routing::Refusal::next_hop_is_own: why = "the next hop is the machine itself"; break;
        case routing::Refusal::next_hop_is_routed:
            why = "the next hop is itself reached by another route";
            break;
        case routing::Refusal::next_hop_is_broadcast:
            why = "the next hop is a broadcast address";
            break;
        case routing::Refusal::repeated: why = "an earlier route has its prefix and metric"; break;
        }
        out += fmt::format("  {} {} via {}: {}  {}\n", style.bad("refused"),
                           net::to_string(route.to), net::to_string(route.via), why,
                           style.faint(plan::to_string(route.at, opened.lab.source)));
    }
    return out;
}

std::string tables_text(const Style& style, const Opened& opened, const routing::Settled& settled,
                        const std::vector<lab::MachineId>& machines) {
    std::string out;
    for (lab::MachineId id : machines) {
        Table table({"to", "kind", "out", "via", "from address", "metric"});
        for (const routing::Route& route : settled.routes(id))
            if (is_worth_a_line(route))
                table.add(cells(opened.lab, route));
        out += (out.empty() ? "" : "\n") + style.strong(opened.lab.machines[id].name) + "\n"
               + table.text(style, 2) + refused_text(style, opened, settled, id);
    }
    return out;
}

std::string chosen_text(const Style& style, const Opened& opened, const routing::Settled& settled,
                        const std::vector<lab::MachineId>& machines, net::Address destination) {
    Table table({"machine", "route to " + net::to_string(destination), "kind", "out", "via",
                 "from address"});
    for (lab::MachineId id : machines) {
        auto route = settled.route(id, destination);
        std::vector<std::string> row{style.strong(opened.lab.machines[id].name)};
        if (!route) {
            row.push_back(style.bad("none"));
        } else {
            std::vector<std::string> rest = cells(opened.lab, *route);
            row.insert(row.end(), rest.begin(), rest.end() - 1);
        }
        table.add(row);
    }
    return table.text(style);
}

Outcome routes(RoutesOptions& options, const Style& style) {
    if (options.machine.empty() && !options.plan.path.empty() && !names_a_plan(options.plan.path))
        std::swap(options.machine, options.plan.path); // one word, and it is a machine
    Opened opened = open_plan(options.plan);
    routing::Settled settled = settle(opened, options.plan);
    std::vector<lab::MachineId> machines;
    if (options.machine.empty())
        for (lab::MachineId id : opened.lab.machines.ids())
            machines.push_back(id);
    else
        machines.push_back(machine_named(opened.lab, options.machine));

    std::optional<net::Address> destination;
    if (!options.to.empty()) {
        auto end = probe::endpoint(opened.lab, options.to);
        if (!end)
            throw NotAsked(probe::unknown_endpoint(opened.lab, options.to));
        destination = end->address;
        for (net::Family family : net::both_families)
            if (const auto* row = probe::address_at(opened.lab, *end, family); row && !destination)
                destination = row->address;
        if (!destination)
            throw NotAsked(fmt::format("{} has no address", options.to));
    }
    bool none =
        destination && machines.size() == 1 && !settled.route(machines.front(), *destination);
    int status = none ? status_no : status_well;
    if (options.plan.json())
        return {exports::routes_json(settled, machines, destination) + "\n", status};
    if (destination)
        return {chosen_text(style, opened, settled, machines, *destination), status};
    return {tables_text(style, opened, settled, machines), status};
}

} // namespace

void add_routes(CLI::App& app, Run& run) {
    auto options = std::make_shared<RoutesOptions>();
    CLI::App* command =
        app.add_subcommand("routes", "route tables, or the route that each machine uses");
    add_plan_options(*command, options->plan, true);
    command->add_option("MACHINE", options->machine, "only this machine");
    command->add_option("--to", options->to, "only the route used for a machine or address")
        ->type_name("END");
    command->footer("Examples:\n"
                    "  jackal routes skerry.yaml quay-r1\n"
                    "  jackal routes skerry.yaml --to kettle");
    command->callback([&run, options] {
        run = [options](const Style& style) { return routes(*options, style); };
    });
}

} // namespace jackal::cli
