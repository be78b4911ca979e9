// What cloud-init reads from a NoCloud seed: the network configuration of version 2, and user data.
#include "export/settings/settings.h"

#include <algorithm>
#include <array>
#include <fmt/format.h>
#include <nlohmann/json.hpp>

namespace jackal::exports {

using lab::Lab;
using lab::MachineId;

namespace {

// A text as YAML has it in double quotes, as JSON does.
std::string quoted(const std::string& text) {
    return nlohmann::json(text).dump();
}

// A name as it can stand in YAML without being read as a number or a truth (YAML 1.1 has `yes`).
std::string word(const std::string& name) {
    constexpr std::array other{"yes", "no", "on", "off", "true", "y", "n", "null", "false"};
    const bool is_other =
        name.find_first_of("0123456789") == 0 || std::ranges::find(other, name) != other.end();
    return is_other ? quoted(name) : name;
}

class NetworkConfig {
  public:
    NetworkConfig(const Lab& lab, MachineId machine, const std::vector<Device>& devices)
        : lab_(lab), machine_(machine), devices_(devices) {}

    std::string run() {
        text_ = "version: 2\n";
        section("ethernets", [](const Device& device) {
            return device.kind == Device::Kind::ethernet || device.kind == Device::Kind::loopback;
        });
        for (auto [name, kind] :
             {std::pair{"bonds", Device::Kind::bond}, std::pair{"vlans", Device::Kind::vlan},
              std::pair{"tunnels", Device::Kind::tunnel}})
            section(name, [kind](const Device& device) { return device.kind == kind; });
        return std::move(text_);
    }

  private:
    template <class IsPart>
    void section(std::string_view name, IsPart is_part) {
        if (std::ranges::none_of(devices_, is_part))
            return;
        text_ += fmt::format("{}:\n", name);
        for (const Device& device : devices_)
            if (is_part(device))
                write(device);
    }

    template <class... Args>
    void line(fmt::format_string<Args...> form, Args&&... args) {
        text_ += "    " + fmt::format(form, std::forward<Args>(args)...) + "\n";
    }

    void write(const Device& device) {
        text_ += fmt::format("  {}:\n", word(device.name));
        made_of(device);
        if (device.kind != Device::Kind::loopback) {
            line("mtu: {}", device.mtu_bytes);
            line("accept-ra: false");
            line("link-local: [{}]", device.nic ? "ipv6" : "");
            line("dhcp4: {}", device.takes_lease ? "true" : "false");
        }
        if (device.takes_lease) {
            line("dhcp-identifier: mac");
            line("dhcp4-overrides: {{route-metric: {}}}", device.lease_metric);
        }
        if (!device.up)
            line("activation-mode: \"off\"");
        if (!device.addresses.empty()) {
            line("addresses:");
            for (lab::AddressId id : device.addresses)
                line("  - \"{}/{}\"", net::to_string(lab_.addresses[id].address),
                     lab_.addresses[id].length);
        }
        if (device.nic && device.nic == lab_.machines[machine_].first_nic)
            name_servers();
        if (!device.routes.empty()) {
            line("routes:");
            for (const routing::Route& route : device.routes)
                line("  - {{to: \"{}\", via: \"{}\", metric: {}}}", net::to_string(route.to),
                     net::to_string(route.via), route.metric);
        }
    }

    void made_of(const Device& device) {
        switch (device.kind) {
        case Device::Kind::loopback: return line("match: {{name: lo}}");
        case Device::Kind::ethernet:
            line("match: {{macaddress: \"{}\"}}", net::to_string(device.mac));
            return line("set-name: {}", word(device.name));
        case Device::Kind::bond: {
            std::string members;
            for (const Device& other : devices_)
                if (other.kind == Device::Kind::ethernet && other.on == device.name)
                    members += (members.empty() ? "" : ", ") + word(other.name);
            line("macaddress: \"{}\"", net::to_string(device.mac));
            line("interfaces: [{}]", members);
            return line("parameters: {{mode: active-backup, mii-monitor-interval: 100}}");
        }
        case Device::Kind::vlan:
            line("macaddress: \"{}\"", net::to_string(device.mac));
            line("link: {}", word(device.on));
            return line("id: {}", device.vlan);
        case Device::Kind::tunnel:
            line("mode: vxlan");
            line("id: {}", device.tunnel.row + 1);
            line("port: {}", lab::tunnel_port);
            line("macaddress: \"{}\"", net::to_string(device.mac));
            if (const auto ends = tunnel_ends(lab_, device)) {
                line("local: \"{}\"", net::to_string(ends->own));
                line("remote: \"{}\"", net::to_string(ends->peer));
            }
        }
    }

