#include "jackal/export/csv.h"

#include "jackal/export/words.h"
#include "jackal/lab/peering.h"
#include "jackal/lab/start_order.h"

#include <fmt/format.h>
#include <fmt/ranges.h>

namespace jackal::exports {

using net::to_string;

namespace {

std::string record(const std::vector<std::string>& fields) {
    return fmt::format("{}\r\n", fmt::join(fields, ","));
}

std::string yes(bool value) {
    return value ? "yes" : "no";
}

} // namespace

std::string addresses_csv(const lab::Lab& lab) {
    std::string text = "site,segment,prefix,mask,first,last,gateway,dhcp_first,dhcp_last,reserved,"
                       "used,free,growth_left\r\n";
    for (const lab::PrefixUsage& row : lab::usage(lab))
        text += record({row.site ? lab.sites[row.site].name : "", lab.segment_name(row.segment),
                        to_string(row.prefix), mask_text(row.prefix),
                        to_string(row.prefix.first_usable()), to_string(row.prefix.last_usable()),
                        row.gateway ? to_string(*row.gateway) : "",
                        row.dhcp ? to_string(row.dhcp->first) : "",
                        row.dhcp ? to_string(row.dhcp->last) : "", fmt::format("{}", row.reserved),
                        fmt::format("{}", row.used), fmt::format("{}", row.free),
                        row.growth_left ? fmt::format("{}", *row.growth_left) : ""});
    return text;
}

std::string peerings_csv(const lab::Lab& lab, const std::vector<lab::PeeringId>& peerings) {
    std::string text = "site,says,other_site,other_says,state,delay_ms,hourly_cost\r\n";
    auto quoted = [](const std::string& words) { return fmt::format("\"{}\"", words); };
    for (lab::PeeringId id : peerings) {
        const lab::Peering& peering = lab.peerings[id];
        text += record({lab.sites[peering.sites[0]].name, quoted(lab::side_text(peering, 0)),
                        lab.sites[peering.sites[1]].name, quoted(lab::side_text(peering, 1)),
                        std::string(plan::to_string(peering.state)),
                        fmt::format("{:g}", probe::Microseconds(peering.delay).count() / 1000),
                        fmt::format("{:g}", peering.hourly_cost)});
    }
    return text;
}

std::string sites_csv(const lab::Lab& lab, const reach::SiteReach& reach) {
    std::string text = "from,to,pairs,replies,rtt_ms,cause\r\n";
    for (const reach::SitePair& row : reach.rows)
        text +=
            record({lab.sites[row.from].name, lab.sites[row.to].name, fmt::format("{}", row.pairs),
                    fmt::format("{}", row.replies),
                    row.replies != 0 ? fmt::format("{:.3f}", row.round_trip.count() / 1000) : "",
                    row.first_gap ? std::string(plan::slug(row.first_gap->cause)) : ""});
    return text;
}

std::string grid_csv(const reach::Grid& grid) {
    std::string text = "from,to,pairs,replies\r\n";
    for (std::size_t row = 0; row < grid.rows.size(); ++row)
        for (std::size_t column = 0; column < grid.columns.size(); ++column)
            if (const reach::Cell& cell = grid.cell(row, column); cell.pairs != 0)
                text += record({grid.rows[row], grid.columns[column], fmt::format("{}", cell.pairs),
                                fmt::format("{}", cell.replies)});
    return text;
}

std::string sweep_csv(const lab::Lab& lab, const reach::Sweep& sweep) {
    std::string text = "cut,kind,lost,gained,moved,expectations,settles_after_ms\r\n";
    for (const reach::CutEffect& effect : sweep.cuts) {
        std::string cut;
        for (const routing::Cut& one : effect.cut)
            cut += (cut.empty() ? "" : " ") + routing::to_string(lab, one);
        text += record(
            {cut, std::string(reach::to_string(effect.kind)), fmt::format("{}", effect.lost),
             fmt::format("{}", effect.gained), fmt::format("{}", effect.moved),
             fmt::format("{}", effect.expectations.size()),
             effect.settles_after ? fmt::format("{:.3f}", effect.settles_after->count() / 1000)
                                  : ""});
    }
    return text;
}

std::string services_csv(const reach::ServicesGrid& grid) {
    std::string text = "from,to,pairs,services\r\n";
    for (std::size_t row = 0; row < grid.rows.size(); ++row)
        for (std::size_t column = 0; column < grid.columns.size(); ++column)
            for (const reach::Through& through : grid.cell(row, column).through)
                text +=
                    record({grid.rows[row], grid.columns[column], fmt::format("{}", through.pairs),
                            reach::to_string(through.services)});
    return text;
}

std::string rooms_csv(const lab::Lab& lab, const std::vector<lab::Room>& rooms) {
    std::string text = "site,first,block,count\r\n";
    for (const lab::Room& room : rooms)
        text += record({lab.sites[room.site].name, to_string(room.first), to_string(room.block),
                        fmt::format("{}", room.count)});
    return text;
}

std::string start_order_csv(const lab::Lab& lab) {
    std::string text = "round,machine,after\r\n";
    for (const lab::Start& start : lab::start_order(lab)) {
        std::string after;
        for (lab::MachineId id : start.after)
            after += (after.empty() ? "" : " ") + lab.machines[id].name;
        text += record({fmt::format("{}", start.round), lab.machines[start.machine].name, after});
    }
    return text;
}

std::string machines_csv(const lab::Lab& lab) {
    std::string text =
        "machine,kind,forwards,machine_state,cpus,memory_mib,disk_mib,nic,mac,segment,"
        "nic_state,mtu,address,length,origin\r\n";
    for (lab::MachineId id : lab.machines.ids()) {
        const lab::Machine& machine = lab.machines[id];
        const std::vector<std::string> of_machine{machine.name,
                                                  std::string(kind_text(machine)),
                                                  yes(machine.forwards_any()),
                                                  machine.up ? "up" : "down",
                                                  fmt::format("{}", machine.sizes.cpus),
                                                  fmt::format("{}", machine.sizes.memory_mib),
                                                  fmt::format("{}", machine.sizes.disk_mib)};
        auto add = [&](std::vector<std::string> rest) {
            rest.resize(8);
            rest.insert(rest.begin(), of_machine.begin(), of_machine.end());
            text += record(rest);
        };
        if (machine.nic_count == 0)
            add({});
        for (lab::NicId nic : lab.nics_of(id)) {
            const lab::Nic& row = lab.nics[nic];
            const std::vector<std::string> of_nic{
                row.name, row.is_loopback() ? "" : to_string(row.mac),
                lab.segment_name(row.segment), row.up ? "up" : "down",
                fmt::format("{}", row.mtu_bytes)};
            if (row.address_count == 0)
                add(of_nic);
            for (lab::AddressId a : lab.addresses_of(nic)) {
                const lab::InterfaceAddress& address = lab.addresses[a];
                std::vector<std::string> fields = of_nic;
                fields.push_back(to_string(address.address));
                fields.push_back(fmt::format("{}", address.length));
                fields.emplace_back(to_string(address.origin));
                add(std::move(fields));
            }
        }
    }
    return text;
}

std::string renumbering_csv(const Renumbering& renumbering) {
    std::string text = "what,from,to\r\n";
    for (const Renumbered& row : renumbering.table)
        text += record({row.what, row.before, row.after});
    return text;
}

} // namespace jackal::exports
