#include "export/namespaces/script.h"

#include <fmt/format.h>

namespace jackal::exports {

using lab::MachineId;

std::string write_build(Script& s) {
    std::string text = "\nbuild() {\n";
    if (!s.virtual_machines.empty())
        text += "    prepare\n";
    text += "    ip -batch - <<'END'\n";
    std::vector<MachineId> namespaces;
    for (MachineId id : s.lab.machines.ids())
        if (s.in_namespace(id))
            namespaces.push_back(id);
    for (MachineId id : namespaces)
        text += fmt::format("netns add {}.{}\n", s.lab.name, s.lab.machines[id].name);
    text += "END\n";
    text += "    echo 'net.ipv6.conf.default.disable_ipv6 = 1' |\n"
            "        ip netns exec \"$lab._wires\" sysctl -q -p -\n";
    for (MachineId id : namespaces)
        text += fmt::format("    settle {} {}\n", s.lab.machines[id].name,
                            s.lab.machines[id].forwards_any() ? 1 : 0);
    text += write_wires(s) + s.boots;
    for (lab::LinkId id : s.lab.links.ids())
        if (is_live_tunnel(s, s.lab.segments[s.lab.links[id].segment]))
            text += write_tunnel(s, id);
    for (MachineId id : namespaces)
        text += write_machine(s, id);
    return text + "}\n";
}

} // namespace jackal::exports
