#include "explain.h"

#include "jackal/lab/finding.h"
#include "jackal/lab/peering.h"
#include "jackal/lab/place.h"
#include "jackal/net/special_use.h"
#include "jackal/routing/discord.h"
#include "paths.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::probe {

using lab::Lab;
using lab::MachineId;
using lab::NicId;
using lab::Remedy;
using lab::RouteOrigin;
using net::to_string;
using packet::Ending;
using plan::Cause;
using routing::RouteKind;

std::size_t loop_start(const packet::Journey& journey) {
    const auto& steps = journey.steps;
    for (std::size_t i = 0; i + 1 < steps.size(); ++i)
        for (std::size_t j = i + 1; j < steps.size(); ++j)
            if (steps[i].machine == steps[j].machine)
                return i;
    return steps.size();
}

const packet::Step* leaving(const Lab& lab, const packet::Journey& journey) {
    const packet::Step* found = nullptr;
    for (std::size_t i = 0; i + 1 < journey.steps.size(); ++i)
        if (!lab.machines[journey.steps[i].machine].outside
            && lab.machines[journey.steps[i + 1].machine].outside)
            found = &journey.steps[i];
    return found;
}

namespace {

// A route to the other end of a tunnel that does not lead into it.
Remedy lead_around(const routing::Settled& settled, NicId end) {
    const Lab& lab = settled.lab();
    const lab::Link& link = lab.links[lab.tunnel(end)];
    bool is_first = link.first == end;
    net::Address other = (*link.outer)[is_first ? 1 : 0];
    MachineId here = lab.nics[end].machine;
    MachineId there = lab.nics[is_first ? link.second : link.first].machine;
    Remedy remedy{{}, "give its ends routes to each other that do not lead into it"};
    auto path = shortest_path(settled, here, there, other.family(), Through::working);
    if (!path.empty())
        remedy.edits = {plan::AddRoute{
            lab.machines[here].name, net::Prefix(other, net::address_bits(other.family())),
            lab.first_address(path.front().in, other.family())->address}};
    return remedy;
}

// Why nothing of the size of a ping gets through a tunnel that carries `around` others.
std::optional<Diagnosis> why_broken(const routing::Settled& settled, NicId end, int around) {
    constexpr unsigned small_bytes = 84;
    const Lab& lab = settled.lab();
    packet::Crossing crossing = packet::cross(settled, end, small_bytes);
    if (crossing.works)
        return std::nullopt;
    const lab::Link& link = lab.links[crossing.tunnel];
    std::string name = lab.segment_name(link.segment);
    Diagnosis d{.cause = Cause::tunnel_down, .where = lab.nics[end].machine, .at = link.at};
    if (!link.outer) {
        d.explanation =
            fmt::format("the ends of the {} have no addresses of one family to send its "
                        "packets between",
                        name);
        d.remedy.advice = "name other NICs with `over`";
    } else if (!crossing.outer || around != 0) {
        d.explanation =
            fmt::format("the packets of the {} would travel in that tunnel themselves", name);
        d.remedy = lead_around(settled, end);
    } else {
        const packet::Journey& outer = *crossing.outer;
        NicId target;
        for (const lab::Owner& owner : lab.owners_of(outer.flow.destination))
            if (!target || owner.machine == lab.nics[link.first].machine
                || owner.machine == lab.nics[link.second].machine)
                target = owner.nic;
        d = explain(settled, {&outer, target, false, nullptr, around + 1});
        d.cause = Cause::tunnel_down;
        d.explanation = fmt::format("the {} is down, as its packets do not get from {} to {}: {}",
                                    name, to_string(outer.packet.source),
                                    to_string(outer.packet.destination), d.explanation);
        if (!d.at)
            d.at = link.at;
    }
    return d;
}

class Explainer {
  public:
    Explainer(const routing::Settled& settled, const Leg& leg)
        : settled_(settled), lab_(settled.lab()), leg_(leg), journey_(*leg.journey),
          far_(journey_.flow.destination), family_(far_.family()), here_(journey_.last_machine()),
          route_(settled.route(here_, far_)) {}

    Diagnosis run() {
        if (auto d = unleased())
            return *d;
        if (auto d = between_sites())
            return *d;
        if (auto d = outside())
            return *d;
        if (auto d = led_astray_by_lease())
            return *d;
        bool astray =
            journey_.ending == Ending::no_route || journey_.ending == Ending::not_forwarding
            || journey_.ending == Ending::no_neighbour || journey_.ending == Ending::ttl_expired;
        if (astray)
            if (auto d = misaddressed_target())
                return *d;
        switch (journey_.ending) {
        case Ending::machine_off: return machine_off(here_);
        case Ending::no_route:
            return journey_.steps.size() == 1 || lab_.machines[here_].forwards ? no_route()
                                                                               : not_forwarding();
        case Ending::not_forwarding: return not_forwarding();
        case Ending::no_neighbour: return no_neighbour();
        case Ending::ttl_expired: return ttl_expired();
        case Ending::too_big: return too_big(route_->out);
        case Ending::too_big_to_take: return too_big(journey_.steps.back().in);
        case Ending::to_broadcast: return to_broadcast();
        case Ending::filtered: return filtered();
        case Ending::not_relayed: return not_relayed();
        case Ending::older_flow: return explain_older_flow(lab_, journey_, here_);
        case Ending::which_neighbour:
            if (lab_.nics[journey_.answering.front()].shares_mac)
                return duplicate_mac();
            break;
        case Ending::own_source:
            if (lab_.owners_of(journey_.flow.source).size() == 1)
                return in_a_loop(loop_start(journey_));
            break;
        case Ending::shared_source:
        case Ending::delivered: break; // delivered, but to a machine that was not meant
        }
        return duplicate_address();
    }

  private:
    using Maybe = std::optional<Diagnosis>;

    // --- words -----------------------------------------------------------------------------

    Diagnosis say(Cause cause, MachineId where, std::string explanation, Remedy remedy,
                  plan::Mark at) const {
        if (leg_.returning)
            explanation = "on the way back, " + explanation;
        return {cause, where, std::move(explanation), std::move(remedy), at};
    }

    const std::string& name(MachineId id) const { return lab_.machines[id].name; }
    plan::Mark mark(MachineId id) const { return lab_.machines[id].at; }

    std::string segment_of(NicId nic) const { return lab_.segment_name(lab_.nics[nic].segment); }

    // The far end as a reader knows it: the address, and the subnet or link it is on.
    std::string far_text() const {
        if (!leg_.target)
            return to_string(far_);
        return fmt::format("{} ({})", to_string(far_), segment_of(leg_.target));
    }

