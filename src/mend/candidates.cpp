#include "mend/candidates.h"

#include "jackal/lab/peering.h"
#include "jackal/lab/place.h"
#include "jackal/plan/validate.h"

#include <algorithm>
#include <fmt/format.h>
#include <map>

namespace jackal::mend {

using plan::Edit;
using plan::Machine;
using plan::Move;

namespace {

std::vector<Decision> decisions_against(const std::vector<Edit>& edits) {
    std::vector<Decision> all;
    for (const Edit& edit : edits)
        if (edit.against)
            all.push_back(*edit.against);
    return all;
}

// The same edit of another machine of its entry.
Edit of_machine(Edit edit, const std::string& name) {
    for (plan::PlaceChange& change : edit.changes)
        for (plan::Place::Step& step : change.place.steps)
            if (step.kind == plan::Place::Step::Kind::one_of)
                step.other = name;
    return edit;
}

// As a builder counts: all that moves with a subnet is one change.
std::size_t counted(const std::vector<Edit>& edits) {
    const bool moves_subnet = std::ranges::any_of(edits, [](const Edit& edit) {
        return edit.move == Move::set_subnet_prefix || edit.move == Move::give_subnet_prefix
               || edit.move == Move::set_site_space;
    });
    return moves_subnet ? 1 : edits.size();
}

class Collector {
  public:
    Collector(const plan::Plan& plan, const lab::Lab& lab, const State& state)
        : state_(state), plan_(plan), lab_(lab) {}

    std::vector<Candidate> run(Reach reach) {
        for (const auto* list : {&state_.failing(), &state_.harm()})
            for (const Failing& failing : *list)
                add(failing, failing.remedy.edits);
        for (const Failing& failing : state_.failing()) {
            add_room(failing);
            add_wider_rules(failing);
            add_peering(failing);
        }
        if (reach >= Reach::switches && !state_.failing().empty())
            add_switched_off(state_.failing().front());
        if (reach >= Reach::alternatives) {
            for (const auto* list : {&state_.failing(), &state_.harm()})
                for (const Failing& failing : *list)
                    add_alternatives(failing);
            add_aggregates();
            if (!state_.failing().empty())
                add_speaking(state_.failing().front());
        }
        std::ranges::stable_sort(all_, {}, &Candidate::disturbance);
        return std::move(all_);
    }

  private:
    // Takes a change that is not there yet.
    bool offer(Change change, int disturbance) {
        const std::string key = key_of(change.edits);
        if (key.empty() || !keys_.insert(key).second)
            return false;
        all_.push_back({std::move(change), disturbance});
        return true;
    }

    void add(const Failing& failing, const std::vector<Edit>& edits) {
        if (edits.empty())
            return;
        Candidate one = candidate(failing, edits);
        if (offer(std::move(one.change), one.disturbance))
            add_of_all_clones(failing, edits);
    }
    void add(const Failing& failing, Edit edit) {
        add(failing, std::vector<Edit>{std::move(edit)});
    }

    // What one machine of a `count` needs, all may need.
    void add_of_all_clones(const Failing& failing, const std::vector<Edit>& edits) {
        const Machine* machine =
            edits.size() == 1 ? plan_.machine(machine_in(edits.front())) : nullptr;
        if (machine == nullptr || machine->clone_digits == 0)
            return;
        std::vector<Edit> of_all;
        for (const Machine& other : plan_.machines)
            if (other.clone_digits != 0 && other.entry_name() == machine->entry_name())
                of_all.push_back(of_machine(edits.front(), other.name));
        if (of_all.size() > 1)
            offer(
                {of_all, failing.cause, failing.message, failing.at, 1, decisions_against(of_all)},
                disturbance(edits.front().move));
    }

    void add_alternatives(const Failing& failing) {
        for (const std::string& name : failing.machines)
            if (seen_.insert(name).second)
                if (const Machine* machine = plan_.machine(name))
                    add_about(failing, *machine);
    }

