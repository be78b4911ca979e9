#include "jackal/export/speakers.h"
#include "export/namespaces/script.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::exports {

using lab::MachineId;

namespace {

// The line that asks whether one end hears the other, for what both should.
std::string write_neighbour(const Script& s, const routing::Neighbour& n) {
    if (n.state != routing::NeighbourState::full && n.state != routing::NeighbourState::two_way)
        return "";
    const int family = n.family == net::Family::ipv4 ? 4 : 6;
    const std::string_view machine = s.lab.machines[n.machine].name;
    const std::string_view other = s.lab.machines[n.other].name;
    switch (n.protocol) {
    case routing::Protocol::ospf:
        return fmt::format("    ospf {} ospf{} {} {} {} {}\n", machine, family, other,
                           net::to_string(*s.lab.speaker(n.other)->router_id),
                           n.transit ? "vlink" : s.lab.nics[n.nic].name, routing::state_name(n));
    case routing::Protocol::rip:
        return fmt::format(
            "    rip {} rip{} {} {}\n", machine, family, other,
            net::to_string(n.family == net::Family::ipv4
                               ? s.lab.first_address(n.other_nic, n.family)->address
                               : net::link_local_address(s.lab.nics[n.other_nic].mac)));
    case routing::Protocol::bgp: break;
    }
    return fmt::format("    bgp {} bgp{}_{} {}\n", machine, family, n.configured, other);
}

// So long nothing may change before all is taken for settled: twice what news of RIP may wait (5 s,
// RFC 2453 section 3.10.1), and what OSPF announces anew (MinLSInterval, RFC 2328 appendix B).
constexpr int calm_seconds = 10;

} // namespace

bool runs_daemon(const Script& s, MachineId id) {
    return s.with_routing && s.in_namespace(id) && s.lab.speaker(id) != nullptr;
}

std::string write_speakers(const Script& s) {
    std::string text = "\nspeakers() {\n";
    bool any = false;
    for (const lab::Speaker& speaker : s.lab.speakers) {
        if (!runs_daemon(s, speaker.machine))
            continue;
        if (!any)
            text += "    command -v bird >/dev/null || fail \"start needs bird\"\n"
                    "    mkdir -m 700 \"$speaking\"\n";
        any = true;
        text += fmt::format("    speak {} <<'END'\n{}END\n", s.lab.machines[speaker.machine].name,
                            bird_settings(s.settled, speaker.machine));
    }
    auto speaks = [&](const lab::Speaker& speaker) {
        return s.condition.machine_on(speaker.machine);
    };
    if (!s.with_routing || std::ranges::none_of(s.lab.speakers, speaks))
        return "\nsettle_seconds=\nspeakers() { :; }\n";
    text += "    :\n}\nneighbours() {\n    :\n";
    for (const routing::Neighbour& n : s.settled.lessons()->neighbours())
        text += write_neighbour(s, n);
    return fmt::format("\nsettle_seconds={}\ncalm_seconds={}{}}}\n",
                       longest_settling(s.lab).count(), calm_seconds, text);
}

} // namespace jackal::exports