    // --- state: off, down, unaddressed -----------------------------------------------------

    // A change for what the plan says, advice for what the question cut.
    template <class Edit>
    Remedy restore(bool up_in_plan, const std::string& what, Edit edit) const {
        if (up_in_plan)
            return {{}, fmt::format("do not cut {}", what)};
        return {{std::move(edit)}, ""};
    }

    Diagnosis machine_off(MachineId id) const {
        return say(Cause::machine_off, id, fmt::format("{} is off", name(id)),
                   restore(lab_.machines[id].up, name(id), plan::SetMachineUp{name(id)}), mark(id));
    }

    Diagnosis nic_down(NicId nic) const {
        const lab::Nic& row = lab_.nics[nic];
        return say(
            Cause::nic_down, row.machine, fmt::format("{} is down", lab_.nic_name(nic)),
            restore(row.up, lab_.nic_name(nic), plan::SetNicUp{name(row.machine), row.plan_index}),
            row.at);
    }

    // The reason why a NIC that has an address of the family does not carry it, if there is one.
    Maybe unusable(NicId nic) const {
        if (!settled_.condition().nic_up(nic))
            return nic_down(nic);
        if (!settled_.condition().carries(lab_, nic, family_))
            return mtu_below_ipv6(nic);
        return {};
    }

    Diagnosis mtu_below_ipv6(NicId nic) const {
        const lab::Nic& row = lab_.nics[nic];
        return say(Cause::mtu_too_small, row.machine,
                   fmt::format("{} has an MTU of {} bytes, and IPv6 needs {}", lab_.nic_name(nic),
                               row.mtu_bytes, lab::ipv6_minimum_mtu_bytes),
                   {{set_mtu(nic, lab::ipv6_minimum_mtu_bytes)}, ""}, row.at);
    }

    plan::Edit set_mtu(NicId nic, unsigned wanted_bytes) const {
        const lab::Nic& row = lab_.nics[nic];
        auto bytes = static_cast<std::uint16_t>(wanted_bytes);
        if (lab::LinkId link = lab_.segments[row.segment].link)
            return plan::SetLinkMtu{link.row, bytes};
        return plan::SetNicMtu{name(row.machine), row.plan_index, bytes};
    }

    Diagnosis link_down(lab::LinkId id) const {
        const lab::Link& link = lab_.links[id];
        return say(Cause::link_down, lab_.nics[link.first].machine,
                   fmt::format("the link {} is down", lab_.segment_name(link.segment)),
                   restore(link.up, lab_.segment_name(link.segment), plan::SetLinkUp{id.row}),
                   link.at);
    }

    // The tunnel that a NIC is an end of does not work, for a reason of its outer packets'.
    Maybe broken_tunnel(NicId nic) const {
        auto d = why_broken(settled_, nic, leg_.tunnels);
        if (d && leg_.returning)
            d->explanation = "on the way back, " + d->explanation;
        return d;
    }

    Diagnosis nic_unaddressed(NicId nic) const {
        const lab::Nic& row = lab_.nics[nic];
        Remedy remedy{{plan::SetNicAddress{name(row.machine), row.plan_index, {}, std::nullopt}},
                      ""};
        if (lab_.segments[row.segment].link)
            remedy = {{}, "give the link a prefix of that family"};
        return say(Cause::nic_unaddressed, row.machine,
                   fmt::format("{} has no {} address on {}", lab_.nic_name(nic), to_string(family_),
                               segment_of(nic)),
                   std::move(remedy), row.at);
    }

    // What is off, down or bare about one hop, if anything is.
    Maybe idle(const Hop& hop) const {
        const auto& condition = settled_.condition();
        lab::LinkId link = lab_.segments[lab_.nics[hop.out].segment].link;
        MachineId there = lab_.nics[hop.in].machine;
        if (auto d = unusable(hop.out))
            return d;
        if (lab_.first_address(hop.out, family_) == nullptr)
            return nic_unaddressed(hop.out);
        if (link && !condition.link_up(link))
            return link_down(link);
        if (lab_.tunnel(hop.out))
            if (auto d = broken_tunnel(hop.out))
                return d;
        if (!condition.machine_on(there))
            return machine_off(there);
        if (auto d = unusable(hop.in))
            return d;
        if (lab_.first_address(hop.in, family_) == nullptr)
            return nic_unaddressed(hop.in);
        if (!settled_.hears(hop.out, hop.in))
            return apart(hop);
        return {};
    }

    // Both are on the subnet, but switches keep them apart.
    Diagnosis apart(const Hop& hop) const {
        lab::Finding f =
            describe(lab_, why_apart(lab_, settled_.condition().wiring(), hop.out, hop.in));
        return say(f.cause, lab_.nics[hop.out].machine, std::move(f.message), std::move(f.remedy),
                   f.at);
    }

    // What keeps one hop from working, if anything does.
    Maybe obstacle(const Hop& hop) const {
        if (auto d = idle(hop))
            return d;
        MachineId there = lab_.nics[hop.in].machine;
        bool is_end = leg_.target && there == lab_.nics[leg_.target].machine;
        if (!is_end && !lab_.machines[there].forwards)
            return does_not_forward(there, {{plan::SetForwards{name(there), true}}, ""});
        return {};
    }

    // --- next hops -------------------------------------------------------------------------

    std::vector<Hop> path_from(MachineId from, Through through) const {
        if (!leg_.target)
            return {};
        if (through == Through::all && leg_.tunnels > 0)
            through = Through::wires; // what a tunnel travels in does not travel in it
        return shortest_path(settled_, from, lab_.nics[leg_.target].machine, family_, through);
    }

    // What is off, down or bare on the first hop from here, where no other way leads to the far
    // end: then that, and not the next hop that was written, is what went wrong.
    Maybe idle_first_hop() const {
        if (!path_from(here_, Through::working).empty())
            return {};
        auto path = path_from(here_, Through::all);
        return path.empty() ? Maybe{} : idle(path.front());
    }

    // The next hop as a plan names it: the machine, if its name leads to the same NIC.
    plan::Route::NextHop next_hop_name(MachineId from, const Hop& hop) const {
        MachineId there = lab_.nics[hop.in].machine;
        for (NicId own : lab_.nics_of(from))
            for (NicId theirs : lab_.nics_of(there))
                if (lab_.nics[own].segment == lab_.nics[theirs].segment
                    && lab_.first_address(theirs, family_) != nullptr) {
                    if (theirs == hop.in)
                        return name(there);
                    return lab_.first_address(hop.in, family_)->address;
                }
        return lab_.first_address(hop.in, family_)->address;
    }

