#include "command.h"

#include "jackal/lab/start_order.h"

#include <fmt/format.h>
#include <fmt/ranges.h>

namespace jackal::cli {

namespace {

// Of a sum and its limit: `12 of 16`.
std::string with_limit(const Style& style, const std::string& sum, const std::string& limit,
                       bool exceeded) {
    if (limit.empty())
        return sum;
    return exceeded ? style.bad(fmt::format("{} of {}", sum, limit))
                    : fmt::format("{} of {}", sum, limit);
}

std::string totals_text(const Style& style, const lab::Lab& lab) {
    Table table({"", "machines", "cpus", "memory", "disk"});
    lab::Totals sum;
    for (const lab::Site& site : lab.sites) {
        sum.machines += site.totals.machines;
        sum.cpus += site.totals.cpus;
        sum.memory_mib += site.totals.memory_mib;
        sum.disk_mib += site.totals.disk_mib;
        if (!site.name.empty() && !site.outside)
            table.add({"site " + site.name, fmt::format("{}", site.totals.machines),
                       fmt::format("{}", site.totals.cpus), plan::size_text(site.totals.memory_mib),
                       plan::size_text(site.totals.disk_mib)});
    }
    const plan::Sizes& limit = lab.limits.sizes;
    auto size = [&](std::uint64_t has, std::uint64_t most) {
        return with_limit(style, plan::size_text(has), most == 0 ? "" : plan::size_text(most),
                          most != 0 && has > most);
    };
    bool asked =
        sum.cpus + sum.memory_mib + sum.disk_mib + limit.cpus + limit.memory_mib + limit.disk_mib
        != 0;
    if (!asked)
        return "";
    table.add({style.strong("lab " + lab.name), fmt::format("{}", sum.machines),
               with_limit(style, fmt::format("{}", sum.cpus),
                          limit.cpus == 0 ? "" : fmt::format("{}", limit.cpus),
                          limit.cpus != 0 && sum.cpus > limit.cpus),
               size(sum.memory_mib, limit.memory_mib), size(sum.disk_mib, limit.disk_mib)});
    return "\n" + table.text(style);
}

// What a machine does with packets besides forwarding, and the filters on its NICs: a line each.
void add_duties(Table& table, const Style& style, const lab::Lab& lab, lab::MachineId id) {
    auto add = [&](const std::string& text) { table.add_line("    " + style.faint(text)); };
    for (lab::NicId nic : lab.nics_of(id))
        if (std::string wires = exports::wires_text(lab, nic); !wires.empty())
            add(fmt::format("{} is {}", lab.nics[nic].name, wires));
    for (lab::NicId nic : lab.nics_of(id))
        if (auto filters = exports::filters_on(lab, nic); !filters.empty())
            add(fmt::format("filter {} on {}", fmt::join(filters, " and "), lab.nics[nic].name));
    const lab::Duties* duties = lab.duties_of(id);
    if (duties == nullptr)
        return;
    if (duties->filter)
        add(fmt::format("filter {}", lab.filters[duties->filter].name));
    for (const lab::Translation& translation : duties->translations)
        add("translates " + exports::translation_text(lab, translation));
    std::vector<std::string> services;
    for (net::Service service : duties->listens)
        services.push_back(net::to_string(service));
    if (!services.empty())
        add(fmt::format("listens on {}", fmt::join(services, ", ")));
}

// What is plugged into each port, by port.
std::vector<std::string> plugged(const lab::Lab& lab) {
    std::vector<std::string> names(lab.ports.size());
    for (const lab::Plug& plug : lab.plugs)
        if (plug.port)
            names[plug.port.row] +=
                (names[plug.port.row].empty() ? "" : ", ") + lab.nic_name(plug.nic);
    for (const lab::Cable& cable : lab.cables) {
        std::string state = cable.up ? "" : " (down)";
        names[cable.first.row] = lab.port_name(cable.second) + state;
        names[cable.second.row] = lab.port_name(cable.first) + state;
    }
    for (lab::PortId id : lab.ports.ids())
        if (lab::SegmentId segment = lab.ports[id].segment)
            names[id.row] = "the segment of " + lab.segment_name(segment);
    return names;
}

std::string switches_text(const Style& style, const lab::Lab& lab) {
    if (lab.ports.size() == 0)
        return "";
    std::vector<std::string> plugged_in = plugged(lab);
    Table table({"switch", "port", "carries", "plugged in", "state"});
    lab::SwitchId before;
    for (lab::PortId id : lab.ports.ids()) {
        const lab::Port& port = lab.ports[id];
        const lab::Switch& owner = lab.switches[port.owner];
        table.add({port.owner == before ? "" : style.strong(owner.name), port.name,
                   exports::port_text(port), plugged_in[id.row],
                   !owner.up ? style.bad("off")
                   : port.up ? "up"
                             : style.bad("down")});
        before = port.owner;
    }
    return "\n" + table.text(style);
}

std::string machines_text(const Style& style, const lab::Lab& lab) {
    Table table({"machine", "kind", "NIC", "MAC", "segment", "address", "origin", "state"});
    for (lab::MachineId id : lab.machines.ids()) {
        const lab::Machine& machine = lab.machines[id];
        std::string kind(exports::kind_text(machine));
        if (!machine.outside
            && machine.forwards_any() != (machine.kind == plan::MachineKind::router))
            kind += machine.forwards_any() ? ", forwards" : ", does not forward";
        std::vector<std::string> first{style.strong(machine.name), kind};
        if (machine.nic_count == 0)
            table.add({first[0], first[1], "none"});
        for (lab::NicId nic : lab.nics_of(id)) {
            const lab::Nic& row = lab.nics[nic];
            std::string state = !machine.up ? style.bad("off") : row.up ? "up" : style.bad("down");
            std::vector<std::string> cells{first[0],
                                           first[1],
                                           row.name,
                                           row.is_loopback() ? "" : net::to_string(row.mac),
                                           lab.segment_name(row.segment),
                                           "none",
                                           "",
                                           state};
            if (row.address_count == 0)
                table.add(cells);
            for (lab::AddressId a : lab.addresses_of(nic)) {
                const lab::InterfaceAddress& address = lab.addresses[a];
                cells[5] = fmt::format("{}/{}", net::to_string(address.address), address.length);
                cells[6] = exports::to_string(address.origin);
                table.add(cells);
                cells.assign(8, "");
            }
            first.assign(2, "");
        }
        add_duties(table, style, lab, id);
    }
    return table.text(style) + switches_text(style, lab) + totals_text(style, lab);
}

void refuse_circle(const lab::Lab& lab) {
    std::vector<std::string> names;
    for (lab::MachineId id : lab::start_circle(lab))
        names.push_back(lab.machines[id].name);
    if (names.empty())
        return;
    names.push_back(names.front());
    throw NotAsked(fmt::format("no order starts them all: {}", fmt::join(names, " waits for ")));
}

std::string start_text(const Style& style, const lab::Lab& lab) {
    Table table({"round", "machine", "after"});
    std::size_t before = 0;
    for (const lab::Start& start : lab::start_order(lab)) {
        std::vector<std::string> after;
        for (lab::MachineId id : start.after)
            after.push_back(lab.machines[id].name);
        table.add({start.round == before ? "" : fmt::format("{}", start.round),
                   style.strong(lab.machines[start.machine].name),
                   fmt::format("{}", fmt::join(after, ", "))});
        before = start.round;
    }
    return table.text(style);
}

} // namespace

void add_machines(CLI::App& app, Run& run) {
    auto options = std::make_shared<PlanOptions>();
    CLI::App* command =
        app.add_subcommand("machines", "the inventory: NICs, MACs, segments, addresses, sizes");
    add_table_options(*command, *options);
    auto starts = std::make_shared<bool>(false);
    command->add_flag("--start-order", *starts,
                      "in which order to start them: whoever gives addresses to others first");
    command->footer("Examples:\n"
                    "  jackal machines skerry.yaml\n"
                    "  jackal machines skerry.yaml --start-order");
    command->callback([&run, options, starts] {
        run = [options, starts](const Style& style) -> Outcome {
            Opened opened = open_plan(*options);
            if (*starts)
                refuse_circle(opened.lab);
            if (*starts && options->format == Format::csv)
                return {exports::start_order_csv(opened.lab)};
            if (*starts && options->json())
                return {exports::start_order_json(opened.lab) + "\n"};
            if (*starts)
                return {start_text(style, opened.lab)};
            if (options->format == Format::csv)
                return {exports::machines_csv(opened.lab)};
            if (options->json())
                return {exports::machines_json(opened.lab) + "\n"};
            return {machines_text(style, opened.lab)};
        };
    });
}

} // namespace jackal::cli
