#include "export/settings/settings.h"
#include "jackal/sorted.h"

#include <algorithm>
#include <fmt/format.h>
#include <set>

namespace jackal::exports {

using lab::Lab;
using lab::MachineId;
using lab::NicId;

namespace {

class Devices {
  public:
    Devices(const routing::Settled& settled, MachineId machine, bool has_switches)
        : lab_(settled.lab()), machine_(machine), has_switches_(has_switches),
          routes_(settled.routes(machine)) {
        for (NicId nic : lab_.nics_of(machine)) {
            taken_.insert(lab_.nics[nic].name);
            for (const lab::Plug& plug : lab_.plugs_of(nic))
                taken_.insert(plug.member);
        }
    }

    std::vector<Device> run() {
        for (NicId nic : lab_.nics_of(machine_)) {
            const auto plugs = lab_.plugs_of(nic);
            if (lab_.nics[nic].is_loopback())
                add(nic, Device::Kind::loopback);
            else if (lab::LinkId tunnel = lab_.tunnel(nic))
                add(nic, Device::Kind::tunnel).tunnel = tunnel;
            else if (plugs.empty() || !has_switches_)
                add(nic, Device::Kind::ethernet);
            else if (plugs.front().vlan != 0)
                add_tagged(nic, plugs);
            else
                add_wires(add(nic, kind_of(plugs)), plugs);
        }
        for (Device& device : devices_)
            if (device.nic)
                address(device);
        return std::move(devices_);
    }

  private:
    using Plugs = std::span<const lab::Plug>;

    static Device::Kind kind_of(Plugs plugs) {
        return plugs.front().member.empty() ? Device::Kind::ethernet : Device::Kind::bond;
    }

    Device& add(NicId nic, Device::Kind kind) {
        const lab::Nic& row = lab_.nics[nic];
        return devices_.emplace_back(Device{.kind = kind,
                                            .name = row.name,
                                            .mac = row.mac,
                                            .mtu_bytes = row.mtu_bytes,
                                            .up = row.up,
                                            .nic = nic});
    }

    // The members of a bond, before it.
    void add_wires(Device device, Plugs plugs) {
        if (device.kind != Device::Kind::bond)
            return;
        devices_.pop_back();
        for (const lab::Plug& plug : plugs)
            devices_.push_back(
                {.name = plug.member,
                 .mac = net::mac_from_names(lab_.machines[machine_].name, plug.member),
                 .mtu_bytes = device.mtu_bytes,
                 .up = plug.up,
                 .on = device.name});
        devices_.push_back(std::move(device));
    }

    // A VLAN on the device of the NIC that leaves its frames untagged on the same ports, or on one
    // of its own.
    void add_tagged(NicId nic, Plugs plugs) {
        std::string& beneath = beneath_[ports(plugs)];
        if (beneath.empty())
            beneath = untagged_on(plugs);
        if (beneath.empty()) {
            beneath = fresh_name();
            Device base = add(nic, kind_of(plugs));
            devices_.pop_back();
            base.name = beneath;
            base.nic = {};
            base.up = true;
            for (NicId other : lab_.nics_of(machine_)) // room for the largest of its VLANs
                if (ports(lab_.plugs_of(other)) == ports(plugs))
                    base.mtu_bytes = std::max(base.mtu_bytes, lab_.nics[other].mtu_bytes);
            devices_.push_back(base);
            add_wires(base, plugs);
        }
        Device& device = add(nic, Device::Kind::vlan);
        device.on = beneath;
        device.vlan = plugs.front().vlan;
    }

    static std::vector<lab::PortId> ports(Plugs plugs) {
        std::vector<lab::PortId> found;
        for (const lab::Plug& plug : plugs)
            found.push_back(plug.port);
        sort_unique(found);
        return found;
    }

    std::string untagged_on(Plugs plugs) const {
        for (NicId nic : lab_.nics_of(machine_)) {
            const auto others = lab_.plugs_of(nic);
            if (!others.empty() && others.front().vlan == 0 && ports(others) == ports(plugs))
                return lab_.nics[nic].name;
        }
        return "";
    }

    std::string fresh_name() {
        std::string name;
        for (unsigned i = 0; name.empty() || taken_.contains(name); ++i)
            name = fmt::format("trunk{}", i);
        taken_.insert(name);
        return name;
    }

    // IPv6 addresses are set, also where leases give IPv4 ones.
    void address(Device& device) {
        device.takes_lease = lab_.lease_of(device.nic) != nullptr;
        for (lab::AddressId id : lab_.addresses_of(device.nic)) {
            const lab::InterfaceAddress& row = lab_.addresses[id];
            const bool is_ipv6 = row.address.family() == net::Family::ipv6;
            const bool has_room = !is_ipv6 || device.mtu_bytes >= lab::ipv6_minimum_mtu_bytes;
            if (has_room && row.origin != lab::AddressOrigin::link_local
                && (is_ipv6 || row.origin != lab::AddressOrigin::lease))
                device.addresses.push_back(id);
        }
        for (const routing::Route& route : routes_) {
            if (route.kind != routing::RouteKind::static_route || route.out != device.nic)
                continue;
            if (lab_.routes[route.written].origin == lab::RouteOrigin::gateway_lease
                && route.to.family() == net::Family::ipv4)
                device.lease_metric = route.metric;
            else
                device.routes.push_back(route);
        }
    }

    const Lab& lab_;
    MachineId machine_;
    bool has_switches_; // or bridges in their place
    std::vector<routing::Route> routes_;
    std::set<std::string> taken_;
    std::map<std::vector<lab::PortId>, std::string> beneath_; // by ports
    std::vector<Device> devices_;
};

} // namespace

std::optional<TunnelEnds> tunnel_ends(const Lab& lab, const Device& device) {
    const lab::Link& link = lab.links[device.tunnel];
    if (!link.outer)
        return std::nullopt;
    const std::size_t own = link.first == device.nic ? 0 : 1;
    return TunnelEnds{(*link.outer)[own], (*link.outer)[1 - own]};
}

std::vector<Device> devices(const routing::Settled& settled, MachineId machine) {
    return Devices(settled, machine, true).run();
}

std::vector<Device> devices_on_bridges(const routing::Settled& settled, MachineId machine) {
    return Devices(settled, machine, false).run();
}

} // namespace jackal::exports