    // One rule for the subnets of an expectation, instead of one for each pair; or the rule that
    // denies is one too many.
    void add_wider_rules(const Failing& failing) {
        for (const Edit& edit : failing.remedy.edits) {
            const auto one = added_rule(edit);
            if (!one)
                continue;
            plan::FilterRule wide = one->rule;
            bool is_wider = false;
            for (auto* ends : {&wide.from, &wide.to})
                for (plan::Placed<plan::Ends>& end : *ends)
                    for (const std::string& group : failing.groups)
                        if (stands_on(end.value, group)) {
                            end.value = group;
                            is_wider = true;
                            break;
                        }
            if (is_wider)
                add(failing, plan::add_filter_rule(plan_, one->filter, one->position, wide));
            for (const plan::Filter& filter : plan_.filters)
                if (filter.name == one->filter && one->position
                    && !filter.rules[*one->position].allows)
                    add(failing, plan::remove_filter_rule(plan_, one->filter, *one->position));
        }
    }

    bool stands_on(const plan::Ends& end, const std::string& subnet) const {
        const auto* name = std::get_if<std::string>(&end);
        const Machine* machine = name == nullptr ? nullptr : plan_.machine(*name);
        return machine != nullptr && std::ranges::any_of(machine->nics, [&](const plan::Nic& nic) {
                   return nic.subnet.value == subnet;
               });
    }

    // The sites of the two ends as peers, before others pass on what they send each other.
    void add_peering(const Failing& failing) {
        if (failing.ends.size() != 2)
            return;
        lab::SiteId sites[2];
        for (int i : {0, 1})
            if (auto machine = lab_.machine(failing.ends[i]))
                sites[i] = lab_.site_of(*machine);
        auto is_site = [&](lab::SiteId id) { return id && !lab_.sites[id].outside; };
        const bool has_one = std::ranges::any_of(lab_.peerings, [&](const lab::Peering& peering) {
            return peering.side_of(sites[0]) >= 0 && peering.side_of(sites[1]) >= 0;
        });
        if (is_site(sites[0]) && is_site(sites[1]) && sites[0] != sites[1] && !has_one)
            if (auto peering = lab::new_peering(lab_, sites[0], sites[1]))
                add(failing, *peering);
    }

    void add_room(const Failing& failing) {
        using plan::Cause;
        if (failing.cause == Cause::limits_exceeded)
            add_smaller_sizes(failing);
        if (failing.cause == Cause::spaces_overlap || failing.cause == Cause::subnet_outside_space)
            add_spaces(failing);
    }

    // A subnet into the space of its site, or the space around it; or another space for a site that
    // owns one with another.
    void add_spaces(const Failing& failing) {
        for (lab::SubnetId id : lab_.subnets.ids()) {
            const lab::Subnet& subnet = lab_.subnets[id];
            const lab::Site& site = lab_.sites[subnet.site];
            const std::string key = key_of(failing.cause, subnet.name);
            for (net::Family family : net::both_families) {
                const auto& prefix = lab_.segments[subnet.segment].prefix[family];
                if (!prefix || subnet.outside || failing.key != key)
                    continue;
                add(failing, plan::add_site_space(plan_, site.name, *prefix));
                if (auto to = lab::free_prefix(lab_, subnet.site, family, prefix->length()))
                    add(failing, lab::renumber(lab_, id, *to));
            }
        }
        if (failing.cause == plan::Cause::spaces_overlap)
            for (const lab::Site& site : lab_.sites)
                for (const net::Prefix& space : site.space)
                    add_other_space(failing, site, space);
    }

