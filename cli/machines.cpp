#include "command.h"

#include <fmt/format.h>

namespace jackal::cli {

namespace {

std::string machines_text(const Style& style, const lab::Lab& lab) {
    Table table({"machine", "kind", "NIC", "MAC", "segment", "address", "origin", "state"});
    for (lab::MachineId id : lab.machines.ids()) {
        const lab::Machine& machine = lab.machines[id];
        std::string kind = machine.kind == plan::MachineKind::guest ? "guest" : "router";
        if (machine.forwards != (machine.kind == plan::MachineKind::router))
            kind += machine.forwards ? ", forwards" : ", does not forward";
        std::vector<std::string> first{style.strong(machine.name), kind};
        if (machine.nic_count == 0)
            table.add({first[0], first[1], "none"});
        for (lab::NicId nic : lab.nics_of(id)) {
            const lab::Nic& row = lab.nics[nic];
            std::string state = !machine.up ? style.bad("off") : row.up ? "up" : style.bad("down");
            std::vector<std::string> cells{first[0],
                                           first[1],
                                           row.name,
                                           net::to_string(row.mac),
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
    }
    return table.text(style);
}

} // namespace

void add_machines(CLI::App& app, Run& run) {
    auto options = std::make_shared<PlanOptions>();
    CLI::App* command =
        app.add_subcommand("machines", "the inventory: NICs, MACs, segments, addresses");
    add_plan_options(*command, *options, false);
    command->footer("Example:\n"
                    "  jackal machines skerry.yaml");
    command->callback([&run, options] {
        run = [options](const Style& style) -> Outcome {
            Opened opened = open_plan(*options);
            if (options->json())
                return {exports::machines_json(opened.lab) + "\n"};
            return {machines_text(style, opened.lab)};
        };
    });
}

} // namespace jackal::cli
