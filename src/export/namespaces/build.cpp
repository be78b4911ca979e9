#include "export/namespaces/script.h"

#include <fmt/format.h>

namespace jackal::exports {

using lab::MachineId;

std::string write_build(Script& s) {
    std::string text = "\nbuild() {\n    ip -batch - <<'END'\n";
    for (std::string_view name : running(s))
        text += fmt::format("netns add {}.{}\n", s.lab.name, name);
    text += "END\n";
    text += "    echo 'net.ipv6.conf.default.disable_ipv6 = 1' |\n"
            "        ip netns exec \"$lab._wires\" sysctl -q -p -\n";
    for (MachineId id : s.lab.machines.ids())
        if (s.condition.machine_on(id))
            text += fmt::format("    settle {} {}\n", s.lab.machines[id].name,
                                s.lab.machines[id].forwards ? 1 : 0);
    text += write_wires(s);
    for (lab::LinkId id : s.lab.links.ids())
        if (is_live_tunnel(s, s.lab.segments[s.lab.links[id].segment]))
            text += write_tunnel(s, id);
    for (MachineId id : s.lab.machines.ids())
        if (s.condition.machine_on(id))
            text += write_machine(s, id);
    return text + "}\n";
}

} // namespace jackal::exports
