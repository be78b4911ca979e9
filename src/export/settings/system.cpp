// What every system reads: names, name servers, and how the kernel behaves.
#include "export/settings/settings.h"

#include "jackal/probe/endpoint.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::exports {

using lab::Lab;
using lab::MachineId;

std::string domain_of(const Lab& lab) {
    return lab.name + ".internal";
}

std::string place_of(const Lab& lab, plan::Mark at) {
    const std::string file = lab.source.substr(lab.source.rfind('/') + 1);
    return at ? fmt::format("{}:{}", file, at.line) : file;
}

std::string heading(const Lab& lab, MachineId machine, std::string_view what) {
    const lab::Machine& row = lab.machines[machine];
    return fmt::format("# {} of the lab {} ({}): {}\n\n", row.name, lab.name, place_of(lab, row.at),
                       what);
}

bool is_known(const Lab& lab, const lab::InterfaceAddress& row) {
    return row.origin != lab::AddressOrigin::link_local
           && !lab.is_own_way_out(lab.nics[row.nic].segment);
}

std::optional<net::Address> known_address(const Lab& lab, MachineId machine) {
    for (net::Family family : net::both_families)
        if (const auto* row = probe::address_for(lab, {}, {.machine = machine}, family);
            row != nullptr && is_known(lab, *row))
            return row->address;
    return std::nullopt;
}

std::string sysctl_settings(std::string_view forwards) {
    return fmt::format(fmt::runtime(host_sysctl), forwards);
}

std::string resolver_settings(const Lab& lab, MachineId id) {
    const lab::Duties* duties = lab.duties_of(id);
    if (duties == nullptr || duties->dns.empty())
        return "";
    std::string text =
        heading(lab, id, "whom it asks for names") + fmt::format("search {}\n", domain_of(lab));
    for (const net::Address& server : duties->dns)
        text += fmt::format("nameserver {}\n", net::to_string(server));
    return text;
}

namespace {

// All addresses that others know a machine by; first those that `asker` would use.
std::vector<net::Address> addresses_for(const Lab& lab, MachineId asker, MachineId machine) {
    std::vector<net::Address> found;
    auto add = [&](const lab::InterfaceAddress* row) {
        if (row != nullptr && is_known(lab, *row)
            && std::ranges::find(found, row->address) == found.end())
            found.push_back(row->address);
    };
    for (net::Family family : net::both_families)
        add(probe::address_for(lab, {.machine = asker}, {.machine = machine}, family));
    for (lab::NicId nic : lab.nics_of(machine))
        for (lab::AddressId row : lab.addresses_of(nic))
            add(&lab.addresses[row]);
    return found;
}

} // namespace

// All machines by all their addresses. The machine's own name comes first for its loopback.
std::string hosts_table(const Lab& lab, MachineId own) {
    std::string text = "127.0.0.1 localhost\n::1 localhost ip6-localhost ip6-loopback\n";
    if (own)
        text += fmt::format("127.0.1.1 {0}.{1} {0}\n", lab.machines[own].name, domain_of(lab));
    for (MachineId id : lab.machines.ids()) {
        if (lab.machines[id].outside)
            continue;
        for (net::Address address : addresses_for(lab, own, id))
            text += fmt::format("{} {}.{} {}\n", net::to_string(address), lab.machines[id].name,
                                domain_of(lab), lab.machines[id].name);
    }
    return text;
}

} // namespace jackal::exports
