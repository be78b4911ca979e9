#include "export/settings/settings.h"
#include "jackal/export/csv.h"
#include "jackal/export/json.h"
#include "jackal/export/speakers.h"
#include "jackal/limits.h"

#include <fmt/format.h>

namespace jackal::exports {

using lab::Lab;
using lab::MachineId;

namespace {

// Rules that take the place of those of an earlier plan.
std::string firewall(const Lab& lab, MachineId id) {
    const std::string rules = nftables_rules(lab, id);
    return rules.empty() ? ""
                         : heading(lab, id, "filters and translations")
                               + "table inet jackal\ndelete table inet jackal\n" + rules;
}

std::string dhcp_server(const Lab& lab, MachineId id) {
    std::string lines;
    for (const std::string& line : dhcp_settings(lab, id))
        lines += line + "\n";
    const bool has_leases = !lines.empty();
    const bool has_names = lab.listens(id, {net::Protocol::udp, 53});
    if (has_names)
        lines +=
            fmt::format("domain={}\nexpand-hosts\nlocal=/{}/\n", domain_of(lab), domain_of(lab));
    else
        lines += "port=0\n";
    return has_leases || has_names
               ? heading(lab, id, "whom it gives leases, or names")
                     + "bind-dynamic\nexcept-interface=lo\ndhcp-authoritative\ndhcp-sequential-ip\n"
                     + lines
               : "";
}

// In a large lab each machine knows itself alone, and asks name servers for the others.
std::string names(const Lab& lab, MachineId id) {
    return lab.machines.size() <= limits::machines_in_hosts
               ? hosts_table(lab, id)
               : fmt::format("127.0.0.1 localhost\n127.0.1.1 {0}.{1} {0}\n::1 localhost\n",
                             lab.machines[id].name, domain_of(lab));
}

class Settings {
  public:
    explicit Settings(const routing::Settled& settled) : settled_(settled), lab_(settled.lab()) {}

    std::vector<File> run() {
        add("README", readme());
        add("lab/hosts",
            "# The lab " + lab_.name + " (" + place_of(lab_, {}) + ")\n" + hosts_table(lab_, {}));
        for (const auto& [name, text] : zones(lab_))
            add("lab/zones/" + name + ".zone", text);
        add("lab/ssh_config", ssh_settings(lab_));
        add("lab/inventory.csv", machines_csv(lab_));
        add("lab/inventory.json", machines_json(lab_));
        add("lab/topology.json", topology_json(lab_));
        for (MachineId id : lab_.machines.ids())
            if (!lab_.machines[id].outside)
                add_machine(id);
        std::vector<File> files;
        for (auto& [path, text] : files_)
            files.push_back({path, std::move(text)});
        return files;
    }

  private:
    void add(const std::string& path, std::string text) {
        if (!text.empty())
            files_[path] = std::move(text);
    }

    void add_machine(MachineId id) {
        const std::string folder = "machines/" + lab_.machines[id].name + "/";
        const std::map<std::string, std::string> system = system_files(settled_, id);
        for (const auto& [path, text] : system)
            add(folder + "system/" + path, text);
        const std::vector<Device> own = devices(settled_, id);
        for (const auto& [name, text] : networkd_units(lab_, id, own))
            add(folder + "networkd/etc/systemd/network/" + name, text);
        add(folder + "ifupdown/etc/network/interfaces", interfaces_file(lab_, id, own));
        add(folder + "cloud-init/network-config", network_config(lab_, id, own));
        add(folder + "cloud-init/meta-data", meta_data(lab_, id));
        add(folder + "cloud-init/user-data", user_data(lab_, id, system));
    }

    std::string readme() const {
        return fmt::format(
            "The settings of the machines of the lab {} ({}).\n\n"
            "machines/NAME/system/       to be copied to / of that machine, whatever sets its "
            "NICs\n"
            "machines/NAME/networkd/     its NICs by systemd-networkd; or\n"
            "machines/NAME/ifupdown/     its NICs by Debian's ifupdown; or\n"
            "machines/NAME/cloud-init/   all of it, as the seed of a machine that starts by "
            "cloud-init (NoCloud)\n"
            "lab/                        the inventory, names for a name server or /etc/hosts, "
            "ssh, the topology (RFC 8345)\n\n"
            "NICs are named by their MACs with networkd and cloud-init; ifupdown takes them by "
            "their names.\n"
            "Names end in .{}.\n",
            lab_.name, place_of(lab_, {}), domain_of(lab_));
    }

    const routing::Settled& settled_;
    const Lab& lab_;
    std::map<std::string, std::string> files_;
};

} // namespace

std::map<std::string, std::string> system_files(const routing::Settled& settled, MachineId id) {
    const Lab& lab = settled.lab();
    const lab::Machine& machine = lab.machines[id];
    std::map<std::string, std::string> files{
        {"etc/hostname", machine.name + "\n"},
        {"etc/hosts", heading(lab, id, "names") + names(lab, id)},
        {"etc/sysctl.d/60-lab.conf", heading(lab, id, "how its kernel behaves")
                                         + sysctl_settings(machine.forwards_any() ? "1" : "0")},
        {"etc/resolv.conf", resolver_settings(lab, id)},
        {"etc/nftables.conf", firewall(lab, id)},
        {"etc/dnsmasq.d/lab.conf", dhcp_server(lab, id)}};
    if (lab.speaker(id) != nullptr)
        files["etc/bird/bird.conf"] = bird_settings(settled, id);
    std::erase_if(files, [](const auto& file) { return file.second.empty(); });
    return files;
}

std::vector<File> settings_files(const routing::Settled& settled) {
    return Settings(settled).run();
}

} // namespace jackal::exports
