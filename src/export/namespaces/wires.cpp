#include "export/namespaces/script.h"

#include <algorithm>
#include <array>
#include <fmt/format.h>
#include <map>

namespace jackal::exports {

using lab::NicId;

namespace {

bool is_live(const Script& s, const lab::Segment& segment) {
    auto on = [&](NicId nic) { return s.runs(s.lab.nics[nic].machine); };
    return segment.link && s.condition.link_up(segment.link)
           && std::ranges::all_of(segment.nics, on);
}

bool is_virtual(const Script& s, NicId nic) {
    return s.virtual_machines.contains(s.lab.nics[nic].machine);
}

// A link that works, between two namespaces: a pair of devices, and nothing between.
bool is_pair(const Script& s, const lab::Segment& segment) {
    return is_live(s, segment) && !s.lab.links[segment.link].is_tunnel
           && std::ranges::none_of(segment.nics, [&](NicId nic) { return is_virtual(s, nic); });
}

// A NIC as `ip link add` takes one end of a pair. NICs have the plan's order on their machine,
// after its loopback, as daemons choose among them by it.
std::string end_of(const Script& s, NicId id) {
    const lab::Nic& nic = s.lab.nics[id];
    const std::uint32_t index = 2 + id.row - s.lab.nics_of(nic.machine).front().row;
    return fmt::format("name {} netns {}.{} index {} address {} mtu {}", nic.name, s.lab.name,
                       s.lab.machines[nic.machine].name, index, net::to_string(nic.mac),
                       nic.mtu_bytes);
}

// Behind those of bridges, which the kernel counts from 1.
constexpr std::uint32_t first_port_index = 1'000'000;

// A bridge with a port for each NIC; a NIC's own MTU alone decides what gets through. The ports
// of a link that does not work stay down, so its NICs have no carrier.
std::string write_bridge(const Script& s, const std::string& bridge, const std::vector<NicId>& nics,
                         const std::string& alias, bool works) {
    std::string text = fmt::format(
        "link add {} type bridge stp_state 0 forward_delay 0 mcast_snooping 0\n", bridge);
    for (NicId nic : nics) {
        if (!s.runs(s.lab.nics[nic].machine))
            continue;
        std::string port = fmt::format("port-{}", nic.row);
        if (is_virtual(s, nic)) // the largest MTU that a TAP device has
            text += fmt::format("tuntap add dev {0} mode tap\nlink set {0} mtu 65521\n", port);
        else
            // The kernel heeds the index of one end only if the other is given one, too.
            text += fmt::format("link add name {} index {} mtu 65535 type veth peer {}\n", port,
                                first_port_index + nic.row, end_of(s, nic));
        text += fmt::format("link set {} master {} {}\n", port, bridge, works ? "up" : "down");
    }
    return text + fmt::format("link set {} alias {} up\n", bridge, alias);
}

// Who is off gives the other end of a cable no carrier.
bool has_both_ends(const Script& s, const lab::Segment& segment) {
    return std::ranges::all_of(
        segment.nics, [&](NicId nic) { return s.condition.machine_on(s.lab.nics[nic].machine); });
}

// Nothing of it is there if the lab is attached.
bool is_outside(const Script& s, const std::vector<NicId>& nics) {
    return s.attached && std::ranges::all_of(nics, [&](NicId nic) {
               return s.is_real(s.lab.nics[nic].machine);
           });
}

std::string write_domains(const Script& s) {
    std::string text;
    for (const auto& [domain, nics] : domains(s)) {
        if (is_outside(s, nics))
            continue;
        std::string names;
        for (NicId nic : nics)
            if (std::string name = s.lab.segment_name(s.lab.nics[nic].segment);
                ("--" + names + "--").find("--" + name + "--") == std::string::npos)
                names += (names.empty() ? "" : "--") + name;
        text += fmt::format("# {}\n", names);
        text += write_bridge(s, fmt::format("domain-{}", nics.front().row), nics,
                             names.substr(0, 250), true);
    }
    return text;
}

std::string alias_of(const Script& s, const lab::Segment& segment) {
    if (segment.subnet)
        return s.lab.subnets[segment.subnet].name;
    return fmt::format("{}--{}", s.lab.machine_name(segment.nics[0]),
                       s.lab.machine_name(segment.nics[1]));
}

} // namespace

std::map<std::uint32_t, std::vector<NicId>> domains(const Script& s) {
    std::map<std::uint32_t, std::vector<NicId>> found;
    for (NicId nic : s.lab.nics.ids())
        if (s.lab.segments[s.lab.nics[nic].segment].subnet)
            found[s.settled.wiring().domain(s.lab, nic)].push_back(nic);
    return found;
}

std::string write_wires(const Script& s) {
    std::string text = "    wires <<'END'\n";
    // Pairs first: their indexes must be free where the wires are, too, while they are made.
    for (lab::SegmentId id : s.lab.segments.ids())
        if (const lab::Segment& segment = s.lab.segments[id]; is_pair(s, segment))
            text += fmt::format("# {}\nlink add {} type veth peer {}\n", s.lab.segment_name(id),
                                end_of(s, segment.nics[0]), end_of(s, segment.nics[1]));
    for (lab::SegmentId id : s.lab.segments.ids()) {
        const lab::Segment& segment = s.lab.segments[id];
        if (segment.loopback || (segment.subnet && s.lab.has_wiring()))
            continue; // every namespace has a loopback; domains are below
        if (is_pair(s, segment) || is_live_tunnel(s, segment) || is_outside(s, segment.nics))
            continue;
        text += fmt::format("# {}\n", s.lab.segment_name(id));
        text += write_bridge(
            s, fmt::format("segment-{}", id.row), segment.nics, alias_of(s, segment),
            !segment.link
                || (s.condition.link_up(segment.link) && !s.lab.links[segment.link].is_tunnel
                    && has_both_ends(s, segment)));
    }
    if (s.lab.has_wiring())
        text += write_domains(s);
    return text + "END\n";
}

std::string Bridges::of(NicId nic) const {
    if (!s_.lab.has_wiring())
        return fmt::format("segment-{}", s_.lab.nics[nic].segment.row);
    const auto& all = domains_.at(s_.settled.wiring().domain(s_.lab, nic));
    return fmt::format("domain-{}", all.front().row);
}

bool is_live_tunnel(const Script& s, const lab::Segment& segment) {
    return is_live(s, segment) && s.lab.links[segment.link].is_tunnel
           && s.lab.links[segment.link].outer;
}

std::string write_tunnel(const Script& s, lab::LinkId id) {
    const lab::Link& link = s.lab.links[id];
    std::string ends;
    std::size_t in_namespaces = 0;
    for (std::size_t end : {0, 1}) {
        const lab::NicId row = end == 0 ? link.first : link.second;
        if (is_virtual(s, row)) // which makes its own end
            continue;
        const lab::Nic& nic = s.lab.nics[row];
        ends +=
            fmt::format(" {} {} {} {} {} {}", s.lab.machines[nic.machine].name, nic.name,
                        net::to_string(nic.mac), nic.mtu_bytes, net::to_string((*link.outer)[end]),
                        net::to_string((*link.outer)[1 - end]));
        ++in_namespaces;
    }
    constexpr std::array verbs{"", "tunnel_end", "tunnel"};
    return in_namespaces == 0
               ? ""
               : fmt::format("    {} {}{}\n", verbs[in_namespaces], id.row + 1, ends);
}

} // namespace jackal::exports
