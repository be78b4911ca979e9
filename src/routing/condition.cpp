#include "jackal/routing/condition.h"

#include <algorithm>
#include <stdexcept>

namespace jackal::routing {

using lab::Lab;
using lab::NicId;

Condition::Condition(const Lab& lab) : wiring_(lab) {
    for (const lab::Machine& machine : lab.machines)
        machine_on_.push_back(machine.up ? 1 : 0);
    for (const lab::Nic& nic : lab.nics)
        nic_up_.push_back(nic.up ? 1 : 0);
    for (const lab::Link& link : lab.links)
        link_up_.push_back(link.up ? 1 : 0);
}

bool is_held_down(const Lab& lab, const Cut& what) {
    const Condition planned(lab);
    Condition without = planned;
    without.apply(what);
    return without == planned;
}

bool Condition::only_takes_from(const Condition& other) const {
    auto takes = [](const Flags& here, const Flags& there) {
        unsigned more = 0;
        for (std::size_t i = 0; i < here.size(); ++i)
            more |= here[i] & ~there[i];
        return more == 0;
    };
    return wiring_ == other.wiring_ && silenced_ == other.silenced_
           && takes(machine_on_, other.machine_on_) && takes(nic_up_, other.nic_up_)
           && takes(link_up_, other.link_up_);
}

Condition::Difference Condition::difference(const Condition& other) const {
    auto rows = [](const Flags& one, const Flags& another, auto& into) {
        if (one == another)
            return;
        for (std::uint32_t row = 0; row < one.size(); ++row)
            if (one[row] != another[row])
                into.push_back({row});
    };
    Difference found;
    rows(machine_on_, other.machine_on_, found.machines);
    rows(nic_up_, other.nic_up_, found.nics);
    rows(link_up_, other.link_up_, found.links);
    return found;
}

bool Condition::carries(const Lab& lab, NicId nic, net::Family family) const {
    return nic_up(nic)
           && (family == net::Family::ipv4
               || lab.nics[nic].mtu_bytes >= lab::ipv6_minimum_mtu_bytes);
}

void Condition::apply(const Cut& cut) {
    if (const auto* machine = std::get_if<MachineCut>(&cut)) {
        machine_on_[machine->machine.row] = 0;
    } else if (const auto* nic = std::get_if<NicCut>(&cut)) {
        nic_up_[nic->nic.row] = 0;
    } else if (const auto* wire = std::get_if<WireCut>(&cut)) {
        wiring_.plug_up[wire->plug] = false;
    } else if (const auto* between = std::get_if<LinkCut>(&cut)) {
        for (lab::LinkId link : between->links)
            link_up_[link.row] = 0;
        for (lab::CableId cable : between->cables)
            wiring_.cable_up[cable.row] = false;
    } else if (const auto* whole = std::get_if<SwitchCut>(&cut)) {
        wiring_.switch_on[whole->owner.row] = false;
    } else if (const auto* port = std::get_if<PortCut>(&cut)) {
        if (port->vlan)
            wiring_.barred.emplace(port->port, *port->vlan);
        else
            wiring_.port_up[port->port.row] = false;
    } else {
        const auto& session = std::get<SessionCut>(cut);
        auto [one, other] = std::minmax(session.ends[0], session.ends[1]);
        silenced_.emplace(session.protocol, one, other);
    }
}

void Condition::cut(const Lab& lab, std::string_view what) {
    auto cut = parse_cut(lab, what);
    if (!cut)
        throw std::invalid_argument(unknown_cut(what));
    apply(*cut);
}

} // namespace jackal::routing