    // Points a route of `from` at the first hop of a way to the far end: one that works, or one
    // that would if what is off or down on it were not.
    Remedy lead_rightly(MachineId from, const lab::StaticRoute& route) const {
        auto path = path_from(from, Through::working);
        if (path.empty())
            path = path_from(from, Through::all);
        if (path.empty() || lab_.first_address(path.front().in, family_) == nullptr)
            return {{}, "add a router to a subnet of the machine, and send by way of it"};
        const Hop& hop = path.front();
        if (!route.is_gateway())
            return {{plan::SetRouteVia{name(from), route.plan_index, next_hop_name(from, hop)}},
                    ""};
        return {{gateway_edit(from, hop, route.origin)}, ""};
    }

    // The gateway entry to change: that of the subnet if the machine goes by it, else its own.
    plan::Edit gateway_edit(MachineId from, const Hop& hop, RouteOrigin origin) const {
        net::Address router = lab_.first_address(hop.in, family_)->address;
        lab::SubnetId subnet = lab_.segments[lab_.nics[hop.out].segment].subnet;
        bool is_subnets = subnet && lab_.subnets[subnet].gateway[family_] == router;
        if (origin == RouteOrigin::gateway_automatic && subnet)
            return plan::SetSubnetGateway{lab_.subnets[subnet].name, router};
        if (is_subnets)
            return plan::SetMachineGateway{name(from), std::nullopt};
        return plan::SetMachineGateway{name(from), router};
    }

    // A route that `from` lacks: a gateway for a guest without one, else a route to the far
    // end's segment.
    Remedy add_route(MachineId from, const Hop& hop) const {
        bool has_default = std::ranges::any_of(lab_.routes_of(from), [&](lab::RouteId id) {
            return lab_.routes[id].to == net::Prefix::everything(family_);
        });
        if (lab_.machines[from].kind == plan::MachineKind::guest && !has_default)
            return {{gateway_edit(from, hop, RouteOrigin::gateway_written)}, ""};
        const lab::Segment& segment = lab_.segments[lab_.nics[leg_.target].segment];
        plan::Route::Target to = net::Prefix(far_, net::address_bits(family_));
        if (const auto& prefix = segment.prefix[family_]; prefix && prefix->contains(far_)) {
            if (segment.subnet)
                to = lab_.subnets[segment.subnet].name;
            else
                to = *prefix;
        }
        return {{plan::AddRoute{name(from), to, next_hop_name(from, hop)}}, ""};
    }

    // --- addresses -------------------------------------------------------------------------

    Remedy another_address(NicId nic, net::Address address) const {
        return {lab::readdress(lab_, {address, nic}),
                fmt::format("give {} another address", lab_.nic_name(nic))};
    }

    plan::Mark address_mark(NicId nic, net::Address address) const {
        for (lab::AddressId id : lab_.addresses_of(nic))
            if (lab_.addresses[id].address == address && lab_.addresses[id].at)
                return lab_.addresses[id].at;
        return lab_.nics[nic].at;
    }

    // An address that does not fit the segment of its NIC, as the cause of whatever followed.
    Maybe misaddressed(NicId nic, net::Address address) const {
        const auto& prefix = lab_.segments[lab_.nics[nic].segment].prefix[family_];
        if (!prefix || lab_.segments[lab_.nics[nic].segment].link)
            return {};
        MachineId machine = lab_.nics[nic].machine;
        if (!prefix->contains(address))
            return say(Cause::address_outside_subnet, machine,
                       fmt::format("{} has {}, which is not in {} ({})", lab_.nic_name(nic),
                                   to_string(address), segment_of(nic), to_string(*prefix)),
                       another_address(nic, address), address_mark(nic, address));
        for (lab::AddressId id : lab_.addresses_of(nic)) {
            const lab::InterfaceAddress& row = lab_.addresses[id];
            if (row.address == address && row.length != prefix->length())
                return say(Cause::prefix_length_differs, machine,
                           fmt::format("{} has {}/{}, but {} is {}", lab_.nic_name(nic),
                                       to_string(address), row.length, segment_of(nic),
                                       to_string(*prefix)),
                           {{plan::SetNicAddress{name(machine), lab_.nics[nic].plan_index, address,
                                                 address}},
                            ""},
                           row.at);
        }
        return {};
    }

    Maybe misaddressed_target() const {
        if (!leg_.target)
            return {};
        auto found = misaddressed(leg_.target, far_);
        return found && found->cause == Cause::address_outside_subnet ? found : Maybe{};
    }

    Maybe misaddressed_here() const {
        for (NicId nic : lab_.nics_of(here_))
            if (const auto* row = lab_.first_address(nic, family_))
                if (auto found = misaddressed(nic, row->address))
                    return found;
        return {};
    }

    // --- leases, and what is outside -------------------------------------------------------

    // One of the ends has only an address that it gave itself, for want of a lease.
    Maybe unleased() const {
        if (lab_.leases.empty() || family_ == net::Family::ipv6)
            return {};
        std::vector<NicId> nics;
        if (leg_.target)
            nics.push_back(leg_.target);
        if (journey_.ending == Ending::no_route)
            for (NicId nic : lab_.nics_of(here_))
                nics.push_back(nic);
        for (NicId nic : nics) {
            const lab::Lease* lease = lab_.lease_of(nic);
            if (lease == nullptr || lease->refusal == lab::Lease::Refusal::none)
                continue;
            lab::Finding f = describe(lab_, *lease);
            return say(f.cause, lab_.nics[nic].machine, std::move(f.message), std::move(f.remedy),
                       f.at);
        }
        return {};
    }

    // --- sites -----------------------------------------------------------------------------

    Diagnosis say(lab::Finding f, MachineId where) const {
        return say(f.cause, where, std::move(f.message), std::move(f.remedy), f.at);
    }

