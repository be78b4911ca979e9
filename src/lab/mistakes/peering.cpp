#include "jackal/lab/peering.h"

#include "jackal/lab/place.h"
#include "lab/mistakes/ranges.h"

#include <algorithm>
#include <fmt/format.h>
#include <fmt/ranges.h>

namespace jackal::lab {

using plan::Cause;
using plan::PeeringState;

namespace {

const std::string& name_of(const Lab& lab, const Peering& peering, int side) {
    return lab.sites[peering.sites[side]].name;
}

std::string pair_text(const Lab& lab, const Peering& peering) {
    return fmt::format("the peering of {} and {}", name_of(lab, peering, 0),
                       name_of(lab, peering, 1));
}

// "harbour accepts, skerry says nothing"
std::string consent_text(const Lab& lab, const Peering& peering) {
    return fmt::format("{} {}, {} {}", name_of(lab, peering, 0), side_text(peering, 0),
                       name_of(lab, peering, 1), side_text(peering, 1));
}

std::string border_name(const Lab& lab, SiteId site) {
    MachineId border = border_for(lab, site);
    return lab.sites[site].core || !border ? "" : lab.machines[border].name;
}

// The sides that do not accept yet are made to.
Remedy accept(const Lab& lab, const Peering& peering) {
    Remedy remedy;
    for (int side : {0, 1}) {
        if (peering.sides[side].declared && peering.sides[side].accepts)
            continue;
        SiteId site = peering.sites[side];
        if (!border_for(lab, site))
            return {
                {},
                fmt::format("give {} a router for the peering to end at", lab.sites[site].name)};
        remedy.edits.push_back(plan::accept_peering(lab.plan, peering.plan_index,
                                                    lab.sites[site].name, border_name(lab, site)));
    }
    return remedy;
}

// Private space for a site in the place of `range`: as large, or else as large as there is.
std::optional<net::Prefix> another_space(const Lab& lab, const Site& site, const net::Prefix& range,
                                         std::span<const net::Prefix> besides) {
    constexpr int longest = 24;
    if (range.family() == net::Family::ipv6)
        return free_space(lab, net::Family::ipv6, 48,
                          fmt::format("{}/{}/{}", lab.name, site.name, besides.size() + 2),
                          besides);
    for (int length = range.length(); length <= std::max(longest, range.length()); ++length)
        if (auto space = free_space(lab, net::Family::ipv4, length, "", besides))
            return space;
    return std::nullopt;
}

// Gives the second site another range in the place of each that overlaps one of the first.
class Separation {
  public:
    Separation(const Lab& lab, const Peering& peering)
        : lab_(lab), peering_(peering), site_(lab.sites[peering.sites[1]]) {}

    Remedy run() {
        std::vector<net::Prefix> done;
        for (const plan::Overlap& overlap : peering_.overlaps)
            if (std::ranges::find(done, overlap.second) == done.end()) {
                done.push_back(overlap.second);
                replace(overlap.second);
            }
        return {std::move(edits_), "give one of the two sites a space of its own"};
    }

  private:
    void replace(const net::Prefix& range) {
        bool is_space = std::ranges::find(site_.space, range) != site_.space.end();
        auto space = is_space ? another_space(lab_, site_, range, given_) : std::nullopt;
        if (space) {
            given_.push_back(*space);
            edits_.emplace_back(plan::set_site_space(lab_.plan, site_.name, range, *space));
        }
        for (SubnetId id : lab_.subnets.ids()) {
            const Subnet& subnet = lab_.subnets[id];
            const auto& prefix = lab_.segments[subnet.segment].prefix[range.family()];
            if (subnet.site != peering_.sites[1] || !subnet.prefix_written || !prefix
                || !range.contains(*prefix))
                continue;
            std::optional<net::Prefix> to;
            if (space && space->length() == range.length())
                to = net::Prefix(net::moved(prefix->first(), range, *space), prefix->length());
            else if ((to =
                          free_prefix(lab_, subnet.site, range.family(), prefix->length(), given_)))
                given_.push_back(*to);
            if (!to)
                continue;
            for (plan::Edit& edit : renumber(lab_, id, *to))
                edits_.push_back(std::move(edit));
        }
    }

