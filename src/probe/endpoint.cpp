#include "jackal/probe/endpoint.h"

#include "jackal/plan/validate.h"

#include <algorithm>
#include <fmt/format.h>
#include <set>

namespace jackal::probe {

using lab::Lab;
using lab::MachineId;
using lab::NicId;

std::optional<Endpoint> endpoint(const Lab& lab, std::string_view text) {
    Endpoint end{.name = std::string(text), .machine = {}, .nic = {}, .address = {}};
    if (auto address = net::parse_address(text)) {
        end.address = address;
        const auto owners = lab.owners_of(*address);
        const bool is_anybodys =
            owners.size() > 1 && std::ranges::all_of(owners, [&](const auto& o) {
                return lab.is_own_way_out(lab.nics[o.nic].segment); // each in a place of its own
            });
        if (!owners.empty() && !is_anybodys) {
            end.nic = owners.front().nic;
            end.machine = lab.nics[end.nic].machine;
        }
        return end;
    }
    auto [name, nic] = plan::split_endpoint(text);
    auto machine = lab.machine(name);
    if (!machine)
        return std::nullopt;
    end.machine = *machine;
    if (text.find('/') == text.npos)
        return end;
    auto found = lab.nic(*machine, nic);
    if (!found)
        return std::nullopt;
    end.nic = *found;
    return end;
}

std::string unknown_endpoint(const Lab& lab, std::string_view text) {
    auto [name, nic] = plan::split_endpoint(text);
    std::vector<std::string_view> known;
    if (auto machine = lab.machine(name)) {
        for (NicId id : lab.nics_of(*machine))
            known.push_back(lab.nics[id].name);
        return fmt::format("{} has no NIC \"{}\"; it has {}", name, nic,
                           known.empty() ? "none" : fmt::format("{}", fmt::join(known, ", ")));
    }
    if (auto subnet = lab.subnet(name)) {
        const auto& nics = lab.segments[lab.subnets[*subnet].segment].nics;
        return fmt::format("{} is a subnet; ask for a machine or an address{}", name,
                           nics.empty() ? "" : ", such as " + lab.machine_name(nics.front()));
    }
    if (lab.site(name))
        return fmt::format("{} is a site; ask for a machine or an address", name);
    for (const lab::Machine& machine : lab.machines)
        known.push_back(machine.name);
    std::string_view near = plan::nearest_word(name, known);
    return fmt::format("there is no machine \"{}\"{}", name, plan::did_you_mean(near));
}

const lab::InterfaceAddress* address_at(const Lab& lab, const Endpoint& end, net::Family family) {
    if (!end.machine)
        return nullptr;
    for (NicId nic : lab.nics_of(end.machine)) {
        if (end.nic && nic != end.nic)
            continue;
        for (lab::AddressId id : lab.addresses_of(nic)) {
            const lab::InterfaceAddress& row = lab.addresses[id];
            if (row.address.family() == family && (!end.address || row.address == *end.address))
                return &row;
        }
    }
    return nullptr;
}

const lab::InterfaceAddress* address_for(const Lab& lab, const Endpoint& from, const Endpoint& to,
                                         net::Family family) {
    if (to.nic || to.address)
        return address_at(lab, to, family);
    if (!to.machine)
        return nullptr;
    auto on_segment_of_sender = [&](NicId nic) {
        return from.machine && std::ranges::any_of(lab.nics_of(from.machine), [&](NicId own) {
                   return lab.nics[own].segment == lab.nics[nic].segment;
               });
    };
    auto on_uplink = [&](NicId nic) {
        lab::SubnetId subnet = lab.segments[lab.nics[nic].segment].subnet;
        return subnet && lab.subnets[subnet].uplink != plan::Uplink::none
               && !lab.machines[to.machine].outside; // to those it is the way in
    };
    const lab::InterfaceAddress* first = nullptr;
    const lab::InterfaceAddress* inside = nullptr;
    for (NicId nic : lab.nics_of(to.machine)) {
        const lab::InterfaceAddress* row = lab.first_address(nic, family);
        if (row == nullptr)
            continue;
        if (on_segment_of_sender(nic))
            return row;
        if (lab.is_own_way_out(lab.nics[nic].segment) && !lab.machines[to.machine].outside)
            continue;
        if (first == nullptr)
            first = row;
        if (inside == nullptr && !on_uplink(nic))
            inside = row;
    }
    return inside != nullptr ? inside : first;
}

std::vector<Endpoint> endpoints_on(const Lab& lab, lab::SubnetId subnet) {
    std::vector<Endpoint> ends;
    const auto& nics = lab.segments[lab.subnets[subnet].segment].nics;
    auto is_guest = [&](NicId nic) {
        return lab.machines[lab.nics[nic].machine].kind == plan::MachineKind::guest;
    };
    bool guests = std::ranges::any_of(nics, is_guest);
    for (NicId nic : nics)
        if (is_guest(nic) == guests)
            ends.push_back({.name = lab.machine_name(nic),
                            .machine = lab.nics[nic].machine,
                            .nic = nic,
                            .address = {}});
    return ends;
}

std::vector<Endpoint> endpoints(const Lab& lab, std::string_view text) {
    std::vector<Endpoint> ends;
    if (auto one = endpoint(lab, text)) {
        ends.push_back(*one);
    } else if (auto subnet = lab.subnet(text)) {
        ends = endpoints_on(lab, *subnet);
    } else if (auto site = lab.site(text)) {
        for (lab::SubnetId id : lab.subnets.ids())
            if (lab.subnets[id].site == *site)
                std::ranges::move(endpoints_on(lab, id), std::back_inserter(ends));
    }
    return ends;
}

Asked asked(const Lab& lab, std::string_view from, std::string_view to) {
    Asked found{.from = endpoints(lab, from), .to = endpoints(lab, to)};
    const bool is_group = !endpoint(lab, from);
    if (is_group) {
        std::set<MachineId> known;
        std::erase_if(found.from,
                      [&](const Endpoint& end) { return !known.insert(end.machine).second; });
        for (Endpoint& end : found.from)
            end.nic = {};
    }
    found.itself = !is_group && endpoint(lab, to);
    return found;
}

} // namespace jackal::probe