    // The packet ended where a peering, a relay or a shared way outside would have led on.
    Maybe between_sites() const {
        if (journey_.ending != Ending::no_route && journey_.ending != Ending::no_neighbour
            && journey_.ending != Ending::ttl_expired && journey_.ending != Ending::not_relayed)
            return {};
        lab::SiteId from = lab_.site_of(journey_.steps.front().machine);
        lab::SiteId to = leg_.target ? lab_.site_of(lab_.nics[leg_.target].machine) : lab::SiteId{};
        if (!from || lab_.sites[from].outside || from == to)
            return {};
        if (!to || lab_.machines[lab_.nics[leg_.target].machine].outside)
            return ended_at_border(from) ? towards_outside(from) : Maybe{};
        bool meant = lab_.sites[from].core || lab_.sites[to].core
                     || lab::peering_between(lab_, from, to) != nullptr;
        bool strayed = lab_.machines[here_].outside || ended_at_border(from)
                       || journey_.ending == Ending::not_relayed;
        if (!strayed || !path_from(journey_.steps.front().machine, Through::all).empty()
            || (!meant && lab_.peerings.size() == 0))
            return {};
        auto gap = lab::gap_between(lab_, from, to);
        if (!gap || (!meant && gap->cause == Cause::sites_not_joined))
            return {};
        return say(std::move(*gap), here_);
    }

    Diagnosis not_relayed() const {
        const std::string& hub = lab_.sites[lab_.site_of(here_)].name;
        return say(
            Cause::no_relay, here_,
            fmt::format("{} passes nothing on from one peer of {} to another", name(here_), hub),
            {{},
             fmt::format("name a machine of {} as its `relay`, and have both peers take "
                         "relayed traffic",
                         hub)},
            mark(here_));
    }

    // The packet did not leave the site, or only for a hub that has no more ways.
    bool ended_at_border(lab::SiteId from) const {
        return lab_.machines[here_].is_core || lab_.site_of(here_) == from;
    }

    Maybe towards_outside(lab::SiteId site) const {
        if (journey_.ending != Ending::no_route)
            return {};
        auto gap = lab::gap_outwards(lab_, site);
        return gap ? Maybe(say(std::move(*gap), here_)) : Maybe{};
    }

    // Private addresses that ended outside, where nobody routes them.
    Maybe outside() const {
        bool lost = journey_.ending == Ending::no_route || journey_.ending == Ending::no_neighbour
                    || journey_.ending == Ending::ttl_expired;
        if (!lost || !lab_.machines[here_].outside || !net::is_private(far_))
            return {};
        if (const packet::Step* left = leaving(lab_, journey_))
            if (auto path = path_from(left->machine, Through::working); !path.empty()) {
                auto d = not_learned(left->machine, path);
                return d ? *d : strayed(*left, path.front());
            }
        if (leg_.request != nullptr)
            if (const packet::Step* left = leaving(lab_, *leg_.request))
                return untranslated(*left);
        if (leg_.returning || !lab_.machines[journey_.steps.front().machine].outside
            || !leg_.target)
            return {};
        return say(Cause::behind_translation, here_,
                   fmt::format("{} is asked from outside by its private address {}, which {} does "
                               "not route",
                               lab_.machine_name(leg_.target), to_string(far_), name(here_)),
                   {{}, forwarding_advice()}, lab_.nics[leg_.target].at);
    }

    // A machine sends to the outside what it should have sent to another machine of the lab.
    Diagnosis strayed(const packet::Step& left, const Hop& right) const {
        return say(
            leg_.returning ? Cause::no_return_route : Cause::no_route, left.machine,
            fmt::format("{} has no route to {} but its default route, which leads out of the "
                        "lab",
                        name(left.machine), far_text()),
            add_route(left.machine, right), mark(left.machine));
    }

    Diagnosis untranslated(const packet::Step& left) const {
        return {Cause::private_untranslated,
                left.machine,
                fmt::format("the request leaves the lab at {} with the private source address {}, "
                            "and {} has no way back to it",
                            name(left.machine), to_string(far_), name(here_)),
                {{plan::AddTranslation{name(left.machine), lab_.nics[left.out].name}}, ""},
                mark(left.machine)};
    }

    // How a machine of the lab is asked from outside: by an address of the one that translates,
    // from whoever can reach that. Nothing gets in past the gateway of the physical network.
    std::string forwarding_advice() const {
        const std::string& inside = lab_.machine_name(leg_.target);
        if (lab_.machines[journey_.steps.front().machine].kind == plan::MachineKind::guest)
            return fmt::format("nothing far away gets in past lan-gateway; let {} ask, or ask from "
                               "the workstation",
                               inside);
        for (MachineId id : lab_.machines.ids()) {
            const lab::Duties* duties = lab_.duties_of(id);
            if (duties == nullptr || lab_.machines[id].outside)
                continue;
            for (const lab::Translation& rule : duties->translations)
                if (const auto* row = lab_.first_address(rule.nic, family_))
                    return fmt::format(
                        "ask for {} of {}, and forward a port there: routers.{}.nat: "
                        "add {{in: {}, proto: tcp, port: 22, to: {}}}",
                        to_string(row->address), name(id), name(id), lab_.nics[rule.nic].name,
                        inside);
        }
        return fmt::format("forward a port to {} where the lab translates", inside);
    }

    // The packet went by the default route of a lease, and by another NIC it would have got there.
    Maybe led_astray_by_lease() const {
        MachineId sender = journey_.steps.front().machine;
        if (lab_.leases.empty() || !leg_.target || journey_.ending == Ending::filtered
            || journey_.ending == Ending::delivered || sender == here_)
            return {};
        auto route = settled_.route(sender, far_);
        if (!route || !route->written
            || lab_.routes[route->written].origin != RouteOrigin::gateway_lease)
            return {};
        auto path = path_from(sender, Through::working);
        if (path.empty() || path.front().out == route->out)
            return {};
        return say(
            Cause::lease_route_wins, sender,
            fmt::format("{} sends to {} by the default route that came with the lease of {}, "
                        "and not by {}, which leads there",
                        name(sender), far_text(), lab_.nic_name(route->out),
                        lab_.nic_name(path.front().out)),
            add_route(sender, path.front()), lab_.nics[route->out].at);
    }

    // --- one step for each ending ----------------------------------------------------------

    Diagnosis no_route() const {
        if (auto d = without_address_here())
            return *d;
        if (auto d = refused_route())
            return *d;
        if (auto d = unusable_nic_towards_far_end())
            return *d;
        if (!leg_.target)
            return address_unclaimed();
        auto path = path_from(here_, Through::working);
        if (!path.empty()) {
            if (auto d = not_learned(here_, path))
                return *d;
            return missing_route(path.front());
        }
        for (const Hop& hop : path_from(here_, Through::all))
            if (auto d = obstacle(hop))
                return *d;
        return no_router_between();
    }