    void name_servers() {
        const lab::Duties* duties = lab_.duties_of(machine_);
        if (duties == nullptr || duties->dns.empty())
            return;
        line("nameservers:");
        line("  search: [{}]", word(domain_of(lab_)));
        line("  addresses:");
        for (const net::Address& server : duties->dns)
            line("    - \"{}\"", net::to_string(server));
    }

    const Lab& lab_;
    MachineId machine_;
    const std::vector<Device>& devices_;
    std::string text_;
};

std::string indented(const std::string& text, std::size_t by) {
    std::string result;
    for (std::size_t at = 0; at < text.size();) {
        const std::size_t end = text.find('\n', at);
        const std::string_view line = std::string_view(text).substr(at, end - at);
        result += (line.empty() ? "" : std::string(by, ' ')) + std::string(line) + "\n";
        at = end == text.npos ? text.size() : end + 1;
    }
    return result;
}

std::string users(const plan::Login& login) {
    std::string keys;
    for (const auto& key : login.keys)
        keys += fmt::format("      - {}\n", quoted(key.value));
    if (login.user.value.empty()) // the user that the image has
        return keys.empty() ? "" : "ssh_authorized_keys:\n" + keys;
    return fmt::format("users:\n  - name: {}\n    shell: /bin/bash\n    groups: [sudo]\n    sudo: "
                       "\"ALL=(ALL) NOPASSWD:ALL\"\n    lock_passwd: true\n",
                       word(login.user.value))
           + (keys.empty() ? "" : "    ssh_authorized_keys:\n" + keys);
}

} // namespace

std::string network_config(const Lab& lab, MachineId id, const std::vector<Device>& devices) {
    return heading(lab, id, "cloud-init's network configuration, which netplan reads too")
           + NetworkConfig(lab, id, devices).run();
}

std::string meta_data(const Lab& lab, MachineId id) {
    return heading(lab, id, "cloud-init's meta-data")
           + fmt::format("instance-id: {}\nlocal-hostname: {}\n",
                         word(fmt::format("{}-{}", lab.name, lab.machines[id].name)),
                         word(lab.machines[id].name));
}

std::string user_data(const Lab& lab, MachineId id, const std::map<std::string, std::string>& files,
                      const FirstStart& first) {
    const std::string& name = lab.machines[id].name;
    std::string text = "#cloud-config\n" + heading(lab, id, "cloud-init's user data")
                       + fmt::format("hostname: {}\nfqdn: {}\nmanage_etc_hosts: false\n",
                                     word(name), word(fmt::format("{}.{}", name, domain_of(lab))))
                       + users(lab.login_of(id));
    std::string programs;
    std::string steps;
    auto need = [&](std::string_view file, std::string_view package, std::string_view service) {
        if (!files.contains(std::string(file)))
            return;
        programs += fmt::format("  - {}\n", package);
        steps +=
            fmt::format("  - [systemctl, enable, {0}]\n  - [systemctl, restart, {0}]\n", service);
    };
    need("etc/nftables.conf", "nftables", "nftables");
    need("etc/bird/bird.conf", "bird2", "bird");
    need("etc/dnsmasq.d/lab.conf", "dnsmasq", "dnsmasq");
    if (first.installs && !programs.empty())
        text += "packages:\n" + programs;
    text += "write_files:\n";
    for (const auto& [path, content] : files)
        text += fmt::format("  - path: /{}\n    permissions: \"0644\"\n    content: |\n", path)
                + indented(content, 6);
    for (const std::string& step : first.steps)
        steps += fmt::format("  - {}\n", step);
    return text + "runcmd:\n  - [sysctl, --system]\n" + steps;
}

} // namespace jackal::exports
