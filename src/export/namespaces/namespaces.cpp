#include "jackal/export/namespaces.h"

#include "export/namespaces/script.h"
#include "export/settings/settings.h"

#include "jackal/plan/outside.h"

#include <fmt/format.h>

namespace jackal::exports {

Script::Script(const routing::Settled& of, const ScriptOptions& options)
    : with_dhcp(options.with_dhcp), with_routing(options.with_routing), attached(options.attached),
      settled(of), condition(of.condition()), lab(of.lab()) {
    for (const routing::RefusedRoute& row : of.refused())
        refused.insert(row.written);
}

bool Script::is_real(lab::MachineId id) const {
    if (!attached || !lab.machines[id].outside)
        return false;
    const lab::Segment& first = lab.segments[lab.nics[lab.machines[id].first_nic].segment];
    return !first.subnet || lab.subnets[first.subnet].uplink != plan::Uplink::own;
}

lab::MachineId Script::station() const {
    const auto found = lab.machine(plan::outside::workstation);
    return attached && found && lab.machines[*found].outside ? *found : lab::MachineId{};
}

std::string write_settings() {
    return fmt::format("\nsettings() {{\n    cat <<END\n{}END\n}}\n", sysctl_settings("$1"));
}

std::string namespaces_script(const routing::Settled& settled, const ScriptOptions& options) {
    Script s(settled, options);
    std::string questions = write_questions(s);
    return fmt::format(fmt::runtime(script_head), s.lab.name, header_notes(s)) + write_names(s)
           + write_settings() + write_build(s) + write_leases(s) + write_speakers(s)
           + write_services(s) + questions + write_attachment(s) + std::string(script_places)
           + std::string(script_verbs);
}

} // namespace jackal::exports