    Maybe without_address_here() const {
        NicId idle_nic;
        NicId bare;
        for (NicId nic : lab_.nics_of(here_)) {
            bool addressed = lab_.first_address(nic, family_) != nullptr;
            if (addressed && settled_.condition().carries(lab_, nic, family_))
                return {};
            if (addressed && !idle_nic)
                idle_nic = nic;
            if (!addressed && !bare && lab_.segments[lab_.nics[nic].segment].prefix[family_])
                bare = nic;
        }
        if (idle_nic)
            return unusable(idle_nic);
        if (bare)
            return nic_unaddressed(bare);
        return {};
    }

    // A route that the plan gives this machine for the far end, but that does not exist.
    Maybe refused_route() const {
        const lab::StaticRoute* best = nullptr;
        routing::Refusal why{};
        for (const routing::RefusedRoute& refused : settled_.refused()) {
            const lab::StaticRoute& route = lab_.routes[refused.written];
            if (refused.machine == here_ && refused.why != routing::Refusal::repeated
                && route.to.contains(far_)
                && (best == nullptr || route.to.length() > best->to.length())) {
                best = &route;
                why = refused.why;
            }
        }
        if (best == nullptr)
            return unresolved_route();
        for (NicId nic : lab_.nics_of(here_))
            for (lab::AddressId id : lab_.addresses_of(nic))
                if (lab_.addresses[id].prefix().contains(best->via))
                    if (auto d = unusable(nic))
                        return d;
        if (auto d = misaddressed_here())
            return d;
        if (auto d = idle_first_hop())
            return d;
        std::string what = best->is_gateway() ? "gateway" : "next hop";
        return say(best->is_gateway() ? Cause::gateway_off_subnet : Cause::next_hop_off_link, here_,
                   fmt::format("{} of {}, {}, {}, so the {} is refused", what, name(here_),
                               to_string(best->via), words(why),
                               best->to.length() == 0
                                   ? "default route"
                                   : fmt::format("route to {}", to_string(best->to))),
                   lead_rightly(here_, *best), best->at);
    }

    static std::string_view words(routing::Refusal why) {
        switch (why) {
        case routing::Refusal::next_hop_is_own: return "is its own address";
        case routing::Refusal::next_hop_is_routed: return "is itself reached by another route";
        case routing::Refusal::next_hop_is_broadcast: return "is a broadcast address";
        case routing::Refusal::next_hop_off_link:
        case routing::Refusal::repeated: break;
        }
        return "is on none of its subnets";
    }

    Maybe unresolved_route() const {
        for (const lab::UnresolvedRoute& route : lab_.unresolved_routes) {
            bool covers = std::ranges::any_of(
                route.to, [&](const net::Prefix& to) { return to.contains(far_); });
            if (route.machine != here_ || !covers)
                continue;
            if (auto d = idle_first_hop())
                return d;
            lab::StaticRoute stand_in{.origin = RouteOrigin::written_by_name,
                                      .plan_index = route.plan_index};
            return say(
                Cause::next_hop_off_link, here_,
                fmt::format("the next hop {} shares no segment with {}", route.via, name(here_)),
                lead_rightly(here_, stand_in), route.at);
        }
        return {};
    }

    Maybe unusable_nic_towards_far_end() const {
        if (!leg_.target)
            return {};
        for (NicId nic : lab_.nics_of(here_)) {
            if (lab_.nics[nic].segment != lab_.nics[leg_.target].segment)
                continue;
            if (auto d = unusable(nic))
                return d;
            if (lab_.first_address(nic, family_) == nullptr)
                return nic_unaddressed(nic);
        }
        return {};
    }

    // --- routing protocols -------------------------------------------------------------------

    // A machine that speaks a routing protocol was not told of the far end: two on a way there do
    // not exchange routes, or the last one announces nothing.
    Maybe not_learned(MachineId from, const std::vector<Hop>& path) const {
        const routing::Learned& learned = settled_.learned(from);
        if (!learned.teaches(from))
            return {};
        std::vector<MachineId> machines{from};
        for (const Hop& hop : path)
            machines.push_back(lab_.nics[hop.in].machine);
        auto is_on_path = [&](MachineId id) {
            return std::ranges::find(machines, id) != machines.end();
        };
        for (const routing::Neighbour& n : learned.neighbours()) {
            bool meant = n.protocol == routing::Protocol::bgp
                             ? is_on_path(n.machine) && is_on_path(n.other)
                             : std::ranges::any_of(path, [&](const Hop& hop) {
                                   return n.nic == hop.out && n.other_nic == hop.in;
                               });
            if (!meant || n.family != family_ || n.discord == routing::Discord::none)
                continue;
            // A session needs a way, and what is in that is the cause.
            if (n.protocol == routing::Protocol::bgp && n.other)
                for (const Hop& hop :
                     shortest_path(settled_, n.machine, n.other, family_, Through::all))
                    if (auto d = obstacle(hop))
                        return d;
            return say(routing::describe(lab_, n), n.machine);
        }
        for (const routing::Dispute& dispute : learned.disputes())
            if (dispute.machines.empty() || dispute.to.contains(far_))
                return say(routing::describe(lab_, dispute),
                           dispute.machines.empty() ? from : dispute.machines.front());
        return unannounced(from, path);
    }

    // The last router before the far end does not tell of the segment that this is on.
    Maybe unannounced(MachineId from, const std::vector<Hop>& path) const {
        MachineId last = lab_.nics[path.back().out].machine;
        const lab::Speaker* speaker = lab_.speaker(last);
        if (speaker == nullptr || last == from)
            return {};
        Remedy remedy{{}, fmt::format("have {} announce {}", name(last), segment_of(leg_.target))};
        plan::Mark at = mark(last);
        std::string protocol = "BGP";
        if (speaker->ospf) {
            if (speaker->ospf->on(path.back().out) != nullptr)
                return {};
            protocol = "OSPF";
            at = speaker->ospf->at;
            if (!speaker->ospf->nics.empty())
                remedy.edits = {plan::SetOspfNic{name(last), lab_.nics[path.back().out].name,
                                                 plan::SetOspfNic::What::area,
                                                 speaker->ospf->nics.front().area}};
        } else if (speaker->rip) {
            if (speaker->rip->on(path.back().out) != nullptr)
                return {};
            protocol = "RIP";
            at = speaker->rip->at;
        }
        return say(Cause::network_not_announced, last,
                   fmt::format("{} speaks {}, but does not announce {}, so {} has no route to {}",
                               name(last), protocol, segment_of(leg_.target), name(from),
                               far_text()),
                   std::move(remedy), at);
    }