    void add_other_space(const Failing& failing, const lab::Site& site, const net::Prefix& space) {
        auto to = lab::free_space(lab_, space.family(), space.length(),
                                  fmt::format("{}/{}", lab_.name, site.name));
        if (!to || to->length() != space.length() || site.name.empty())
            return;
        std::vector<Edit> edits{plan::set_site_space(plan_, site.name, space, *to)};
        for (lab::SubnetId id : lab_.subnets.ids()) {
            const auto& prefix = lab_.segments[lab_.subnets[id].segment].prefix[space.family()];
            if (&lab_.sites[lab_.subnets[id].site] == &site && lab_.subnets[id].prefix_written
                && prefix && space.contains(*prefix))
                for (Edit& edit : lab::renumber(
                         lab_, id,
                         net::Prefix(net::moved(prefix->first(), space, *to), prefix->length())))
                    edits.push_back(std::move(edit));
        }
        add(failing, edits);
    }

    // As much less for the machines of one entry as keeps to the limit.
    void add_smaller_sizes(const Failing& failing) {
        using What = plan::SizeKey;
        auto add_for = [&](What what, auto size, std::uint64_t limit, std::uint32_t step) {
            std::uint64_t sum = 0;
            for (const Machine& machine : plan_.machines)
                sum += size(machine.sizes);
            if (limit == 0 || sum <= limit)
                return;
            for (const auto& [name, machines] : machines_by_entry()) {
                std::uint64_t own = 0;
                for (const Machine* machine : machines)
                    own += size(machine->sizes);
                if (own == 0 || sum - own >= limit)
                    continue;
                const std::uint64_t each = (limit - (sum - own)) / machines.size() / step * step;
                if (each != 0)
                    add(failing, plan::set_size(plan_, machines.front()->name, what,
                                                static_cast<std::uint32_t>(each)));
            }
        };
        const plan::Sizes& limit = plan_.limits.sizes;
        add_for(
            What::cpus, [](const plan::Sizes& s) { return s.cpus; }, limit.cpus, 1);
        add_for(
            What::memory, [](const plan::Sizes& s) { return s.memory_mib; }, limit.memory_mib, 256);
        add_for(
            What::disk, [](const plan::Sizes& s) { return s.disk_mib; }, limit.disk_mib, 1024);
    }

    std::map<std::string_view, std::vector<const Machine*>> machines_by_entry() const {
        std::map<std::string_view, std::vector<const Machine*>> entries;
        for (const Machine& machine : plan_.machines)
            entries[machine.entry_name()].push_back(&machine);
        return entries;
    }

    // Explicitly down or told not to forward: what a builder forgets first.
    void add_switched_off(const Failing& failing) {
        constexpr std::size_t most = 40;
        const std::size_t before = all_.size();
        auto add_one = [&](Edit edit) {
            if (all_.size() < before + most)
                add(failing, std::move(edit));
        };
        for (const Machine& machine : plan_.machines) {
            if (!machine.up)
                add_one(plan::set_machine_up(plan_, machine.name));
            if (machine.kind == plan::MachineKind::router && !machine.does_forward())
                add_one(plan::set_forwards(plan_, machine.name, true));
            if (machine.kind == plan::MachineKind::guest && machine.does_forward())
                add_one(plan::set_forwards(plan_, machine.name, false));
            for (std::size_t i = 0; i < machine.nics.size(); ++i)
                if (!machine.nics[i].up)
                    add_one(plan::set_nic_up(plan_, machine.name, i));
        }
        for (std::size_t i = 0; i < plan_.links.size(); ++i)
            if (!plan_.links[i].up)
                add_one(plan::set_link_up(plan_, i));
        for (std::size_t i = 0; i < plan_.cables.size(); ++i)
            if (!plan_.cables[i].up)
                add_one(plan::set_cable_up(plan_, i));
        for (std::size_t i = 0; i < plan_.peerings.size(); ++i)
            if (!plan_.peerings[i].up)
                add_one(plan::set_peering_up(plan_, i));
        for (const plan::Switch& entry : plan_.switches) {
            if (!entry.up)
                add_one(plan::set_switch_up(plan_, entry.name));
            for (const plan::SwitchPort& port : entry.ports)
                if (!port.up)
                    add_one(plan::set_port_up(plan_, entry.name + "/" + port.name));
        }
    }

