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

namespace {

template <class T, class... Others>
concept is_one_of = (std::is_same_v<T, Others> || ...);

// How much each kind of change disturbs: a state or a word least.
struct Weight {
    const plan::Plan& plan;

    int operator()(const plan::AddRouter&) const { return 60; }
    int operator()(const plan::AddLink&) const { return 60; }
    int operator()(const plan::AddTunnel&) const { return 70; }
    int operator()(const plan::AddUplink&) const { return 60; }
    int operator()(const plan::AddSegmentPort&) const { return 40; }
    int operator()(const plan::AddNic&) const { return 40; }
    int operator()(const plan::AddPeering&) const { return 30; }
    int operator()(const plan::AddSiteSpace&) const { return 15; }
    int operator()(const plan::SetSiteSpace&) const { return 50; }
    int operator()(const plan::SetSubnetPrefix& e) const {
        const plan::Subnet* subnet = plan.subnet(e.subnet);
        return subnet != nullptr && subnet->prefixes.empty() ? 30 : 40;
    }
    int operator()(const plan::SetNicAddress& e) const {
        return e.to == e.from ? 2 : e.to ? 11 : 12; // the length alone; a written one stays one
    }
    int operator()(const plan::SetNicSubnet&) const { return 8; }
    int operator()(const plan::SetSubnetGateway&) const { return 8; }
    int operator()(const plan::AddTranslation&) const { return 6; }
    int operator()(const plan::RemoveTranslation&) const { return 7; }
    int operator()(const plan::AddRoute&) const { return 5; }
    int operator()(const plan::SpeakProtocol&) const { return 6; }
    int operator()(const plan::RemoveRoute&) const { return 5; }
    int operator()(const plan::SetRouteVia&) const { return 4; }
    int operator()(const plan::RemoveDhcp&) const { return 7; }
    int operator()(const plan::RemoveFilterRule&) const { return 6; }
    int operator()(const plan::AddFilterRule&) const { return 5; }
    int operator()(const plan::SetMachineGateway& e) const { return e.to ? 4 : 3; }
    int operator()(const plan::SetForwards& e) const {
        const Machine* machine = plan.machine(e.machine);
        bool is_guest = machine != nullptr && machine->kind == plan::MachineKind::guest;
        return e.to && is_guest ? 30 : 2;
    }
    template <class State>
    requires(is_one_of<
             State, plan::SetNicUp, plan::RemoveNicMac, plan::SetMachineUp, plan::SetLinkUp,
             plan::SetLinkMtu, plan::SetPeeringUp, plan::SetPeeringMtu, plan::SetNicMtu,
             plan::SetTranslationNic, plan::AddService, plan::SetPortVlan, plan::AllowVlan,
             plan::SetTrunk, plan::SetPortUp, plan::SetSwitchUp, plan::SetCableUp,
             plan::SetBondMemberUp, plan::SetDhcpSize, plan::SetDhcpRelay, plan::RemoveStartsAfter,
             plan::AddNameServer, plan::AcceptPeering, plan::TakeRelayed, plan::SetPeeringExit,
             plan::SetSiteRelay, plan::SetOspfNic, plan::Redistribute, plan::AnnounceDefault,
             plan::SetOspfStub, plan::AddVirtualLink, plan::SetRouterId, plan::SetBgpNeighbour,
             plan::RemovePolicy, plan::SetSize>) int
    operator()(const State&) const {
        return 2;
    }
};

// What of the plan that was written on purpose a change takes back.
struct Against {
    const plan::Plan& plan;

    using Answer = std::optional<Decision>;
    static Answer down(bool up, plan::Mark at) {
        return up ? Answer() : Decision{"state: down", at};
    }