    Diagnosis missing_route(const Hop& hop) const {
        if (leg_.returning)
            return {Cause::no_return_route, here_,
                    fmt::format("the request arrives, but {} has no route back to {}", name(here_),
                                far_text()),
                    add_route(here_, hop), mark(here_)};
        return say(Cause::no_route, here_,
                   fmt::format("{} has no route to {}", name(here_), far_text()),
                   add_route(here_, hop), mark(here_));
    }

    Diagnosis no_router_between() const {
        lab::SubnetId mine = first_subnet(here_);
        lab::SubnetId theirs = lab_.segments[lab_.nics[leg_.target].segment].subnet;
        if (!theirs)
            theirs = first_subnet(lab_.nics[leg_.target].machine);
        Remedy remedy{{}, "add a router that joins them"};
        if (mine && theirs)
            remedy = join(mine, theirs);
        return say(Cause::no_router_between, here_,
                   fmt::format("no chain of routers joins {} to {}",
                               mine ? lab_.subnets[mine].name : name(here_), far_text()),
                   std::move(remedy), mark(here_));
    }

    lab::SubnetId first_subnet(MachineId id) const {
        for (NicId nic : lab_.nics_of(id))
            if (lab::SubnetId subnet = lab_.segments[lab_.nics[nic].segment].subnet)
                return subnet;
        return {};
    }

    // A NIC on one subnet for a router of the other, or a new router on both.
    Remedy join(lab::SubnetId mine, lab::SubnetId theirs) const {
        for (auto [has, lacks] : {std::pair{mine, theirs}, std::pair{theirs, mine}})
            for (NicId nic : lab_.segments[lab_.subnets[has].segment].nics) {
                const lab::Machine& machine = lab_.machines[lab_.nics[nic].machine];
                if (machine.forwards && machine.kind == plan::MachineKind::router
                    && !machine.is_core)
                    return {{plan::AddNic{machine.name, lab_.subnets[lacks].name}}, ""};
            }
        return {{lab::new_router(lab_, {lab_.subnets[mine].name, lab_.subnets[theirs].name})}, ""};
    }

    Diagnosis address_unclaimed() const {
        return say(Cause::address_unclaimed, here_,
                   fmt::format("no machine in the lab has {}", to_string(far_)),
                   {{}, "ask for an address that a machine has, or give it to one"}, mark(here_));
    }

    Diagnosis does_not_forward(MachineId id, Remedy remedy) const {
        return say(Cause::next_hop_does_not_forward, id,
                   fmt::format("{} does not forward what is not meant for it", name(id)),
                   std::move(remedy), mark(id));
    }

    Diagnosis not_forwarding() const {
        MachineId before = journey_.steps[journey_.steps.size() - 2].machine;
        auto route = settled_.route(before, far_);
        Remedy remedy{{plan::SetForwards{name(here_), true}}, ""};
        bool is_router = lab_.machines[here_].kind == plan::MachineKind::router;
        if (!is_router && route && route->written && !path_from(before, Through::working).empty())
            remedy = lead_rightly(before, lab_.routes[route->written]);
        return does_not_forward(here_, std::move(remedy));
    }

    Diagnosis no_neighbour() const {
        net::Address next_hop = journey_.next_hop;
        lab::SegmentId segment = lab_.nics[route_->out].segment;
        auto owners = lab_.owners_of(next_hop);
        for (const lab::Owner& owner : owners)
            for (NicId nic : lab_.nics_of(lab_.nics[owner.nic].machine))
                if (lab_.nics[nic].segment == segment)
                    if (auto d = obstacle({route_->out, nic}))
                        return *d;
        if (route_->kind == RouteKind::static_route) {
            if (auto d = idle_first_hop())
                return *d;
            return unclaimed_next_hop(next_hop, segment);
        }
        if (owners.empty())
            return address_unclaimed();
        return elsewhere(owners.front().nic, segment);
    }

    Diagnosis unclaimed_next_hop(net::Address next_hop, lab::SegmentId segment) const {
        const lab::StaticRoute& route = lab_.routes[route_->written];
        if (settled_.is_local(here_, settled_.aim(route.via)))
            return own_next_hop(route);
        return say(route.is_gateway() ? Cause::gateway_unclaimed : Cause::next_hop_unclaimed, here_,
                   fmt::format("{} sends by way of {}, which no machine on {} has", name(here_),
                               to_string(next_hop), lab_.segment_name(segment)),
                   lead_rightly(here_, route), route.at);
    }

    Diagnosis own_next_hop(const lab::StaticRoute& route) const {
        return say(route.is_gateway() ? Cause::gateway_off_subnet : Cause::next_hop_off_link, here_,
                   fmt::format("{} sends by way of {}, which is its own address", name(here_),
                               to_string(route.via)),
                   lead_rightly(here_, route), route.at);
    }

    // The far end was believed to be on this segment, but is on another.
    Diagnosis elsewhere(NicId owner, lab::SegmentId segment) const {
        if (auto d = misaddressed(route_->out, lab_.addresses[route_->source].address))
            return *d;
        lab::SegmentId kept = segment;
        lab::SegmentId moved = lab_.nics[owner].segment;
        if (lab_.segments[kept].subnet && (!lab_.segments[moved].subnet || moved < kept))
            std::swap(kept, moved);
        Remedy remedy{{}, "give one of the two a prefix that nothing else uses"};
        plan::Mark at = mark(here_);
        if (lab::SubnetId subnet = lab_.segments[moved].subnet) {
            const lab::Subnet& row = lab_.subnets[subnet];
            at = row.at;
            const auto& prefix = lab_.segments[moved].prefix[family_];
            if (auto to = lab::free_prefix(lab_, row.site, family_, prefix->length()))
                remedy = {lab::renumber(lab_, subnet, *to), ""};
        }
        return say(Cause::subnets_overlap, here_,
                   fmt::format("{} looks for {} on {}, as {} covers it, but it is on {}",
                               name(here_), to_string(far_), lab_.segment_name(segment),
                               to_string(route_->to), segment_of(owner)),
                   std::move(remedy), at);
    }

    Diagnosis ttl_expired() const {
        std::size_t loop = loop_start(journey_);
        if (loop == journey_.steps.size())
            return say(Cause::ttl_too_small, here_,
                       fmt::format("the packet was sent with TTL {}, and {} is the last machine "
                                   "it gets to",
                                   journey_.packet.ttl, name(here_)),
                       {{}, "send it with a larger TTL"}, mark(here_));
        return in_a_loop(loop);
    }

