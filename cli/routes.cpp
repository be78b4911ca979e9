#include "command.h"

#include <fmt/format.h>

namespace jackal::cli {

namespace {

struct RoutesOptions {
    PlanOptions plan;
    std::string machine;
    std::string to;
    bool offers = false;
    bool explain = false;
};

std::string prefix_text(const net::Prefix& to) {
    return to.length() == 0 ? "default " + std::string(net::to_string(to.family()))
                            : net::to_string(to);
}

std::string via_text(const lab::Lab& lab, net::Address via) {
    auto owners = lab.owners_of(via);
    std::string text = net::to_string(via);
    if (!owners.empty())
        text += fmt::format(" ({})", lab.machine_name(owners.front().nic));
    return text;
}

std::string gate_text(const lab::Lab& lab, const routing::Gate& gate) {
    return gate.is_direct() ? "directly" : via_text(lab, gate.via);
}

std::vector<std::string> cells(const lab::Lab& lab, const routing::Route& route) {
    bool is_far = route.kind >= routing::RouteKind::static_route;
    return {prefix_text(route.to),
            std::string(routing::to_string(route.kind)),
            lab.nics[route.out].name,
            route.has_next_hop() ? via_text(lab, route.via) : "",
            route.source ? net::to_string(lab.addresses[route.source].address) : "",
            is_far ? fmt::format("{}", route.metric) : "",
            is_far ? fmt::format("{}", routing::administrative_distance(route.kind)) : ""};
}

// Local and broadcast entries are left out of whole tables: they say what `machines` says.
bool is_worth_a_line(const routing::Route& route) {
    return route.kind >= routing::RouteKind::connected;
}

// Every route of the machines, or those that they use for the destination.
std::vector<std::vector<std::string>> route_rows(const routing::Settled& settled,
                                                 const std::vector<lab::MachineId>& machines,
                                                 const std::optional<net::Address>& destination) {
    std::vector<std::vector<std::string>> rows;
    for (lab::MachineId id : machines) {
        auto used = destination ? settled.route(id, *destination) : std::nullopt;
        for (const routing::Route& route : settled.routes(id)) {
            if (!is_worth_a_line(route) || (destination && (!used || route.to != used->to)))
                continue;
            rows.push_back(cells(settled.lab(), route));
            rows.back().insert(rows.back().begin(), settled.lab().machines[id].name);
        }
    }
    return rows;
}

const routing::Offer* offer_for(const std::vector<routing::Offer>& offers,
                                const routing::Route& route) {
    for (const routing::Offer& offer : offers)
        if (offer.to == route.to && offer.kind == route.kind
            && offer.lost_by == routing::Decision::best)
            return &offer;
    return nullptr;
}

std::string refused_text(const Style& style, const Opened& opened, const routing::Settled& settled,
                         lab::MachineId id) {
    std::string out;
    for (const routing::RefusedRoute& refused : settled.refused()) {
        if (refused.machine != id)
            continue;
        const lab::StaticRoute& route = opened.lab.routes[refused.written];
        out +=
            fmt::format("  {} {} via {}: {}  {}\n", style.bad("refused"), net::to_string(route.to),
                        net::to_string(route.via), routing::to_string(refused.why),
                        style.faint(plan::to_string(route.at, opened.lab.source)));
    }
    return out;
}

std::string tables_text(const Style& style, const Opened& opened, const routing::Settled& settled,
                        const std::vector<lab::MachineId>& machines) {
    std::string out;
    for (lab::MachineId id : machines) {
        std::vector<routing::Offer> offers = settled.learned(id).offers(id);
        std::vector<std::string> headings{"to",           "kind",   "out",     "via",
                                          "from address", "metric", "distance"};
        if (!offers.empty())
            headings.push_back("learned");
        Table table(headings);
        for (const routing::Route& route : settled.routes(id)) {
            if (!is_worth_a_line(route))
                continue;
            std::vector<std::string> row = cells(opened.lab, route);
            if (const routing::Offer* offer = offer_for(offers, route))
                row.push_back(exports::origin_text(opened.lab, *offer));
            table.add(row);
        }
        out += (out.empty() ? "" : "\n") + style.strong(opened.lab.machines[id].name) + "\n"
               + table.text(style, 2) + refused_text(style, opened, settled, id);
    }
    return out;
}

// All that protocols have, used or not.
std::string offers_text(const Style& style, const Opened& opened, const routing::Settled& settled,
                        const std::vector<lab::MachineId>& machines) {
    std::string out;
    for (lab::MachineId id : machines) {
        std::vector<routing::Offer> offers = settled.learned(id).offers(id);
        if (offers.empty())
            continue;
        std::vector<routing::Route> own = settled.routes(id);
        Table table({"to", "kind", "via", "metric", "learned", ""});
        for (const routing::Offer& offer : offers) {
            std::string via;
            for (const routing::Gate& gate : offer.gates)
                via += (via.empty() ? "" : ", ") + gate_text(opened.lab, gate);
            std::string lost = exports::loss_text(offer, own);
            table.add({prefix_text(offer.to), std::string(routing::to_string(offer.kind)), via,
                       fmt::format("{}", offer.metric), exports::origin_text(opened.lab, offer),
                       lost.empty() ? style.good("used") : style.faint(lost)});
        }
        out += (out.empty() ? "" : "\n") + style.strong(opened.lab.machines[id].name) + "\n"
               + table.text(style, 2);
    }
    return out.empty() ? "no protocol has taught these machines a route\n" : out;
}

// Every route of one machine that covers the destination, and why it is the one or is not.
std::string choice_text(const Style& style, const Opened& opened, const routing::Settled& settled,
                        lab::MachineId id, net::Address destination) {
    auto used = settled.route(id, destination);
    Table table({"to", "kind", "via", "metric", "distance", "learned", ""});
    std::vector<routing::Route> routes = settled.routes(id);
    std::vector<routing::Offer> offers = settled.learned(id).offers(id);
    std::erase_if(offers, [&](const auto& offer) { return !offer.to.contains(destination); });
    std::ranges::stable_sort(routes, std::greater{}, [](const auto& r) { return r.to.length(); });
    for (const routing::Route& route : routes) {
        if (!route.to.contains(destination))
            continue;
        bool longest = used && route.to == used->to;
        std::vector<std::string> row = cells(opened.lab, route);
        const routing::Offer* offer = offer_for(offers, route);
        table.add({row[0], row[1], row[3], row[5], row[6],
                   offer == nullptr ? "" : exports::origin_text(opened.lab, *offer),
                   longest ? style.good("used") : style.faint("shorter prefix")});
    }
    for (const routing::Offer& offer : offers)
        if (std::string lost = exports::loss_text(offer, routes); !lost.empty())
            table.add({prefix_text(offer.to), std::string(routing::to_string(offer.kind)),
                       offer.gates.empty() ? "" : gate_text(opened.lab, offer.gates.front()),
                       fmt::format("{}", offer.metric),
                       fmt::format("{}", routing::administrative_distance(offer.kind)),
                       exports::origin_text(opened.lab, offer), style.faint(lost)});
    return fmt::format("{} to {}\n", style.strong(opened.lab.machines[id].name),
                       net::to_string(destination))
           + (used ? table.text(style, 2) : "  " + style.bad("no route") + "\n");
}

// What mends a ping of the machine to what it has no route to.
std::optional<mend::Mending> mending_of(const Opened& opened, const routing::Settled& settled,
                                        const RoutesOptions& options, net::Address destination) {
    QuestionOptions question;
    question.plan = options.plan;
    question.from = options.machine;
    question.to = options.to;
    question.ping.family = destination.family();
    auto asked = probe::question(opened.lab, question.from, question.to, question.ping);
    if (!asked)
        return std::nullopt;
    return mending_of(opened, question, probe::ping(settled, *asked));
}

// How a machine came to its route, or why it has none and what mends that.
struct Explained {
    Explained(const Opened& opened, const routing::Settled& settled, const RoutesOptions& options,
              net::Address to)
        : machine(machine_named(opened.lab, options.machine)), destination(to),
          found(routing::provenance(settled, machine, to)) {
        if (!found.to)
            mending = mending_of(opened, settled, options, to);
    }

