#include "jackal/routing/settled.h"

#include <algorithm>

namespace jackal::routing {

using lab::Lab;
using lab::MachineId;
using lab::NicId;

Condition::Condition(const Lab& lab) {
    for (const lab::Machine& machine : lab.machines)
        machine_on_.push_back(machine.up);
    for (const lab::Nic& nic : lab.nics)
        nic_up_.push_back(nic.up);
    for (const lab::Link& link : lab.links)
        link_up_.push_back(link.up);
}

bool Condition::cut(const Lab& lab, std::string_view what) {
    if (std::size_t dashes = what.find("--"); dashes != what.npos) {
        auto first = lab.machine(what.substr(0, dashes));
        auto second = lab.machine(what.substr(dashes + 2));
        bool found = false;
        for (lab::LinkId id : lab.links.ids()) {
            MachineId a = lab.nics[lab.links[id].first].machine;
            MachineId b = lab.nics[lab.links[id].second].machine;
            if ((first == a && second == b) || (first == b && second == a)) {
                link_up_[id.row] = false;
                found = true;
            }
        }
        return found;
    }
    std::size_t slash = what.find('/');
    auto machine = lab.machine(what.substr(0, slash));
    if (!machine)
        return false;
    if (slash == what.npos) {
        machine_on_[machine->row] = false;
        return true;
    }
    auto nic = lab.nic(*machine, what.substr(slash + 1));
    if (nic)
        nic_up_[nic->row] = false;
    return nic.has_value();
}

std::string_view to_string(RouteKind kind) {
    switch (kind) {
    case RouteKind::local: return "local";
    case RouteKind::broadcast: return "broadcast";
    case RouteKind::connected: return "connected";
    case RouteKind::static_route: break;
    }
    return "static";
}

std::span<const Route> Settled::routes(MachineId machine) const {
    return std::span(routes_).subspan(first_route_[machine.row],
                                      first_route_[machine.row + 1] - first_route_[machine.row]);
}

void Settled::answering(NicId asking, net::Address address, std::vector<NicId>& into) const {
    into.clear();
    lab::SegmentId segment = lab_->nics[asking].segment;
    if (lab::LinkId link = lab_->segments[segment].link; link && !condition_.link_up(link))
        return;
    bool ipv6 = address.family() == net::Family::ipv6;
    for (const lab::Owner& owner : lab_->owners_of(address)) {
        MachineId machine = lab_->nics[owner.nic].machine;
        for (NicId nic : lab_->nics_of(machine)) {
            if (lab_->nics[nic].segment != segment || !is_usable(nic) || nic == asking
                || (ipv6 && nic != owner.nic))
                continue;
            if (std::ranges::find(into, nic) == into.end())
                into.push_back(nic);
            break;
        }
    }
}

// --- building ------------------------------------------------------------------------------

// A NIC that is down keeps its IPv4 addresses, and the machine still answers at them by its other
// NICs; its IPv6 addresses are gone, and so are all routes by it.
void Settled::add_nic_routes(NicId nic) {
    bool up = condition_.nic_up(nic);
    for (lab::AddressId id : lab_->addresses_of(nic)) {
        const lab::InterfaceAddress& row = lab_->addresses[id];
        net::Family family = row.address.family();
        if (!up && family == net::Family::ipv6)
            continue;
        auto add = [&](const net::Prefix& to, RouteKind kind) {
            routes_.push_back({to, kind, nic, {}, row.address, 0, {}});
        };
        add({row.address, net::address_bits(family)}, RouteKind::local);
        if (!up)
            continue;
        net::Prefix prefix = row.prefix();
        if (family == net::Family::ipv4 && prefix.host_bits() > 1)
            add({prefix.last(), 32}, RouteKind::broadcast);
        if (prefix.host_bits() > 0)
            add(prefix, RouteKind::connected);
    }
}

// The machine's first `own_count` routes are those that its NICs gave it.
void Settled::add_static_route(MachineId id, lab::RouteId written, std::size_t first,
                               std::size_t own_count) {
    const lab::StaticRoute& row = lab_->routes[written];
    const Route* towards = nullptr; // the connected prefix that the next hop is on
    for (const Route& route : std::span(routes_).subspan(first, own_count)) {
        if (route.kind == RouteKind::local && route.source == row.via) {
            refused_.push_back({written, id, Refusal::next_hop_is_own});
            return;
        }
        if (route.kind == RouteKind::connected && route.to.contains(row.via)
            && (towards == nullptr || route.to.length() > towards->to.length()))
            towards = &route;
    }
    if (towards == nullptr) {
        refused_.push_back({written, id, Refusal::next_hop_off_link});
        return;
    }
    Route route{row.to, RouteKind::static_route, towards->out, row.via, towards->source, row.metric,
                written};
    routes_.push_back(route);
}

void Settled::sort_routes(MachineId id, std::size_t first) {
    auto begin = routes_.begin() + static_cast<std::ptrdiff_t>(first);
    std::stable_sort(begin, routes_.end(), [](const Route& a, const Route& b) {
        return std::tuple(a.to, a.kind, a.metric) < std::tuple(b.to, b.kind, b.metric);
    });
    auto kept = begin;
    for (auto it = begin; it != routes_.end(); ++it) {
        bool repeated = kept != begin && it->kind == RouteKind::static_route
                        && std::prev(kept)->kind == RouteKind::static_route
                        && std::prev(kept)->to == it->to && std::prev(kept)->metric == it->metric;
        if (repeated)
            refused_.push_back({it->written, id, Refusal::repeated});
        else
            *kept++ = *it;
    }
    routes_.erase(kept, routes_.end());
}

void Settled::settle_machine(MachineId id) {
    std::size_t first = routes_.size();
    first_route_.push_back(static_cast<std::uint32_t>(first));
    if (condition_.machine_on(id)) {
        for (NicId nic : lab_->nics_of(id))
            add_nic_routes(nic);
        std::size_t own_count = routes_.size() - first;
        for (lab::RouteId route : lab_->routes_of(id))
            add_static_route(id, route, first, own_count);
    }
    sort_routes(id, first);
    std::vector<net::PrefixTable::Entry> entries;
    for (std::size_t i = first; i < routes_.size(); ++i)
        entries.push_back({routes_[i].to, static_cast<std::uint32_t>(i)});
    tables_.emplace_back(std::move(entries));
}

Settled settle(const Lab& lab, Condition condition) {
    Settled settled(lab, std::move(condition));
    settled.first_route_.reserve(lab.machines.size() + 1);
    settled.tables_.reserve(lab.machines.size());
    for (MachineId id : lab.machines.ids())
        settled.settle_machine(id);
    settled.first_route_.push_back(static_cast<std::uint32_t>(settled.routes_.size()));
    settled.routes_.shrink_to_fit();
    return settled;
}

Settled settle(const Lab& lab) {
    return settle(lab, Condition(lab));
}

} // namespace jackal::routing
