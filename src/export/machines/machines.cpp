#include "export/machines/machines.h"
#include "export/namespaces/script.h"
#include "export/settings/settings.h"
#include "jackal/export/machines.h"
#include "jackal/lab/start_order.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::exports {

using lab::Lab;
using lab::MachineId;

namespace {

constexpr std::uint32_t usual_memory_mib = 512;

// What runs as root on the machine's side of its port for commands, and on its console.
constexpr std::string_view commands_unit = "[Unit]\n"
                                           "Description=Commands of the lab\n"
                                           "[Service]\n"
                                           "ExecStart=/bin/sh /usr/local/sbin/lab-commands\n"
                                           "Restart=always\n"
                                           "[Install]\n"
                                           "WantedBy=multi-user.target\n";
constexpr std::string_view console_unit =
    "[Service]\n"
    "ExecStart=\n"
    "ExecStart=-/sbin/agetty --autologin root --keep-baud 115200,9600 - $TERM\n";

void add_seed(const routing::Settled& settled, MachineId id, std::vector<File>& into) {
    const Lab& lab = settled.lab();
    std::map<std::string, std::string> files = system_files(settled, id);
    files["usr/local/sbin/lab-commands"] = lab_commands;
    files["etc/systemd/system/lab-commands.service"] = commands_unit;
    files["etc/systemd/system/serial-getty@ttyS0.service.d/lab.conf"] = console_unit;
    const FirstStart first{.installs = false, // nothing reaches a mirror before the lab is whole
                           .steps = {"[systemctl, daemon-reload]",
                                     "[systemctl, restart, serial-getty@ttyS0]",
                                     "[systemctl, enable, --now, lab-commands]"}};
    const std::string folder = fmt::format("seeds/{}/", lab.machines[id].name);
    into.push_back({folder + "meta-data", meta_data(lab, id)});
    into.push_back(
        {folder + "network-config", network_config(lab, id, devices_on_bridges(settled, id))});
    into.push_back({folder + "user-data", user_data(lab, id, files, first)});
}

// For the shell, of a file's name from the folder on.
std::string file_word(const plan::Placed<std::string>& file, std::string_view images) {
    if (file.value.empty())
        return "''";
    return plan::shell_word(file.value.front() == '/' ? file.value
                                                      : fmt::format("{}/{}", images, file.value));
}

std::string write_boot(const Script& s, MachineId id, std::string_view images) {
    const lab::Machine& machine = s.lab.machines[id];
    const plan::Image& image = s.lab.image_of(id);
    const std::string disk =
        machine.sizes.disk_mib == 0 ? "''" : fmt::format("{}", machine.sizes.disk_mib);
    std::string text =
        fmt::format("    boot {} {} {} {} {} {} {} '{}'", machine.name,
                    std::max(machine.sizes.cpus, std::uint32_t{1}),
                    machine.sizes.memory_mib == 0 ? usual_memory_mib : machine.sizes.memory_mib,
                    disk, file_word(image.disk, images), file_word(image.kernel, images),
                    file_word(image.initrd, images), image.arguments.value);
    for (lab::NicId nic : s.lab.nics_of(id))
        if (const lab::Nic& row = s.lab.nics[nic]; !row.is_loopback() && !s.lab.tunnel(nic))
            text += fmt::format(" \\\n        port-{}={}", nic.row, net::to_string(row.mac));
    return text + "\n";
}

} // namespace

bool is_virtual(const Lab& lab, MachineId id) {
    const lab::Machine& machine = lab.machines[id];
    return !machine.outside && !machine.is_core && !lab.image_of(id).is_namespace.value_or(false);
}

std::vector<MachineId> without_image(const Lab& lab) {
    std::vector<MachineId> found;
    for (MachineId id : lab.machines.ids())
        if (is_virtual(lab, id) && lab.image_of(id).disk.value.empty())
            found.push_back(id);
    return found;
}

std::vector<File> machines_files(const routing::Settled& settled, std::string_view images,
                                 bool attached) {
    Script s(settled, {.with_dhcp = true, .with_routing = true, .attached = attached});
    std::vector<File> files{{"lab.sh", ""}};
    for (const lab::Start& start : lab::start_order(s.lab)) {
        if (!is_virtual(s.lab, start.machine) || !s.runs(start.machine))
            continue;
        s.virtual_machines.insert(start.machine);
        s.boots += write_boot(s, start.machine, images);
        add_seed(settled, start.machine, files);
    }
    const std::string questions = write_questions(s);
    files.front().text = fmt::format(fmt::runtime(machines_head), s.lab.name, header_notes(s))
                         + write_names(s) + write_settings() + write_build(s) + write_leases(s)
                         + write_speakers(s) + write_services(s) + questions + write_attachment(s)
                         + std::string(machines_places) + std::string(script_verbs);
    std::ranges::sort(files, {}, &File::path);
    return files;
}

} // namespace jackal::exports