    Answer operator()(const plan::SetMachineUp& e) const {
        const Machine* machine = plan.machine(e.machine);
        return machine == nullptr ? Answer() : down(machine->up, machine->at);
    }
    Answer operator()(const plan::SetNicUp& e) const {
        const Machine* machine = plan.machine(e.machine);
        return machine == nullptr || e.nic >= machine->nics.size()
                   ? Answer()
                   : down(machine->nics[e.nic].up, machine->nics[e.nic].at);
    }
    Answer operator()(const plan::SetLinkUp& e) const {
        return down(plan.links.at(e.link).up, plan.links[e.link].at);
    }
    Answer operator()(const plan::SetPeeringUp& e) const {
        return down(plan.peerings.at(e.peering).up, plan.peerings[e.peering].at);
    }
    Answer operator()(const plan::SetCableUp& e) const {
        return down(plan.cables.at(e.cable).up, plan.cables[e.cable].at);
    }
    Answer operator()(const plan::SetPortUp& e) const {
        const plan::SwitchPort* port = plan.port(e.port);
        return port == nullptr ? Answer() : down(port->up, port->at);
    }
    Answer operator()(const plan::SetSwitchUp& e) const {
        for (const plan::Switch& entry : plan.switches)
            if (entry.name == e.name)
                return down(entry.up, entry.at);
        return {};
    }
    Answer operator()(const plan::SetForwards& e) const {
        const Machine* machine = plan.machine(e.machine);
        if (machine == nullptr || !machine->forwards || *machine->forwards == e.to)
            return {};
        return Decision{fmt::format("forwards: {}", !e.to), machine->at};
    }
    Answer operator()(const plan::SetMachineGateway& e) const {
        const Machine* machine = plan.machine(e.machine);
        if (machine == nullptr || !machine->gateway
            || machine->gateway->kind != plan::MachineGateway::Kind::none)
            return {};
        return Decision{"gateway: none", machine->at};
    }
    template <class Other>
    Answer operator()(const Other&) const {
        return {};
    }
};

std::vector<Decision> decisions_against(const std::vector<Edit>& edits, const plan::Plan& plan) {
    std::vector<Decision> all;
    for (const Edit& edit : edits)
        edit.visit([&](const auto& change) {
            if (auto decision = Against{plan}(change))
                all.push_back(std::move(*decision));
        });
    return all;
}

// The same edit of another machine of its entry.
template <class T>
std::optional<Edit> of_machine(const T& edit, const std::string& name) {
    if constexpr (requires { edit.machine; }) {
        T other = edit;
        other.machine = name;
        return Edit(std::move(other));
    } else {
        return std::nullopt;
    }
}

std::string machine_named_in(const Edit& edit) {
    std::string name;
    edit.visit([&](const auto& change) {
        if constexpr (requires { change.machine; })
            name = change.machine;
    });
    return name;
}

// As a builder counts: all that moves with a subnet is one change.
std::size_t counted(const std::vector<Edit>& edits) {
    const bool moves_subnet = std::ranges::any_of(edits, [](const Edit& edit) {
        return edit.as<plan::SetSubnetPrefix>() != nullptr
               || edit.as<plan::SetSiteSpace>() != nullptr;
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
        const std::string key = key_of(change.edits, plan_);
        if (key.empty() || !keys_.insert(key).second)
            return false;
        all_.push_back({std::move(change), disturbance});
        return true;
    }

    void add(const Failing& failing, const std::vector<Edit>& edits) {
        if (edits.empty())
            return;
        Candidate one = candidate(plan_, failing, edits);
        if (offer(std::move(one.change), one.disturbance))
            add_of_all_clones(failing, edits);
    }
    void add(const Failing& failing, Edit edit) {
        add(failing, std::vector<Edit>{std::move(edit)});
    }

    // What one machine of a `count` needs, all may need.
    void add_of_all_clones(const Failing& failing, const std::vector<Edit>& edits) {
        const Machine* machine =
            edits.size() == 1 ? plan_.machine(machine_named_in(edits.front())) : nullptr;
        if (machine == nullptr || machine->clone_digits == 0)
            return;
        std::vector<Edit> of_all;
        for (const Machine& other : plan_.machines)
            if (other.clone_digits != 0 && other.entry_name() == machine->entry_name())
                edits.front().visit([&](const auto& change) {
                    if (auto same = of_machine(change, other.name))
                        of_all.push_back(std::move(*same));
                });
        if (of_all.size() > 1)
            offer({of_all, failing.cause, failing.message, failing.at, 1,
                   decisions_against(of_all, plan_)},
                  disturbance(edits.front(), plan_));
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
            const auto* one = edit.as<plan::AddFilterRule>();
            if (one == nullptr)
                continue;
            plan::AddFilterRule wide = *one;
            bool is_wider = false;
            for (auto* ends : {&wide.rule.from, &wide.rule.to})
                for (plan::Placed<plan::Ends>& end : *ends)
                    for (const std::string& group : failing.groups)
                        if (stands_on(end.value, group)) {
                            end.value = group;
                            is_wider = true;
                            break;
                        }
            if (is_wider)
                add(failing, std::move(wide));
            for (const plan::Filter& filter : plan_.filters)
                if (filter.name == one->filter && one->position < filter.rules.size()
                    && !filter.rules[one->position].allows)
                    add(failing, plan::RemoveFilterRule{one->filter, one->position});
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
                add(failing, plan::AddSiteSpace{site.name, *prefix});
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
        std::vector<Edit> edits{plan::SetSiteSpace{site.name, space, *to}};
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
        using What = plan::SetSize::What;
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
                    add(failing, plan::SetSize{machines.front()->name, what,
                                               static_cast<std::uint32_t>(each)});
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
                add_one(plan::SetMachineUp{machine.name});
            if (machine.kind == plan::MachineKind::router && !machine.does_forward())
                add_one(plan::SetForwards{machine.name, true});
            if (machine.kind == plan::MachineKind::guest && machine.does_forward())
                add_one(plan::SetForwards{machine.name, false});
            for (std::size_t i = 0; i < machine.nics.size(); ++i)
                if (!machine.nics[i].up)
                    add_one(plan::SetNicUp{machine.name, i});
        }
        for (std::size_t i = 0; i < plan_.links.size(); ++i)
            if (!plan_.links[i].up)
                add_one(plan::SetLinkUp{i});
        for (std::size_t i = 0; i < plan_.cables.size(); ++i)
            if (!plan_.cables[i].up)
                add_one(plan::SetCableUp{i});
        for (std::size_t i = 0; i < plan_.peerings.size(); ++i)
            if (!plan_.peerings[i].up)
                add_one(plan::SetPeeringUp{i});
        for (const plan::Switch& entry : plan_.switches) {
            if (!entry.up)
                add_one(plan::SetSwitchUp{entry.name});
            for (const plan::SwitchPort& port : entry.ports)
                if (!port.up)
                    add_one(plan::SetPortUp{entry.name + "/" + port.name});
        }
    }

    void add_about(const Failing& failing, const Machine& machine) {
        for (std::size_t i = 0; i < machine.nics.size(); ++i)
            add_about_nic(failing, machine, i);
        add_swaps(failing, machine);
        if (machine.gateway && machine.gateway->kind != plan::MachineGateway::Kind::automatic)
            add(failing, plan::SetMachineGateway{machine.name, std::nullopt});
        constexpr std::size_t most_routes = 24;
        for (std::size_t i = 0; i < std::min(machine.routes.size(), most_routes); ++i)
            add_about_route(failing, machine, i);
        if (machine.duties && machine.duties->protocols && machine.duties->protocols->bgp)
            for (const plan::BgpNeighbour& neighbour : machine.duties->protocols->bgp->neighbours)
                if (!neighbour.takes.value.empty())
                    add(failing,
                        plan::RemovePolicy{machine.name, plan::to_string(neighbour.peer.value)});
        if (machine.duties) {
            const auto& rules = machine.duties->translations;
            for (std::size_t i = 0; i < rules.size(); ++i) {
                add(failing, plan::RemoveTranslation{machine.name, i});
                if (auto id = lab_.machine(machine.name))
                    for (lab::NicId nic : lab_.nics_of(*id))
                        if (!lab_.nics[nic].is_loopback()
                            && lab_.nics[nic].name != rules[i].nic.value)
                            add(failing,
                                plan::SetTranslationNic{machine.name, i, lab_.nics[nic].name});
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
                add(failing, plan::SetNicAddress{machine.name, i, address, address});
            if (is_at_home(nic, address))
                continue;
            add(failing, plan::SetNicAddress{machine.name, i, address, std::nullopt});
            for (lab::SubnetId id : lab_.subnets.ids()) {
                const lab::Subnet& subnet = lab_.subnets[id];
                const auto& prefix = lab_.segments[subnet.segment].prefix[address.family()];
                if (prefix && prefix->contains(address) && subnet.name != nic.subnet.value
                    && !subnet.outside && !nic.has_way_out())
                    add(failing, plan::SetNicSubnet{machine.name, i, subnet.name});
            }
        }
        if (nic.address.kind == plan::NicAddress::Kind::none)
            add(failing, plan::SetNicAddress{machine.name, i, {}, std::nullopt});
        if (nic.mac)
            add(failing, plan::RemoveNicMac{machine.name, i});
        if (nic.mtu_bytes)
            add(failing, plan::SetNicMtu{machine.name, i, 1500});
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
                        {plan::SetNicSubnet{machine.name, a, machine.nics[b].subnet.value},
                         plan::SetNicSubnet{machine.name, b, machine.nics[a].subnet.value}});
    }

    void add_about_route(const Failing& failing, const Machine& machine, std::size_t i) {
        add(failing, plan::RemoveRoute{machine.name, i});
        const std::string now = plan::to_string(machine.routes[i].via.value);
        for (const std::string& other : neighbours(machine))
            if (other != now)
                add(failing, plan::SetRouteVia{machine.name, i, other});
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
            const auto* route = candidate.change.edits.size() == 1
                                    ? candidate.change.edits.front().as<plan::AddRoute>()
                                    : nullptr;
            if (route == nullptr || has_default(route->machine))
                continue;
            plan::AddRoute all = *route;
            all.to = plan::Route::Default{};
            Change change = candidate.change;
            change.edits = {std::move(all)};
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
                            add(failing,
                                plan::SpeakProtocol{name, plan::RouteSource::ospf, told.area});
            if (speaker.rip)
                for (const lab::RipNic& told : speaker.rip->nics)
                    for (const std::string& name : silent_beside(told.nic))
                        if (!told.passive && all_.size() < before + most)
                            add(failing, plan::SpeakProtocol{name, plan::RouteSource::rip});
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

int disturbance(const Edit& edit, const plan::Plan& plan) {
    int weight = 0;
    edit.visit([&](const auto& change) { weight = Weight{plan}(change); });
    return weight;
}

std::string key_of(const std::vector<Edit>& edits, const plan::Plan& plan) {
    std::string key;
    for (const auto& edit : plan::changes_of(edits, plan)) {
        if (edit.empty())
            return "";
        key += to_line(edit) + '\n';
    }
    return key;
}

Candidate candidate(const plan::Plan& plan, const Failing& failing,
                    const std::vector<Edit>& edits) {
    int weight = 0;
    for (const Edit& edit : edits)
        weight += disturbance(edit, plan);
    return {{edits, failing.cause, failing.message, failing.at, counted(edits),
             decisions_against(edits, plan)},
            weight};
}

std::vector<Candidate> candidates(const plan::Plan& plan, const lab::Lab& lab, const State& state,
                                  Reach reach) {
    return Collector(plan, lab, state).run(reach);
}

} // namespace jackal::mend
