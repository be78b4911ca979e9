#include "jackal/routing/condition.h"

#include <charconv>

namespace jackal::routing {

using lab::Lab;
using lab::MachineId;
using lab::NicId;

Condition::Condition(const Lab& lab) : wiring_(lab) {
    for (const lab::Machine& machine : lab.machines)
        machine_on_.push_back(machine.up);
    for (const lab::Nic& nic : lab.nics)
        nic_up_.push_back(nic.up);
    for (const lab::Link& link : lab.links)
        link_up_.push_back(link.up);
}

bool Condition::only_takes_from(const Condition& other) const {
    auto takes = [](const std::vector<bool>& here, const std::vector<bool>& there) {
        for (std::size_t i = 0; i < here.size(); ++i)
            if (here[i] && !there[i])
                return false;
        return true;
    };
    return wiring_ == other.wiring_ && silenced_ == other.silenced_
           && takes(machine_on_, other.machine_on_) && takes(nic_up_, other.nic_up_)
           && takes(link_up_, other.link_up_);
}

bool Condition::carries(const Lab& lab, NicId nic, net::Family family) const {
    return nic_up(nic)
           && (family == net::Family::ipv4
               || lab.nics[nic].mtu_bytes >= lab::ipv6_minimum_mtu_bytes);
}

bool Condition::cut(const Lab& lab, std::string_view what) {
    for (Protocol protocol : {Protocol::ospf, Protocol::rip, Protocol::bgp})
        if (std::string_view name = to_string(protocol);
            what.starts_with(name) && what.substr(name.size()).starts_with(':'))
            return cut_session(lab, protocol, what.substr(name.size() + 1));
    if (std::size_t dashes = what.find("--"); dashes != what.npos)
        return cut_links(lab, what.substr(0, dashes), what.substr(dashes + 2));
    std::size_t slash = what.find('/');
    for (lab::SwitchId id : lab.switches.ids())
        if (lab.switches[id].name == what.substr(0, slash))
            return cut_switch(lab, id, slash == what.npos ? "" : what.substr(slash + 1));
    auto machine = lab.machine(what.substr(0, slash));
    if (!machine)
        return false;
    if (slash == what.npos) {
        machine_on_[machine->row] = false;
        return true;
    }
    auto nic = lab.nic(*machine, what.substr(slash + 1));
    if (!nic)
        return cut_wire(lab, *machine, what.substr(slash + 1));
    if (lab.nics[*nic].is_loopback()) // that cannot be cut
        return false;
    nic_up_[nic->row] = false;
    return true;
}

bool Condition::cut_links(const Lab& lab, std::string_view one, std::string_view other) {
    bool found = false;
    auto joins = [&](const std::string& first, const std::string& second) {
        return (first == one && second == other) || (first == other && second == one);
    };
    for (lab::LinkId id : lab.links.ids())
        if (joins(lab.machine_name(lab.links[id].first), lab.machine_name(lab.links[id].second))) {
            link_up_[id.row] = false;
            found = true;
        }
    // Two sites: all that their peering is made of.
    for (lab::LinkId id : lab.links.ids())
        if (lab::PeeringId peering = lab.links[id].peering;
            peering
            && joins(lab.sites[lab.peerings[peering].sites[0]].name,
                     lab.sites[lab.peerings[peering].sites[1]].name)) {
            link_up_[id.row] = false;
            found = true;
        }
    auto switch_name = [&](lab::PortId port) -> const std::string& {
        return lab.switches[lab.ports[port].owner].name;
    };
    for (lab::CableId id : lab.cables.ids())
        if (joins(switch_name(lab.cables[id].first), switch_name(lab.cables[id].second))) {
            wiring_.cable_up[id.row] = false;
            found = true;
        }
    return found;
}

// The whole switch, a port of it, or `PORT:VLAN`.
bool Condition::cut_switch(const Lab& lab, lab::SwitchId owner, std::string_view port) {
    if (port.empty()) {
        wiring_.switch_on[owner.row] = false;
        return true;
    }
    std::size_t colon = port.find(':');
    for (lab::PortId id : lab.ports.ids()) {
        const lab::Port& row = lab.ports[id];
        if (row.owner != owner || row.name != port.substr(0, colon))
            continue;
        if (colon == port.npos) {
            wiring_.port_up[id.row] = false;
            return true;
        }
        std::uint16_t vlan = 0;
        std::string_view text = port.substr(colon + 1);
        auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), vlan);
        if (error != std::errc{} || end != text.data() + text.size() || !row.carries(vlan))
            return false;
        wiring_.barred.emplace(id, vlan);
        return true;
    }
    return false;
}

bool Condition::cut_session(const Lab& lab, Protocol protocol, std::string_view ends) {
    std::size_t dashes = ends.find("--");
    if (dashes == ends.npos)
        return false;
    auto one = lab.machine(ends.substr(0, dashes));
    auto other = lab.machine(ends.substr(dashes + 2));
    if (!one || !other || lab.speaker(*one) == nullptr || lab.speaker(*other) == nullptr)
        return false;
    silenced_.emplace(protocol, std::min(*one, *other), std::max(*one, *other));
    return true;
}

bool Condition::cut_wire(const Lab& lab, MachineId machine, std::string_view wire) {
    for (std::size_t i = 0; i < lab.plugs.size(); ++i)
        if (lab.nics[lab.plugs[i].nic].machine == machine && lab.plugs[i].member == wire) {
            wiring_.plug_up[i] = false;
            return true;
        }
    return false;
}

} // namespace jackal::routing