    const mend::Mending* mend() const { return mending ? &*mending : nullptr; }

    lab::MachineId machine;
    net::Address destination;
    routing::Provenance found;
    std::optional<mend::Mending> mending;
};

// From one machine to who told it.
std::string explained_text(const Style& style, const Opened& opened,
                           const routing::Settled& settled, const Explained& explained) {
    const routing::Provenance& found = explained.found;
    std::string out =
        fmt::format("{} to {}", style.strong(opened.lab.machines[explained.machine].name),
                    net::to_string(explained.destination));
    if (!found.to) {
        out += ": " + style.bad("no route") + "\n";
    } else {
        out += fmt::format(": {}\n", prefix_text(*found.to));
        Table table({"machine", "knows it by", "", "via", "metric"});
        for (const routing::Passage& passage : found.passages) {
            std::vector<std::string> row = cells(opened.lab, passage.route);
            table.add({opened.lab.machines[passage.machine].name, row[1],
                       passage.offer ? exports::origin_text(opened.lab, *passage.offer) : row[2],
                       row[3], row[5]});
            const std::vector<routing::Route> routes = settled.routes(passage.machine);
            for (const routing::Offer& other : passage.others)
                table.add({"", style.faint(std::string(routing::to_string(other.kind))),
                           style.faint(exports::origin_text(opened.lab, other)), "",
                           style.faint(exports::loss_text(other, routes))});
        }
        out += table.text(style, 2);
    }
    if (!found.stopped.empty())
        out += "\nwhere news of it stop\n";
    for (const routing::Stopped& stopped : found.stopped)
        out += fmt::format("  {}\n", exports::stopped_text(opened.lab, stopped));
    return out + remedy_text(style, {}, explained.mend(), false);
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
            row.insert(row.end(), rest.begin(), rest.end() - 2);
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
        const auto asker = options.machine.empty() ? probe::Endpoint{}
                                                   : *probe::endpoint(opened.lab, options.machine);
        for (net::Family family : net::both_families)
            if (const auto* row = probe::address_for(opened.lab, asker, *end, family);
                row != nullptr && !destination)
                destination = row->address;
        if (!destination)
            throw NotAsked(fmt::format("{} has no address", options.to));
    }
    if (options.explain && (!destination || options.machine.empty()))
        throw NotAsked("--explain needs a machine, and --to");
    bool none =
        destination && machines.size() == 1 && !settled.route(machines.front(), *destination);
    int status = none ? status_no : status_well;
    if (options.plan.json())
        return {json_of(opened, options.plan, settled,
                        [&](const routing::Settled& asked) {
                            if (options.explain) {
                                const Explained explained(opened, asked, options, *destination);
                                return exports::provenance_json(asked, explained.machine,
                                                                *destination, explained.found,
                                                                explained.mend());
                            }
                            return exports::routes_json(asked, machines, destination);
                        }),
                status};
    std::string text;
    if (options.explain)
        text = explained_text(style, opened, settled,
                              Explained(opened, settled, options, *destination));
    else if (options.offers)
        text = offers_text(style, opened, settled, machines);
    else if (destination && machines.size() == 1)
        text = choice_text(style, opened, settled, machines.front(), *destination);
    else if (destination)
        text = chosen_text(style, opened, settled, machines, *destination);
    else
        text = tables_text(style, opened, settled, machines);
    Rows rows{
        {"machine", "to", "kind", "out", "via", "from address", "metric", "distance"},
        2,
        [&](const routing::Settled& asked) { return route_rows(asked, machines, destination); }};
    return {text + changes_text(style, opened, options.plan, settled, rows), status};
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
    command->add_flag("--offers", options->offers,
                      "all that routing protocols have, used or not, and why not");
    command->add_flag(
        "--explain", options->explain,
        "with a machine and --to: who told it of the route, and who told that one, "
        "back to who brought it in; without a route, where news of it stop, and what mends it");
    command->footer("Examples:\n"
                    "  jackal routes skerry.yaml quay-r1\n"
                    "  jackal routes skerry.yaml --to kettle\n"
                    "  jackal routes skerry.yaml lamp-r1 --to kettle\n"
                    "  jackal routes skerry.yaml lamp-r1 --offers\n"
                    "  jackal routes skerry.yaml stores-r1 --to kettle --explain\n"
                    "\n"
                    "With one machine, --to shows every route that covers the end, and why one of\n"
                    "them is used.");
    command->callback([&run, options] {
        run = [options](const Style& style) { return routes(*options, style); };
    });
}

} // namespace jackal::cli