    Diagnosis in_a_loop(std::size_t start) const {
        const packet::Step* culprit = nullptr; // the step nearest to the far end that turns away
        std::size_t nearest = 0;
        bool all_default = true;
        std::string circle;
        for (std::size_t i = start; i < journey_.steps.size(); ++i) {
            const packet::Step& step = journey_.steps[i];
            if (i > start && step.machine == journey_.steps[start].machine)
                break;
            circle += name(step.machine) + " -> ";
            auto used = settled_.route(step.machine, far_);
            if (!used) // it knew the packet by the address of a translator
                continue;
            all_default &= used->to.length() == 0;
            auto path = path_from(step.machine, Through::working);
            if (path.empty() || lab_.first_address(path.front().in, family_)->address == used->via)
                continue;
            if (culprit == nullptr || path.size() < nearest) {
                culprit = &step;
                nearest = path.size();
            }
        }
        circle += name(journey_.steps[start].machine);
        if (culprit == nullptr)
            culprit = &journey_.steps[start];
        return say(all_default ? Cause::default_route_loop : Cause::routing_loop, culprit->machine,
                   fmt::format("{} circle until their TTL runs out: {}",
                               leg_.returning ? "replies" : "packets", circle),
                   break_loop(*culprit), loop_mark(*culprit));
    }

    plan::Mark loop_mark(const packet::Step& step) const {
        auto used = settled_.route(step.machine, far_);
        return used && used->written ? lab_.routes[used->written].at : mark(step.machine);
    }

    Remedy break_loop(const packet::Step& step) const {
        auto path = path_from(step.machine, Through::working);
        auto used = settled_.route(step.machine, far_);
        if (!used || !used->written)
            return {{}, "take one machine out of the circle"};
        const lab::StaticRoute& route = lab_.routes[used->written];
        if (!path.empty() && used->to.length() == 0)
            return add_route(step.machine, path.front());
        if (!path.empty())
            return lead_rightly(step.machine, route);
        if (route.is_gateway())
            return {{}, fmt::format("set gateway: none at {}", name(step.machine))};
        return {{plan::RemoveRoute{name(step.machine), route.plan_index}}, ""};
    }

    Diagnosis too_big(NicId nic) const {
        const lab::Nic& row = lab_.nics[nic];
        unsigned bytes = journey_.packet.size_bytes;
        Remedy remedy{{set_mtu(nic, bytes)}, ""};
        if (bytes > 65535)
            remedy = {{}, "send smaller packets"};
        return say(Cause::mtu_too_small, here_,
                   fmt::format("{} carries {} bytes at most, and the packet has {}",
                               lab_.nic_name(nic), row.mtu_bytes, bytes),
                   std::move(remedy), row.at);
    }

    Diagnosis to_broadcast() const {
        // An answer to the address of a translator, which all of the segment had to take for
        // theirs.
        if (journey_.next_hop != net::Address{}) {
            NicId nic = journey_.steps.back().in;
            return say(Cause::broadcast_address, here_,
                       fmt::format("{} has {}, the broadcast address of {}", lab_.nic_name(nic),
                                   to_string(journey_.next_hop), segment_of(nic)),
                       another_address(nic, journey_.next_hop),
                       address_mark(nic, journey_.next_hop));
        }
        if (!leg_.target)
            return say(Cause::broadcast_address, here_,
                       fmt::format("{} is the broadcast address of {}", to_string(far_),
                                   segment_of(route_->out)),
                       {{}, "ask for the address of one machine"}, mark(here_));
        return say(Cause::broadcast_address, lab_.nics[leg_.target].machine,
                   fmt::format("{} has {}, the broadcast address of {}", lab_.nic_name(leg_.target),
                               to_string(far_), segment_of(route_->out)),
                   another_address(leg_.target, far_), address_mark(leg_.target, far_));
    }

    // --- filters ---------------------------------------------------------------------------

    // The machine that has the address, as a plan names it, or the address itself.
    plan::Ends end_name(net::Address address) const {
        std::optional<MachineId> machine;
        for (const lab::Owner& owner : lab_.owners_of(address)) {
            if (machine && *machine != owner.machine)
                return net::Prefix(address, net::address_bits(family_));
            machine = owner.machine;
        }
        if (machine)
            return name(*machine);
        return net::Prefix(address, net::address_bits(family_));
    }

    // The least rule that lets the packet pass.
    plan::FilterRule least_rule() const {
        const net::Flow& flow = journey_.flow;
        plan::FilterRule rule{
            .allows = true, .way = journey_.denial.way, .protocol = flow.protocol};
        rule.from.emplace_back(end_name(flow.source));
        rule.to.emplace_back(end_name(flow.destination));
        if (net::has_ports(flow.protocol) && !leg_.returning)
            rule.ports.push_back({flow.destination_port, flow.destination_port});
        return rule;
    }

    Diagnosis filtered() const {
        const packet::Denial& denial = journey_.denial;
        const lab::Filter& filter = lab_.filters[denial.filter];
        const net::Flow& flow = journey_.flow;
        bool by_default = denial.rule == lab::RuleIndex::none;
        std::string place = name(here_);
        if (denial.nic) {
            place = lab_.nic_name(denial.nic);
            if (lab_.guards[lab_.nics[denial.nic].guard].subnet == denial.filter)
                place += fmt::format(" (of subnet {})", segment_of(denial.nic));
        }
        std::string what(to_string(flow.protocol));
        if (net::has_ports(flow.protocol) && !leg_.returning)
            what = to_string(net::Service{flow.protocol, flow.destination_port});
        return say(Cause::filter_denies, here_,
                   fmt::format("filter {} on {} drops {} from {} to {} on its way {}: {}",
                               filter.name, place, what, to_string(flow.source),
                               to_string(flow.destination), to_string(denial.way),
                               by_default ? "no rule allows it, and its default is deny"
                                          : fmt::format("rule {} denies it", denial.rule + 1)),
                   {{plan::AddFilterRule{
                        filter.name, by_default ? filter.rules.size() : denial.rule, least_rule()}},
                    ""},
                   by_default ? filter.default_at : filter.rules[denial.rule].at);
    }

    // Of the NICs that get the frame, one whose MAC the plan writes.
    Diagnosis duplicate_mac() const {
        const lab::Nic& wanted = lab_.nics[journey_.answering.front()];
        NicId changed;
        std::string names;
        for (NicId nic : journey_.answering) {
            if (lab_.nics[nic].mac != wanted.mac)
                continue;
            names += (names.empty() ? "" : " and ") + lab_.nic_name(nic);
            changed = nic;
        }
        const lab::Nic& nic = lab_.nics[changed];
        return say(Cause::duplicate_mac, nic.machine,
                   fmt::format("{} have the same MAC {}, so which one gets a frame is luck", names,
                               to_string(wanted.mac)),
                   {{plan::RemoveNicMac{name(nic.machine), nic.plan_index}}, ""}, nic.at);
    }