    void add_about(const Failing& failing, const Machine& machine) {
        for (std::size_t i = 0; i < machine.nics.size(); ++i)
            add_about_nic(failing, machine, i);
        add_swaps(failing, machine);
        if (machine.gateway && machine.gateway->kind != plan::MachineGateway::Kind::automatic)
            add(failing, plan::set_machine_gateway(plan_, machine.name, std::nullopt));
        constexpr std::size_t most_routes = 24;
        for (std::size_t i = 0; i < std::min(machine.routes.size(), most_routes); ++i)
            add_about_route(failing, machine, i);
        if (machine.duties && machine.duties->protocols && machine.duties->protocols->bgp)
            for (const plan::BgpNeighbour& neighbour : machine.duties->protocols->bgp->neighbours)
                if (!neighbour.takes.value.empty())
                    add(failing, plan::remove_policy(plan_, machine.name,
                                                     plan::to_string(neighbour.peer.value)));
        if (machine.duties) {
            const auto& rules = machine.duties->translations;
            for (std::size_t i = 0; i < rules.size(); ++i) {
                add(failing, plan::remove_translation(plan_, machine.name, i));
                if (auto id = lab_.machine(machine.name))
                    for (lab::NicId nic : lab_.nics_of(*id))
                        if (!lab_.nics[nic].is_loopback()
                            && lab_.nics[nic].name != rules[i].nic.value)
                            add(failing, plan::set_translation_nic(plan_, machine.name, i,
                                                                   lab_.nics[nic].name));
            }
        }
    }

    // An address that lies in the range of another subnet, or has a length of its own, or does not
    // come to be.
    void add_about_nic(const Failing& failing, const Machine& machine, std::size_t i) {
        const plan::Nic& nic = machine.nics[i];
        for (const auto& given : nic.address.given) {
            const net::Address address = given.value.address;
            if (given.value.length)
                add(failing, plan::set_nic_address(plan_, machine.name, i, address, address));
            if (is_at_home(nic, address))
                continue;
            add(failing, plan::set_nic_address(plan_, machine.name, i, address, std::nullopt));
            for (lab::SubnetId id : lab_.subnets.ids()) {
                const lab::Subnet& subnet = lab_.subnets[id];
                const auto& prefix = lab_.segments[subnet.segment].prefix[address.family()];
                if (prefix && prefix->contains(address) && subnet.name != nic.subnet.value
                    && !subnet.outside && !nic.has_way_out())
                    add(failing, plan::set_nic_subnet(plan_, machine.name, i, subnet.name));
            }
        }
        if (nic.address.kind == plan::NicAddress::Kind::none)
            add(failing, plan::set_nic_address(plan_, machine.name, i, {}, std::nullopt));
        if (nic.mac)
            add(failing, plan::remove_nic_mac(plan_, machine.name, i));
        if (nic.mtu_bytes)
            add(failing, plan::set_nic_mtu(plan_, machine.name, i, 1500));
    }

    // True if the address lies in the range of the NIC's subnet: then neither is moved.
    bool is_at_home(const plan::Nic& nic, const net::Address& address) const {
        auto id = lab_.subnet(nic.subnet.value);
        if (!id)
            return false;
        const auto& prefix = lab_.segments[lab_.subnets[*id].segment].prefix[address.family()];
        return prefix && prefix->contains(address);
    }
    bool is_at_home(const plan::Nic& nic) const {
        return std::ranges::any_of(nic.address.given, [&](const auto& given) {
            return is_at_home(nic, given.value.address);
        });
    }

