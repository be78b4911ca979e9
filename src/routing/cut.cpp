#include "jackal/routing/cut.h"

#include "jackal/plan/validate.h"

#include <algorithm>
#include <charconv>
#include <fmt/format.h>
#include <map>

namespace jackal::routing {

using lab::Lab;
using lab::MachineId;
using Maybe = std::optional<Cut>;

std::string_view to_string(Protocol protocol) {
    switch (protocol) {
    case Protocol::ospf: return "ospf";
    case Protocol::rip: return "rip";
    case Protocol::bgp: break;
    }
    return "bgp";
}

namespace {

std::optional<lab::SwitchId> switch_named(const Lab& lab, std::string_view name) {
    for (lab::SwitchId id : lab.switches.ids())
        if (lab.switches[id].name == name)
            return id;
    return std::nullopt;
}

// What `parse(one, other)` makes of the two ends of `ONE--OTHER`, wherever that can be parted:
// names may have such dashes inside, too.
template <class Parse>
Maybe parted(std::string_view text, Parse parse) {
    for (std::size_t dashes = text.find("--"); dashes != text.npos;
         dashes = text.find("--", dashes + 1))
        if (Maybe cut = parse(text.substr(0, dashes), text.substr(dashes + 2)))
            return cut;
    return {};
}

Maybe parse_session(const Lab& lab, Protocol protocol, std::string_view first,
                    std::string_view second) {
    auto one = lab.machine(first);
    auto other = lab.machine(second);
    if (!one || !other || lab.speaker(*one) == nullptr || lab.speaker(*other) == nullptr)
        return {};
    return SessionCut{protocol, {*one, *other}};
}

// By the names of the machines, switches or sites at both ends, or of the NICs or ports.
Maybe parse_link(const Lab& lab, std::string_view one, std::string_view other) {
    LinkCut cut{{std::string(one), std::string(other)}, {}, {}};
    auto joins = [&](const std::string& first, const std::string& second) {
        return (first == one && second == other) || (first == other && second == one);
    };
    for (lab::LinkId id : lab.links.ids()) {
        const lab::Link& link = lab.links[id];
        if (joins(lab.machine_name(link.first), lab.machine_name(link.second))
            || joins(lab.nic_name(link.first), lab.nic_name(link.second)))
            cut.links.push_back(id);
    }
    // Two sites: all that their peering is made of.
    for (lab::LinkId id : lab.links.ids())
        if (lab::PeeringId peering = lab.links[id].peering;
            peering
            && joins(lab.sites[lab.peerings[peering].sites[0]].name,
                     lab.sites[lab.peerings[peering].sites[1]].name))
            cut.links.push_back(id);
    auto switch_name = [&](lab::PortId port) -> const std::string& {
        return lab.switches[lab.ports[port].owner].name;
    };
    for (lab::CableId id : lab.cables.ids()) {
        const lab::Cable& cable = lab.cables[id];
        if (joins(switch_name(cable.first), switch_name(cable.second))
            || joins(lab.port_name(cable.first), lab.port_name(cable.second)))
            cut.cables.push_back(id);
    }
    if (cut.links.empty() && cut.cables.empty())
        return {};
    return cut;
}

// The whole switch, a port of it, or `PORT:VLAN`.
Maybe parse_switch(const Lab& lab, lab::SwitchId owner, std::string_view port) {
    if (port.empty())
        return SwitchCut{owner};
    std::size_t colon = port.find(':');
    for (lab::PortId id : lab.ports.ids()) {
        const lab::Port& row = lab.ports[id];
        if (row.owner != owner || row.name != port.substr(0, colon))
            continue;
        if (colon == port.npos)
            return PortCut{id, std::nullopt};
        std::uint16_t vlan = 0;
        std::string_view text = port.substr(colon + 1);
        auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), vlan);
        if (error != std::errc{} || end != text.data() + text.size() || !row.carries(vlan))
            return {};
        return PortCut{id, vlan};
    }
    return {};
}

Maybe parse_wire(const Lab& lab, MachineId machine, std::string_view wire) {
    for (std::uint32_t i = 0; i < lab.plugs.size(); ++i)
        if (lab.nics[lab.plugs[i].nic].machine == machine && lab.plugs[i].member == wire)
            return WireCut{i};
    return {};
}

} // namespace