    const Lab& lab_;
    const Peering& peering_;
    const Site& site_;
    std::vector<net::Prefix> given_;
    std::vector<plan::Edit> edits_;
};

std::string overlaps_text(const Lab& lab, const Peering& peering) {
    constexpr std::size_t most_shown = 3;
    std::vector<std::string> texts;
    for (const plan::Overlap& overlap : peering.overlaps) {
        if (texts.size() == most_shown) {
            texts.push_back(fmt::format("{} more", peering.overlaps.size() - most_shown));
            break;
        }
        texts.push_back(fmt::format("{} of {} overlaps {} of {}", net::to_string(overlap.first),
                                    name_of(lab, peering, 0), net::to_string(overlap.second),
                                    name_of(lab, peering, 1)));
    }
    return fmt::format("{}", fmt::join(texts, ", "));
}

// A relay for the hub: a router it has, or a new one on its first subnet.
void add_relay(const Lab& lab, SiteId hub, std::vector<plan::Edit>& edits) {
    if (MachineId router = router_of(lab, hub)) {
        edits.push_back(
            plan::set_site_relay(lab.plan, lab.sites[hub].name, lab.machines[router].name));
        return;
    }
    for (const Subnet& subnet : lab.subnets)
        if (subnet.site == hub && !subnet.outside) {
            edits.push_back(new_router(lab, {subnet.name}));
            edits.push_back(
                plan::set_site_relay(lab.plan, lab.sites[hub].name, machine_in(edits.back())));
            return;
        }
}

// True if both peerings of a hub are up, or if all else is there for it to pass traffic on: only
// then one that carries nothing is what keeps the two others apart.
bool leads_on(const Lab& lab, SiteId hub, const Peering& one, const Peering& other) {
    if (one.state == PeeringState::up && other.state == PeeringState::up)
        return true;
    auto takes = [&](const Peering& peering) {
        return peering.sides[1 - peering.side_of(hub)].relayed;
    };
    return lab.sites[hub].relay && takes(one) && takes(other);
}

// What a hub between two sites lacks to pass traffic on from one to the other.
std::optional<Finding> gap_at(const Lab& lab, SiteId hub, const Peering& from, const Peering& to) {
    const Peering* legs[2] = {&from, &to};
    SiteId ends[2];
    for (int i : {0, 1}) {
        if (legs[i]->state != PeeringState::up)
            return describe(lab, *legs[i]);
        ends[i] = legs[i]->sites[1 - legs[i]->side_of(hub)];
    }
    std::vector<std::string> missing;
    Finding f{.cause = Cause::no_relay, .subject = lab.sites[hub].name, .at = lab.sites[hub].at};
    if (!lab.sites[hub].relay) {
        missing.push_back(fmt::format("{} has no relay", lab.sites[hub].name));
        add_relay(lab, hub, f.remedy.edits);
    }
    for (int i : {0, 1}) {
        int side = legs[i]->side_of(ends[i]);
        if (legs[i]->sides[side].relayed)
            continue;
        const std::string& name = lab.sites[ends[i]].name;
        missing.push_back(
            fmt::format("{} does not take what {} only passes on", name, lab.sites[hub].name));
        f.remedy.edits.push_back(plan::take_relayed(lab.plan, legs[i]->plan_index, name));
        if (lab.sites[hub].relay && missing.size() == 1)
            f.at = legs[i]->sides[side].at;
    }
    if (missing.empty())
        return std::nullopt;
    f.message = fmt::format("{} and {} are both peers of {}, but peerings are not transitive: {}",
                            lab.sites[ends[0]].name, lab.sites[ends[1]].name, lab.sites[hub].name,
                            fmt::join(missing, ", "));
    return f;
}

Finding not_joined(const Lab& lab, SiteId from, SiteId to) {
    const std::string& one = lab.sites[from].name;
    const std::string& other = lab.sites[to].name;
    Finding f{.cause = Cause::sites_not_joined,
              .subject = one,
              .message = fmt::format("nothing joins the sites {} and {}", one, other),
              .at = lab.sites[from].at};
    if (auto peering = new_peering(lab, from, to))
        f.remedy.edits = {*peering};
    else
        f.remedy.advice = "give each of the two a router, and join those";
    return f;
}

// A way outside for the site: by its core, if it has one.
Remedy uplink(const Lab& lab, SiteId id) {
    const Site& site = lab.sites[id];
    if (!site.core)
        return {{},
                fmt::format("give the border router of {} a subnet with an uplink, a default "
                            "route by way of it, and `nat`",
                            site.name)};
    std::string name = site.name + "-shore";
    for (int n = 2; lab.subnet(name); ++n)
        name = fmt::format("{}-shore-{}", site.name, n);
    return {{plan::add_uplink(lab.plan, name, site.name)}, ""};
}

Finding exit_finding(const Lab& lab, const Peering& peering, int borrower) {
    const std::string& name = name_of(lab, peering, borrower);
    const std::string& other = name_of(lab, peering, 1 - borrower);
    bool lent = peering.sides[1 - borrower].exit == plan::Exit::lend;
    bool borrowed = peering.sides[borrower].exit == plan::Exit::borrow;
    const plan::PeeringSide& said = peering.sides[lent ? 1 - borrower : borrower];
    Finding f{.severity = Severity::warning,
              .subject = fmt::format("{}--{}", name_of(lab, peering, 0), name_of(lab, peering, 1)),
              .at = said.at ? said.at : peering.at};
    if (lent && borrowed) {
        f.cause = Cause::exit_missing;
        f.severity = Severity::error;
        f.message = fmt::format("{} borrows the way outside of {}, which has none", name, other);
        f.remedy = uplink(lab, peering.sites[1 - borrower]);
    } else if (lent) {
        f.cause = Cause::exit_not_borrowed;
        f.message = fmt::format("{} lends its way outside, but {} does not borrow it", other, name);
        f.remedy.edits = {
            plan::set_peering_exit(lab.plan, peering.plan_index, name, plan::Exit::borrow)};
    } else {
        f.cause = Cause::exit_not_lent;
        f.message =
            fmt::format("{} borrows the way outside of {}, which does not lend it", name, other);
        f.remedy.edits = {
            plan::set_peering_exit(lab.plan, peering.plan_index, other, plan::Exit::lend)};
    }
    return f;
}

// A peer has a way outside, and nobody has thought of sharing it.
std::optional<Finding> unshared(const Lab& lab, SiteId site) {
    for (const Peering& peering : lab.peerings) {
        int side = peering.side_of(site);
        if (side < 0 || peering.state != PeeringState::up || !lab.sites[site].core
            || peering.sides[side].exit != plan::Exit::none
            || !has_way_outside(lab, peering.sites[1 - side]))
            continue;
        Finding f = exit_finding(lab, peering, side);
        const std::string& peer = name_of(lab, peering, 1 - side);
        f.message = fmt::format("{} has no way outside; its peer {} has one, but does not lend it",
                                lab.sites[site].name, peer);
        f.remedy.edits = {
            plan::set_peering_exit(lab.plan, peering.plan_index, peer, plan::Exit::lend),
            plan::set_peering_exit(lab.plan, peering.plan_index, lab.sites[site].name,
                                   plan::Exit::borrow)};
        return f;
    }
    return std::nullopt;
}

// What is wrong with the way outside that `borrower` may have by this peering, if anything is.
std::optional<Finding> exit_gap(const Lab& lab, const Peering& peering, int borrower) {
    bool lent = peering.sides[1 - borrower].exit == plan::Exit::lend;
    bool borrowed = peering.sides[borrower].exit == plan::Exit::borrow;
    if ((!lent && !borrowed) || peering.state != PeeringState::up)
        return std::nullopt;
    if (lent && borrowed && has_way_outside(lab, peering.sites[1 - borrower]))
        return std::nullopt;
    return exit_finding(lab, peering, borrower);
}

} // namespace

const Peering* peering_between(const Lab& lab, SiteId one, SiteId other) {
    for (const Peering& peering : lab.peerings)
        if (peering.side_of(one) >= 0 && peering.side_of(other) >= 0 && one != other)
            return &peering;
    return nullptr;
}

std::string side_text(const Peering& peering, int side) {
    const plan::PeeringSide& said = peering.sides[side];
    if (!said.declared)
        return "says nothing";
    std::string text = said.accepts ? "accepts" : "refuses";
    if (said.relayed)
        text += ", takes relayed traffic";
    if (said.exit == plan::Exit::lend)
        text += ", lends its way outside";
    if (said.exit == plan::Exit::borrow)
        text += ", borrows a way outside";
    return text;
}

Finding describe(const Lab& lab, const Peering& peering) {
    Finding f{.subject = fmt::format("{}--{}", name_of(lab, peering, 0), name_of(lab, peering, 1)),
              .at = peering.at};
    std::string consent = consent_text(lab, peering);
    std::string what = pair_text(lab, peering);
    if (peering.state == PeeringState::blocked) {
        f.cause = Cause::peering_blocked;
        f.message = fmt::format("{} carries nothing: {}, but {}", what, consent,
                                overlaps_text(lab, peering));
        f.remedy = Separation(lab, peering).run();
        return f;
    }
    f.cause = peering.state == PeeringState::half      ? Cause::peering_half
              : peering.state == PeeringState::refused ? Cause::peering_refused
                                                       : Cause::peering_undeclared;
    f.message = fmt::format("{} carries nothing: {}", what, consent);
    f.remedy = accept(lab, peering);
    for (const plan::PeeringSide& side : peering.sides)
        if (side.declared && !side.accepts)
            f.at = side.at;
    return f;
}

std::optional<Finding> gap_between(const Lab& lab, SiteId from, SiteId to) {
    if (const Peering* direct = peering_between(lab, from, to)) {
        if (direct->state == PeeringState::up)
            return std::nullopt;
        return describe(lab, *direct);
    }
    std::optional<Finding> at_hub;
    for (const Peering& first : lab.peerings) {
        int side = first.side_of(from);
        if (side < 0)
            continue;
        SiteId hub = first.sites[1 - side];
        const Peering* second = peering_between(lab, hub, to);
        if (second == nullptr || !leads_on(lab, hub, first, *second))
            continue;
        auto gap = gap_at(lab, hub, first, *second);
        if (!gap)
            return std::nullopt;
        if (!at_hub)
            at_hub = std::move(gap);
    }
    return at_hub ? std::move(*at_hub) : not_joined(lab, from, to);
}

std::optional<Finding> gap_outwards(const Lab& lab, SiteId site) {
    for (const Peering& peering : lab.peerings)
        if (int side = peering.side_of(site); side >= 0) {
            if (peering.state != PeeringState::up && peering.sides[side].exit == plan::Exit::borrow)
                return describe(lab, peering);
            if (auto gap = exit_gap(lab, peering, side))
                return gap;
        }
    return unshared(lab, site);
}

MachineId router_of(const Lab& lab, SiteId site) {
    for (MachineId id : lab.machines.ids()) {
        const Machine& machine = lab.machines[id];
        if (machine.forwards_any() && !machine.is_core && !machine.outside
            && machine.kind == plan::MachineKind::router && lab.site_of(id) == site)
            return id;
    }
    return {};
}

MachineId border_for(const Lab& lab, SiteId site) {
    return lab.sites[site].automatic ? lab.sites[site].core : router_of(lab, site);
}

std::optional<plan::Edit> new_peering(const Lab& lab, SiteId one, SiteId other) {
    if (!border_for(lab, one) || !border_for(lab, other))
        return std::nullopt;
    return plan::add_peering(lab.plan, {lab.sites[one].name, border_name(lab, one)},
                             {lab.sites[other].name, border_name(lab, other)});
}

bool has_way_outside(const Lab& lab, SiteId site) {
    MachineId border = border_for(lab, site);
    return border && std::ranges::any_of(lab.routes_of(border), [&](RouteId id) {
               return lab.routes[id].to == net::Prefix::everything(net::Family::ipv4);
           });
}

std::vector<net::Prefix> ranges_of(const Lab& lab, SiteId site) {
    std::vector<net::Prefix> ranges = lab.sites[site].space;
    for (const Subnet& subnet : lab.subnets)
        for (net::Family family : net::both_families)
            if (const auto& prefix = lab.segments[subnet.segment].prefix[family];
                prefix && subnet.site == site)
                ranges.push_back(*prefix);
    return net::outermost(std::move(ranges));
}

void add_peering_findings(const Lab& lab, std::vector<Finding>& found) {
    for (const Peering& peering : lab.peerings) {
        if (peering.state != PeeringState::up)
            found.push_back(describe(lab, peering));
        for (int side : {0, 1}) {
            if (auto gap = exit_gap(lab, peering, side))
                found.push_back(std::move(*gap));
            SiteId hub = peering.sites[1 - side];
            if (!peering.sides[side].relayed || lab.sites[hub].relay
                || peering.state != PeeringState::up)
                continue;
            Finding f{.cause = Cause::no_relay,
                      .severity = Severity::warning,
                      .subject = lab.sites[hub].name,
                      .message = fmt::format("{} takes what {} passes on, but {} has no relay",
                                             name_of(lab, peering, side), lab.sites[hub].name,
                                             lab.sites[hub].name),
                      .at = peering.sides[side].at};
            add_relay(lab, hub, f.remedy.edits);
            found.push_back(std::move(f));
        }
    }
}

} // namespace jackal::lab