    // Two NICs whose addresses each belong on the other's subnet, or that are in the wrong order.
    void add_swaps(const Failing& failing, const Machine& machine) {
        constexpr std::size_t most_nics = 4;
        for (std::size_t a = 0; a < std::min(machine.nics.size(), most_nics); ++a)
            for (std::size_t b = a + 1; b < std::min(machine.nics.size(), most_nics); ++b)
                if (machine.nics[a].subnet.value != machine.nics[b].subnet.value
                    && !machine.nics[a].has_way_out() && !machine.nics[b].has_way_out()
                    && !is_at_home(machine.nics[a]) && !is_at_home(machine.nics[b])
                    && (!machine.nics[a].address.given.empty()
                        || !machine.nics[b].address.given.empty()))
                    add(failing,
                        {plan::set_nic_subnet(plan_, machine.name, a, machine.nics[b].subnet.value),
                         plan::set_nic_subnet(plan_, machine.name, b,
                                              machine.nics[a].subnet.value)});
    }

    void add_about_route(const Failing& failing, const Machine& machine, std::size_t i) {
        add(failing, plan::remove_route(plan_, machine.name, i));
        const std::string now = plan::to_string(machine.routes[i].via.value);
        for (const std::string& other : neighbours(machine))
            if (other != now)
                add(failing, plan::set_route_via(plan_, machine.name, i, other));
    }

    // Machines that forward, on a segment of the machine's.
    std::vector<std::string> neighbours(const Machine& machine) const {
        constexpr std::size_t most = 8;
        std::vector<std::string> names;
        auto id = lab_.machine(machine.name);
        if (!id)
            return names;
        for (lab::NicId nic : lab_.nics_of(*id))
            for (lab::NicId other : lab_.segments[lab_.nics[nic].segment].nics) {
                const lab::Machine& there = lab_.machines[lab_.nics[other].machine];
                if (there.forwards_any() && there.name != machine.name && !there.outside
                    && std::ranges::find(names, there.name) == names.end() && names.size() < most)
                    names.push_back(there.name);
            }
        return names;
    }

    // A default route where a machine that has none wants one route, as it may want more behind it.
    void add_aggregates() {
        const std::vector<Candidate> known = all_;
        for (const Candidate& candidate : known) {
            const std::vector<Edit>& edits = candidate.change.edits;
            if (edits.size() != 1 || edits.front().move != Move::add_route)
                continue;
            if (has_default(machine_in(edits.front())))
                continue;
            Change change = candidate.change;
            std::string& route = change.edits.front().changes.front().value; // {to: …, via: …}
            route.replace(0, route.find(", via: "), "{to: default");
            offer(std::move(change), candidate.disturbance + 1);
        }
    }

    // Routers that speak no protocol beside one that does: it may stand for many routes.
    void add_speaking(const Failing& failing) {
        constexpr std::size_t most = 40;
        const std::size_t before = all_.size();
        for (const lab::Speaker& speaker : lab_.speakers) {
            if (speaker.ospf)
                for (const lab::OspfNic& told : speaker.ospf->nics)
                    for (const std::string& name : silent_beside(told.nic))
                        if (!told.passive && all_.size() < before + most)
                            add(failing, plan::speak_protocol(plan_, name, plan::RouteSource::ospf,
                                                              told.area));
            if (speaker.rip)
                for (const lab::RipNic& told : speaker.rip->nics)
                    for (const std::string& name : silent_beside(told.nic))
                        if (!told.passive && all_.size() < before + most)
                            add(failing, plan::speak_protocol(plan_, name, plan::RouteSource::rip));
        }
    }

    std::vector<std::string> silent_beside(lab::NicId nic) const {
        std::vector<std::string> names;
        for (lab::NicId other : lab_.segments[lab_.nics[nic].segment].nics) {
            const lab::MachineId id = lab_.nics[other].machine;
            const lab::Machine& machine = lab_.machines[id];
            if (machine.kind == plan::MachineKind::router && machine.forwards_any()
                && !machine.outside && !machine.is_core && lab_.speaker(id) == nullptr
                && plan_.machine(machine.name) != nullptr)
                names.push_back(machine.name);
        }
        return names;
    }