    // The address in question, and the one of its owners whose address can be changed: not the
    // machine that was meant, if another one can.
    Diagnosis duplicate_address() const {
        net::Address address =
            journey_.ending == Ending::own_source ? journey_.flow.source
            : journey_.ending == Ending::which_neighbour || journey_.ending == Ending::shared_source
                ? journey_.next_hop
                : far_;
        auto owners = lab_.owners_of(address);
        NicId changed = owners.front().nic;
        std::string names;
        for (const lab::Owner& owner : owners) {
            names += (names.empty() ? "" : " and ") + lab_.nic_name(owner.nic);
            bool can_change = !lab::readdress(lab_, owner).empty();
            bool could = !lab::readdress(lab_, {address, changed}).empty();
            if (can_change && (!could || changed == leg_.target))
                changed = owner.nic;
        }
        return say(
            Cause::duplicate_address, lab_.nics[changed].machine,
            fmt::format("{} both have {}, so which one answers is luck", names, to_string(address)),
            another_address(changed, address), address_mark(changed, address));
    }

    const routing::Settled& settled_;
    const Lab& lab_;
    const Leg& leg_;
    const packet::Journey& journey_;
    net::Address far_;
    net::Family family_;
    MachineId here_;
    std::optional<routing::Route> route_; // of the last machine, to the far end
};

} // namespace

Diagnosis explain(const routing::Settled& settled, const Leg& leg) {
    return Explainer(settled, leg).run();
}

std::optional<Diagnosis> explain_tunnel(const routing::Settled& settled, NicId end) {
    const Lab& lab = settled.lab();
    const lab::Link& link = lab.links[lab.tunnel(end)];
    bool on = settled.condition().link_up(lab.tunnel(end)) && settled.is_usable(link.first)
              && settled.is_usable(link.second);
    return on ? why_broken(settled, end, 0) : std::nullopt;
}

Diagnosis explain_other_source(const routing::Settled& settled, const packet::Journey& out,
                               const packet::Journey& back) {
    const Lab& lab = settled.lab();
    packet::Step redirecting = out.steps.front();
    for (const packet::Rewrite& rewrite : out.rewrites)
        if (rewrite.before.destination != rewrite.after.destination)
            redirecting = out.steps[rewrite.step];
    const std::string& name = lab.machines[redirecting.machine].name;
    lab::Remedy remedy{{}, fmt::format("route its answers by way of {}", name)};
    if (redirecting.out) // then the answers are for the translator itself
        remedy.edits = {plan::AddTranslation{name, lab.nics[redirecting.out].name}};
    MachineId server = out.last_machine();
    return {.cause = Cause::answer_not_turned_back,
            .where = server,
            .explanation = fmt::format(
                "{} asks {}, but the answer comes from {}, as it does not pass {}, which had sent "
                "the request on",
                lab.machines[out.steps.front().machine].name, to_string(out.packet.destination),
                to_string(back.flow.source), name),
            .remedy = std::move(remedy),
            .at = lab.machines[server].at};
}

namespace {

// The subnet of one of the end's NICs that found no room, if that is why it has no address.
const lab::Unplaced* homeless_subnet(const Lab& lab, const Endpoint& end) {
    for (NicId nic : lab.nics_of(end.machine))
        for (const lab::Unplaced& unplaced : lab.unplaced)
            if (unplaced.subnet && unplaced.subnet == lab.segments[lab.nics[nic].segment].subnet)
                return &unplaced;
    return nullptr;
}

Diagnosis explain_bare_end(const Lab& lab, const Endpoint& end) {
    const std::string& name = lab.machines[end.machine].name;
    Diagnosis d{.cause = Cause::nic_unaddressed,
                .where = end.machine,
                .explanation = fmt::format("{} has no address", end.name),
                .remedy = {{}, fmt::format("give {} a NIC with an address", end.name)},
                .at = lab.machines[end.machine].at};
    if (const lab::Unplaced* unplaced = homeless_subnet(lab, end)) {
        d.cause = Cause::no_space_left;
        d.explanation += fmt::format(": {}, but {}", unplaced->what, unplaced->why);
        d.remedy.edits = lab::make_room(lab, *unplaced);
        d.at = unplaced->at;
        return d;
    }
    for (NicId nic : lab.nics_of(end.machine)) {
        if (end.nic && nic != end.nic)
            continue;
        d.at = lab.nics[nic].at;
        d.remedy.edits = {plan::SetNicAddress{name, lab.nics[nic].plan_index, {}, std::nullopt}};
        break;
    }
    return d;
}

} // namespace

Diagnosis explain_no_address(const Lab& lab, const Endpoint& from, const Endpoint& to) {
    for (const Endpoint* end : {&from, &to})
        for (NicId nic : lab.nics_of(end->machine)) {
            const lab::Lease* lease = lab.lease_of(nic);
            if (lease == nullptr || lease->refusal == lab::Lease::Refusal::none)
                continue;
            lab::Finding f = describe(lab, *lease);
            return {f.cause, end->machine, std::move(f.message), std::move(f.remedy), f.at};
        }
    for (const Endpoint* end : {&from, &to})
        if (address_at(lab, *end, net::Family::ipv4) == nullptr
            && address_at(lab, *end, net::Family::ipv6) == nullptr)
            return explain_bare_end(lab, *end);
    return {.cause = Cause::no_common_family,
            .where = from.machine,
            .explanation =
                fmt::format("{} and {} have no address family in common", from.name, to.name),
            .remedy = {{}, "give both ends an address of the same family"},
            .at = lab.machines[from.machine].at};
}

Diagnosis explain_older_flow(const Lab& lab, const packet::Journey& journey, MachineId where) {
    const std::string& name = lab.machines[where].name;
    bool forgets = journey.ending == Ending::older_flow;
    return {.cause = Cause::older_flow,
            .where = where,
            .explanation =
                forgets ? fmt::format("{} has translated the ping to {} so far, the address of a "
                                      "NIC that it leaves by no more; one is dropped, and the next "
                                      "is translated anew",
                                      name, net::to_string(journey.flow.source))
                        : fmt::format("{} goes on with the ping as it began, by its record of the "
                                      "flow; a ping that starts now gets its reply",
                                      name),
            .remedy = {{}, "stop the ping for half a minute, until the record is gone"},
            .at = lab.machines[where].at};
}

} // namespace jackal::probe