Maybe parse_cut(const Lab& lab, std::string_view text) {
    for (Protocol protocol : {Protocol::ospf, Protocol::rip, Protocol::bgp})
        if (std::string_view name = to_string(protocol);
            text.starts_with(name) && text.substr(name.size()).starts_with(':'))
            return parted(text.substr(name.size() + 1), [&](auto one, auto other) {
                return parse_session(lab, protocol, one, other);
            });
    if (Maybe link =
            parted(text, [&](auto one, auto other) { return parse_link(lab, one, other); }))
        return link;
    auto [owner, part] = plan::split_endpoint(text);
    if (auto id = switch_named(lab, owner))
        return parse_switch(lab, *id, part);
    auto machine = lab.machine(owner);
    if (!machine)
        return {};
    if (owner.size() == text.size())
        return MachineCut{*machine};
    auto nic = lab.nic(*machine, part);
    if (!nic)
        return parse_wire(lab, *machine, part);
    if (lab.nics[*nic].is_loopback()) // that cannot be cut
        return {};
    return NicCut{*nic};
}

std::string unknown_cut(std::string_view text) {
    return fmt::format(
        "{}: the lab has no such machine, NIC, link, switch or port; write MACHINE, "
        "MACHINE/NIC, MACHINE--MACHINE, MACHINE/NIC--MACHINE/NIC, SITE--SITE, SWITCH, "
        "SWITCH/PORT, SWITCH/PORT:VLAN or ospf:MACHINE--MACHINE (rip:, bgp:)",
        text);
}

namespace {

struct Printer {
    const Lab& lab;

    std::string operator()(const MachineCut& cut) const { return lab.machines[cut.machine].name; }
    std::string operator()(const NicCut& cut) const { return lab.nic_name(cut.nic); }
    std::string operator()(const WireCut& cut) const {
        const lab::Plug& plug = lab.plugs[cut.plug];
        return lab.machine_name(plug.nic) + "/" + plug.member;
    }
    std::string operator()(const LinkCut& cut) const { return cut.ends[0] + "--" + cut.ends[1]; }
    std::string operator()(const SwitchCut& cut) const { return lab.switches[cut.owner].name; }
    std::string operator()(const PortCut& cut) const {
        return lab.port_name(cut.port) + (cut.vlan ? fmt::format(":{}", *cut.vlan) : "");
    }
    std::string operator()(const SessionCut& cut) const {
        return fmt::format("{}:{}--{}", to_string(cut.protocol), lab.machines[cut.ends[0]].name,
                           lab.machines[cut.ends[1]].name);
    }
};

} // namespace

std::string to_string(const Lab& lab, const Cut& cut) {
    return std::visit(Printer{lab}, cut);
}

std::vector<Cut> single_cuts(const Lab& lab) {
    auto machine_of = [&](lab::NicId nic) { return lab.nics[nic].machine; };
    auto switch_of = [&](lab::PortId port) { return lab.ports[port].owner; };
    // One of several links between two machines, or cables between two switches, goes by its NICs
    // or ports.
    std::map<std::pair<MachineId, MachineId>, int> links;
    std::map<std::pair<lab::SwitchId, lab::SwitchId>, int> cables;
    auto machines = [&](const lab::Link& link) {
        return std::minmax({machine_of(link.first), machine_of(link.second)});
    };
    auto switches = [&](const lab::Cable& cable) {
        return std::minmax({switch_of(cable.first), switch_of(cable.second)});
    };
    for (const lab::Link& link : lab.links)
        ++links[machines(link)];
    for (const lab::Cable& cable : lab.cables)
        ++cables[switches(cable)];

    std::vector<Cut> cuts;
    auto is_outside = [&](lab::NicId nic) { return lab.machines[machine_of(nic)].outside; };
    for (lab::LinkId id : lab.links.ids()) {
        const lab::Link& link = lab.links[id];
        if (link.peering || !link.up || is_outside(link.first) || is_outside(link.second))
            continue;
        bool alone = links[machines(link)] == 1;
        auto end = [&](lab::NicId nic) {
            return alone ? lab.machine_name(nic) : lab.nic_name(nic);
        };
        cuts.emplace_back(LinkCut{{end(link.first), end(link.second)}, {id}, {}});
    }
    for (lab::CableId id : lab.cables.ids()) {
        const lab::Cable& cable = lab.cables[id];
        bool alone = cables[switches(cable)] == 1;
        auto end = [&](lab::PortId port) {
            return alone ? lab.switches[switch_of(port)].name : lab.port_name(port);
        };
        cuts.emplace_back(LinkCut{{end(cable.first), end(cable.second)}, {}, {id}});
    }
    return cuts;
}

} // namespace jackal::routing