    bool has_default(const std::string& name) const {
        const Machine* machine = plan_.machine(name);
        return machine == nullptr
               || std::ranges::any_of(machine->routes, [](const plan::Route& route) {
                      return std::holds_alternative<plan::Route::Default>(route.to.value);
                  });
    }

    const State& state_;
    const plan::Plan& plan_;
    const lab::Lab& lab_;
    std::vector<Candidate> all_;
    std::set<std::string> keys_;
    std::set<std::string> seen_; // machines
};

} // namespace

int disturbance(Move move) {
    switch (move) {
    case Move::add_tunnel: return 70;
    case Move::add_router:
    case Move::add_link:
    case Move::add_uplink: return 60;
    case Move::set_site_space: return 50;
    case Move::add_segment_port:
    case Move::add_nic:
    case Move::set_subnet_prefix: return 40;
    case Move::add_peering:
    case Move::give_subnet_prefix:
    case Move::let_guest_forward: return 30;
    case Move::add_site_space: return 15;
    case Move::set_nic_automatic: return 12; // a written address stays one
    case Move::set_nic_address: return 11;
    case Move::set_nic_subnet:
    case Move::set_subnet_gateway: return 8;
    case Move::remove_translation:
    case Move::remove_dhcp: return 7;
    case Move::add_translation:
    case Move::speak_protocol:
    case Move::remove_filter_rule: return 6;
    case Move::add_route:
    case Move::remove_route:
    case Move::add_filter_rule: return 5;
    case Move::set_route_via:
    case Move::set_machine_gateway: return 4;
    case Move::set_gateway_automatic: return 3;
    case Move::set_nic_length:
    case Move::set_nic_up:
    case Move::remove_nic_mac:
    case Move::set_machine_up:
    case Move::set_forwards:
    case Move::set_link_up:
    case Move::set_link_mtu:
    case Move::set_peering_up:
    case Move::set_peering_mtu:
    case Move::set_nic_mtu:
    case Move::set_translation_nic:
    case Move::add_service:
    case Move::set_port_vlan:
    case Move::allow_vlan:
    case Move::set_trunk:
    case Move::set_port_up:
    case Move::set_switch_up:
    case Move::set_cable_up:
    case Move::set_bond_member_up:
    case Move::set_dhcp_size:
    case Move::set_dhcp_relay:
    case Move::remove_starts_after:
    case Move::add_name_server:
    case Move::accept_peering:
    case Move::take_relayed:
    case Move::set_peering_exit:
    case Move::set_site_relay:
    case Move::set_ospf_nic:
    case Move::redistribute:
    case Move::announce_default:
    case Move::set_ospf_stub:
    case Move::add_virtual_link:
    case Move::set_router_id:
    case Move::set_bgp_neighbour:
    case Move::remove_policy:
    case Move::set_size: break;
    }
    return 2;
}

std::string key_of(const std::vector<Edit>& edits) {
    std::string key;
    for (const Edit& edit : edits) {
        if (edit.changes.empty())
            return "";
        for (const plan::PlaceChange& change : edit.changes)
            key += fmt::format("{} {} {}\n", to_string(change.place), to_string(change.verb),
                               change.value);
    }
    return key;
}

Candidate candidate(const Failing& failing, const std::vector<Edit>& edits) {
    int weight = 0;
    for (const Edit& edit : edits)
        weight += disturbance(edit.move);
    return {{edits, failing.cause, failing.message, failing.at, counted(edits),
             decisions_against(edits)},
            weight};
}

std::vector<Candidate> candidates(const plan::Plan& plan, const lab::Lab& lab, const State& state,
                                  Reach reach) {
    return Collector(plan, lab, state).run(reach);
}

} // namespace jackal::mend
