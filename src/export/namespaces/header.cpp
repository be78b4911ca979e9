#include "export/namespaces/script.h"
#include "jackal/export/speakers.h"

#include <fmt/format.h>

namespace jackal::exports {

using lab::MachineId;

namespace {

double milliseconds(std::chrono::microseconds time) {
    return static_cast<double>(time.count()) / 1000;
}

// `WHICH='…'`, broken into lines.
std::string name_list(std::string_view which, const std::vector<std::string_view>& names) {
    std::string text = fmt::format("{}='", which);
    std::size_t line_start = 0;
    for (std::string_view name : names) {
        if (text.size() - line_start + name.size() > 98) {
            text += '\n';
            line_start = text.size();
        } else if (text.back() != '\'') {
            text += ' ';
        }
        text += name;
    }
    return text + "'\n";
}

} // namespace

std::vector<std::string_view> running(const Script& s) {
    std::vector<std::string_view> names;
    for (MachineId id : s.lab.machines.ids())
        if (s.runs(id))
            names.push_back(s.lab.machines[id].name);
    return names;
}

std::string write_names(const Script& s) {
    std::vector<std::string_view> others;
    for (MachineId id : s.virtual_machines)
        others.push_back(s.lab.machines[id].name);
    return name_list("machines", running(s)) + (others.empty() ? "" : name_list("virtual", others));
}

std::string header_notes(const Script& s) {
    std::string notes;
    auto note = [&](const std::string& text) { notes += fmt::format("#   - {}\n", text); };
    for (lab::LinkId id : s.lab.links.ids()) {
        const lab::Link& link = s.lab.links[id];
        std::string name = s.lab.segment_name(link.segment);
        if (link.delay.count() != 0)
            note(fmt::format("{}: no delay, instead of {:g} ms", name, milliseconds(link.delay)));
        if (link.jitter.count() != 0)
            note(fmt::format("{}: no jitter, instead of up to {:g} ms", name,
                             milliseconds(link.jitter)));
        if (link.loss != 0)
            note(fmt::format("{}: no packet is lost, instead of {:g} %", name, link.loss * 100));
    }
    for (MachineId id : s.lab.machines.ids())
        if (!s.condition.machine_on(id))
            note(fmt::format("{} is off: it is not started", s.lab.machines[id].name));
    if (s.attached)
        note("outside is this computer and its network: `start --dry-run` says what that changes, "
             "and only IPv4 goes out by `uplink: nat`");
    for (const lab::Link& link : s.lab.links)
        if (link.is_tunnel)
            note(fmt::format("{}: VXLAN if this kernel has it, else a pair of devices",
                             s.lab.segment_name(link.segment)));
    if (s.with_routing)
        for (const lab::Speaker& speaker : s.lab.speakers)
            for (const std::string& text : bird_notes(s.settled, speaker.machine))
                note(text);
    else if (s.lab.speakers.size() != 0)
        note("OSPF, RIP and BGP: the routes that they end up with, which no longer change");
    if (s.lab.has_wiring())
        note("switches: each broadcast domain is one bridge, each bond one NIC");
    for (const lab::UnresolvedRoute& row : s.lab.unresolved_routes)
        note(fmt::format("{} has no route via {}, which is on none of its segments",
                         s.lab.machines[row.machine].name, row.via));
    for (const std::string& text : s.unasked)
        note(text);
    return notes.empty() ? "#   nothing\n" : notes;
}

} // namespace jackal::exports
