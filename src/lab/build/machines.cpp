#include "lab/build/building.h"
#include "plan/nic_names.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::lab {

namespace {

constexpr std::uint16_t ethernet_mtu_bytes = 1500; // RFC 894

void add_subnet_nic(Building& b, MachineId id, const plan::Machine& machine, std::uint32_t n,
                    std::string name) {
    const plan::Nic& nic = machine.nics[n];
    SubnetId subnet = b.subnet_named(nic.subnet.value);
    Nic row{.machine = id,
            .segment = b.lab.subnets[subnet].segment,
            .name = std::move(name),
            .mac = {},
            .up = nic.up,
            .mtu_bytes = nic.mtu_bytes.value_or(ethernet_mtu_bytes),
            .first_address = {},
            .address_count = 0,
            .guard = {},
            .at = nic.at,
            .plan_index = n};
    row.mac = nic.mac.value_or(net::mac_from_names(machine.name, row.name));
    SegmentId segment = row.segment;
    b.lab.segments[segment].nics.push_back(b.lab.nics.add(std::move(row)));
}

void add_link_nic(Building& b, MachineId id, const plan::Machine& machine, std::uint32_t n,
                  std::uint32_t link, std::string name) {
    const plan::Link& entry = b.plan.links[link];
    net::Mac mac = net::mac_from_names(machine.name, name);
    NicId nic = b.lab.nics.add({.machine = id,
                                .segment = {},
                                .name = std::move(name),
                                .mac = mac,
                                .up = true,
                                .mtu_bytes = entry.mtu_bytes.value_or(ethernet_mtu_bytes),
                                .first_address = {},
                                .address_count = 0,
                                .guard = {},
                                .at = entry.at,
                                .plan_index = n});
    bool is_first = b.machine_named(entry.first.value) == id;
    (is_first ? b.link_nics[link].first : b.link_nics[link].second) = nic;
}

plan::Login with_defaults(plan::Login login, const plan::Login& defaults) {
    if (login.user.value.empty())
        login.user = defaults.user;
    if (login.keys.empty())
        login.keys = defaults.keys;
    return login;
}

plan::Image with_defaults(plan::Image image, const plan::Image& defaults) {
    if (image.disk.value.empty())
        image.disk = defaults.disk;
    if (image.kernel.value.empty()) { // the three belong together
        image.kernel = defaults.kernel;
        image.initrd = defaults.initrd;
        image.arguments = defaults.arguments;
    }
    if (!image.is_namespace)
        image.is_namespace = defaults.is_namespace;
    return image;
}

bool has_written_mac(const Building& b, NicId id) {
    const Nic& nic = b.lab.nics[id];
    const auto& nics = b.plan.machines[nic.machine.row].nics;
    return nic.plan_index < nics.size() && nics[nic.plan_index].mac;
}

// Among NICs of one MAC; false if nothing can be changed.
bool separate(Building& b, std::span<std::pair<net::Mac, NicId>> same) {
    bool keep_first = std::ranges::none_of(
        same, [&](const auto& entry) { return has_written_mac(b, entry.second); });
    bool changed = false;
    for (auto& [mac, id] : same.subspan(keep_first ? 1 : 0)) {
        if (has_written_mac(b, id))
            continue;
        Nic& nic = b.lab.nics[id];
        nic.mac = net::mac_from_names(b.lab.machines[nic.machine].name,
                                      fmt::format("{}/{}", nic.name, mac.bits));
        mac = nic.mac;
        changed = true;
    }
    return changed;
}

} // namespace

void add_machines(Building& b) {
    std::vector<std::vector<std::uint32_t>> links_of(b.plan.machines.size());
    for (std::uint32_t i = 0; i < b.plan.links.size(); ++i) {
        links_of[b.machine_named(b.plan.links[i].first.value).row].push_back(i);
        links_of[b.machine_named(b.plan.links[i].second.value).row].push_back(i);
    }
    b.link_nics.resize(b.plan.links.size());
    b.lab.login = b.plan.login;
    b.lab.image = b.plan.image;
    const plan::NicNames names(b.plan);
    for (std::uint32_t i = 0; i < b.plan.machines.size(); ++i) {
        const plan::Machine& machine = b.plan.machines[i];
        MachineId id = b.lab.machines.add(
            {.name = machine.name,
             .sizes = machine.sizes,
             .kind = machine.kind,
             .forwards = {machine.does_forward(), machine.does_forward()},
             .up = machine.up,
             .outside = b.whole.is_outside(i),
             .is_core = b.whole.is_core(i),
             .first_nic = NicId{static_cast<std::uint32_t>(b.lab.nics.size())},
             .nic_count = static_cast<std::uint32_t>(machine.nics.size() + links_of[i].size()
                                                     + (machine.loopback ? 1 : 0)),
             .first_route = {},
             .route_count = 0,
             .duties = {},
             .at = machine.at,
             .plan_index = i});
        if (machine.login)
            b.lab.logins.emplace_back(id, with_defaults(*machine.login, b.plan.login));
        if (machine.image)
            b.lab.images.emplace_back(id, with_defaults(*machine.image, b.plan.image));
        for (std::uint32_t n = 0; n < machine.nics.size(); ++n)
            add_subnet_nic(b, id, machine, n, names.name(i, n));
        auto position = static_cast<std::uint32_t>(machine.nics.size());
        for (std::uint32_t link : links_of[i]) {
            add_link_nic(b, id, machine, position, link, names.name(i, position));
            ++position;
        }
        if (machine.loopback)
            b.lab.nics.add({.machine = id,
                            .segment = {},
                            .name = "lo",
                            .mac = {},
                            .up = true,
                            .mtu_bytes = 65535, // what Linux has, as far as IPv4 can tell
                            .first_address = {},
                            .address_count = 0,
                            .guard = {},
                            .at = machine.loopback->at,
                            .plan_index = position});
    }
}

void separate_macs(Building& b) {
    std::vector<std::pair<net::Mac, NicId>> macs;
    macs.reserve(b.lab.nics.size());
    for (NicId id : b.lab.nics.ids())
        if (!b.lab.nics[id].is_loopback())
            macs.emplace_back(b.lab.nics[id].mac, id);
    bool changed = true;
    while (changed) {
        changed = false;
        std::ranges::sort(macs);
        for (auto first = macs.begin(); first != macs.end();) {
            auto last = std::find_if(
                first, macs.end(), [&](const auto& entry) { return entry.first != first->first; });
            changed |= last - first > 1 && separate(b, std::span(first, last));
            first = last;
        }
    }
}

void mark_shared_macs(Building& b) {
    std::vector<std::pair<SegmentId, net::Mac>> written;
    // Switches may join segments, so there it counts on all of them.
    auto key = [&](NicId id) {
        return std::pair(b.lab.has_wiring() ? SegmentId{} : b.lab.nics[id].segment,
                         b.lab.nics[id].mac);
    };
    for (NicId id : b.lab.nics.ids())
        if (has_written_mac(b, id))
            written.push_back(key(id));
    std::ranges::sort(written);
    for (NicId id : b.lab.nics.ids())
        if (has_written_mac(b, id))
            b.lab.nics[id].shares_mac = std::ranges::equal_range(written, key(id)).size() > 1;
}

void add_starts_after(Building& b) {
    for (MachineId id : b.lab.machines.ids())
        if (const auto& duties = b.plan.machines[id.row].duties)
            for (const auto& other : duties->starts_after)
                b.lab.starts_after.emplace_back(id, b.machine_named(other.value));
}

} // namespace jackal::lab
