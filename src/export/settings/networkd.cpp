// Units of systemd-networkd (systemd.link(5), systemd.netdev(5), systemd.network(5)).
#include "export/settings/settings.h"

#include <fmt/format.h>

namespace jackal::exports {

using lab::Lab;
using lab::MachineId;

namespace {

class Units {
  public:
    Units(const Lab& lab, MachineId machine, const std::vector<Device>& devices)
        : lab_(lab), machine_(machine), devices_(devices) {}

    std::map<std::string, std::string> run() {
        for (const Device& device : devices_) {
            if (device.kind == Device::Kind::ethernet)
                add("10-" + device.name + ".link", "its name, by its MAC", link_unit(device));
            else if (device.kind != Device::Kind::loopback)
                add("15-" + device.name + ".netdev", "a device that the kernel makes",
                    netdev_unit(device));
            add("20-" + device.name + ".network", "how it is set", network_unit(device));
        }
        return std::move(units_);
    }

  private:
    void add(const std::string& name, std::string_view what, const std::string& text) {
        units_[name] = heading(lab_, machine_, what) + text;
    }

    static std::string link_unit(const Device& device) {
        return fmt::format("[Match]\nPermanentMACAddress={}\n\n[Link]\nName={}\n",
                           net::to_string(device.mac), device.name);
    }

    std::string netdev_unit(const Device& device) const {
        std::string_view kind = device.kind == Device::Kind::vlan   ? "vlan"
                                : device.kind == Device::Kind::bond ? "bond"
                                                                    : "vxlan";
        std::string text =
            fmt::format("[NetDev]\nName={}\nKind={}\nMACAddress={}\nMTUBytes={}\n", device.name,
                        kind, net::to_string(device.mac), device.mtu_bytes);
        if (device.kind == Device::Kind::vlan)
            return text + fmt::format("\n[VLAN]\nId={}\n", device.vlan);
        if (device.kind == Device::Kind::bond)
            return text + "\n[Bond]\nMode=active-backup\nMIIMonitorSec=100ms\n";
        text += fmt::format("\n[VXLAN]\nVNI={}\nDestinationPort={}\nIndependent=yes\n",
                            device.tunnel.row + 1, lab::tunnel_port);
        if (const auto ends = tunnel_ends(lab_, device))
            text += fmt::format("Local={}\nRemote={}\n", net::to_string(ends->own),
                                net::to_string(ends->peer));
        return text;
    }

    std::string network_unit(const Device& device) const {
        std::string text = fmt::format("[Match]\nName={}\n\n[Link]\n", device.name);
        if (device.kind != Device::Kind::loopback)
            text += fmt::format("MTUBytes={}\n", device.mtu_bytes);
        if (!device.up)
            text += "ActivationPolicy=always-down\n";
        text += "\n[Network]\n";
        if (device.kind != Device::Kind::loopback)
            text += fmt::format("LinkLocalAddressing={}\nIPv6AcceptRA=no\n"
                                "IPv6DuplicateAddressDetection=0\nLLMNR=no\nDHCP={}\n",
                                device.nic ? "ipv6" : "no", device.takes_lease ? "ipv4" : "no");
        for (const Device& other : devices_)
            if (other.kind == Device::Kind::vlan && other.on == device.name)
                text += fmt::format("VLAN={}\n", other.name);
        if (device.kind == Device::Kind::ethernet && !device.on.empty())
            text += fmt::format("Bond={}\n", device.on);
        for (lab::AddressId id : device.addresses)
            text += fmt::format("Address={}/{}\n", net::to_string(lab_.addresses[id].address),
                                lab_.addresses[id].length);
        if (device.takes_lease)
            text += fmt::format("\n[DHCPv4]\nClientIdentifier=mac\nRouteMetric={}\n",
                                device.lease_metric);
        for (const routing::Route& route : device.routes)
            text += fmt::format("\n[Route]\nDestination={}\nGateway={}\nMetric={}\n",
                                net::to_string(route.to), net::to_string(route.via), route.metric);
        return text;
    }

    const Lab& lab_;
    MachineId machine_;
    const std::vector<Device>& devices_;
    std::map<std::string, std::string> units_;
};

} // namespace

std::map<std::string, std::string> networkd_units(const Lab& lab, MachineId id,
                                                  const std::vector<Device>& devices) {
    return Units(lab, id, devices).run();
}

} // namespace jackal::exports
