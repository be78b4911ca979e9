// interfaces(5) of Debian's ifupdown.
#include "export/settings/settings.h"

#include <fmt/format.h>

namespace jackal::exports {

using lab::Lab;
using lab::MachineId;

namespace {

class Interfaces {
  public:
    Interfaces(const Lab& lab, const std::vector<Device>& devices) : lab_(lab), devices_(devices) {}

    std::string run() {
        const bool has_loopback =
            !devices_.empty() && devices_.back().kind == Device::Kind::loopback;
        if (!has_loopback)
            text_ += "auto lo\niface lo inet loopback\n";
        for (const Device& device : devices_)
            write(device);
        return std::move(text_);
    }

  private:
    void write(const Device& device) {
        text_ += fmt::format("{}{} {}\n", text_.empty() ? "" : "\n",
                             device.up ? "auto" : "# is to stay down:", device.name);
        if (device.kind == Device::Kind::loopback)
            return loopback(device);
        if (device.takes_lease)
            text_ += fmt::format("iface {} inet dhcp\n    metric {}\n", device.name,
                                 device.lease_metric);
        else
            text_ += fmt::format("iface {} inet manual\n", device.name);
        for (const std::string& step : makes(device))
            text_ += fmt::format("    pre-up {}\n", step);
        text_ +=
            fmt::format("    pre-up ip link set dev {} mtu {}\n", device.name, device.mtu_bytes);
        if (!device.takes_lease)
            text_ += fmt::format("    up ip link set dev {} up\n", device.name);
        addresses(device);
        for (const routing::Route& route : device.routes)
            text_ += fmt::format("    up ip route add {} via {} dev {} metric {}\n",
                                 net::to_string(route.to), net::to_string(route.via), device.name,
                                 route.metric);
        if (device.kind != Device::Kind::ethernet)
            text_ += fmt::format("    post-down ip link delete dev {}\n", device.name);
        else
            text_ += fmt::format("    down ip address flush dev {}\n    down ip link set dev {} "
                                 "down\n",
                                 device.name, device.name);
    }

    void loopback(const Device& device) {
        text_ += "iface lo inet loopback\n";
        addresses(device);
    }

    void addresses(const Device& device) {
        for (lab::AddressId id : device.addresses) {
            const lab::InterfaceAddress& row = lab_.addresses[id];
            text_ += fmt::format("    up ip address add {}/{} dev {}{}\n",
                                 net::to_string(row.address), row.length, device.name,
                                 row.address.family() == net::Family::ipv6 ? " nodad" : "");
        }
    }

    // What makes the device, in the order in which it is done.
    std::vector<std::string> makes(const Device& device) const {
        const std::string mac = net::to_string(device.mac);
        switch (device.kind) {
        case Device::Kind::ethernet:
            if (device.on.empty())
                return {};
            return {fmt::format("ip link set dev {} down", device.name),
                    fmt::format("ip link show dev {0} >/dev/null 2>&1 || ip link add name {0} type "
                                "bond mode active-backup miimon 100",
                                device.on),
                    fmt::format("ip link set dev {} master {}", device.name, device.on)};
        case Device::Kind::bond:
            return {fmt::format("ip link set dev {} address {}", device.name, mac)};
        case Device::Kind::vlan:
            return {fmt::format("ip link add link {} name {} address {} type vlan id {}", device.on,
                                device.name, mac, device.vlan)};
        case Device::Kind::tunnel:
            if (const auto ends = tunnel_ends(lab_, device))
                return {
                    fmt::format("ip link add name {} address {} type vxlan id {} local {} remote "
                                "{} dstport {}",
                                device.name, mac, device.tunnel.row + 1, net::to_string(ends->own),
                                net::to_string(ends->peer), lab::tunnel_port)};
            return {fmt::format("ip link add name {} address {} type vxlan id {} dstport {}",
                                device.name, mac, device.tunnel.row + 1, lab::tunnel_port)};
        case Device::Kind::loopback: break;
        }
        return {};
    }

    const Lab& lab_;
    const std::vector<Device>& devices_;
    std::string text_;
};

} // namespace

std::string interfaces_file(const Lab& lab, MachineId id, const std::vector<Device>& devices) {
    return heading(lab, id, "for ifupdown; NICs go by the names of the plan")
           + Interfaces(lab, devices).run();
}

} // namespace jackal::exports
