#include "jackal/reach/ways.h"

#include "jackal/lab/build.h"
#include "jackal/lab/peering.h"
#include "jackal/lab/place.h"
#include "jackal/probe/diagnosis.h"
#include "jackal/reach/sites.h"
#include "probe/links.h"
#include "speaker.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::reach {

using lab::Lab;
using lab::MachineId;
using lab::NicId;
using lab::SiteId;

namespace {

class Comparer {
  public:
    Comparer(const plan::Plan& plan, const Lab& lab, SiteId one, SiteId other)
        : plan_(plan), lab_(lab), sites_{one, other} {}

    std::vector<Way> run() {
        std::vector<Way> ways;
        for (Way way : {as_it_is(), peering(), tunnel(Routes::to_site), line(Routes::to_site)}) {
            measure(way);
            // What is known of the subnets goes before a route to the site.
            if (is_unused(way) && way.kind != WayKind::peering) {
                way = way.kind == WayKind::tunnel ? tunnel(Routes::to_subnets)
                                                  : line(Routes::to_subnets);
                measure(way);
            }
            if (is_unused(way))
                way.gap = "no pair goes by it, as other routes go before";
            ways.push_back(std::move(way));
        }
        return ways;
    }

  private:
    // What leads over something new: one route, or one for each subnet.
    enum class Routes : std::uint8_t { to_site, to_subnets };

    static bool is_unused(const Way& way) { return way.replies != 0 && way.mtu_bytes == 0; }

    const std::string& name(int side) const { return lab_.sites[sites_[side]].name; }

    const plan::Site& site(int side) const { return plan_.sites[sites_[side].row]; }

    // What joins the two now costs something already.
    Way as_it_is() const {
        Way way{.kind = WayKind::as_it_is};
        const lab::Peering* peering = lab::peering_between(lab_, sites_[0], sites_[1]);
        if (peering != nullptr && peering->state == plan::PeeringState::up)
            way.hourly_cost += peering->hourly_cost;
        for (lab::LinkId id : lab_.links.ids()) {
            const lab::Link& link = lab_.links[id];
            SiteId first = lab_.site_of(lab_.nics[link.first].machine);
            SiteId second = lab_.site_of(lab_.nics[link.second].machine);
            if (link.is_tunnel
                && ((first == sites_[0] && second == sites_[1])
                    || (first == sites_[1] && second == sites_[0])))
                way.hourly_cost += plan_.links[id.row].tunnel->hourly_cost;
        }
        return way;
    }

    // --- what each way takes ---------------------------------------------------------------

    Way peering() const {
        Way way{.kind = WayKind::peering};
        const lab::Peering* there = lab::peering_between(lab_, sites_[0], sites_[1]);
        way.hourly_cost = there != nullptr ? there->hourly_cost
                                           : *plan::distance(plan_, site(0), site(1)).peering_cost;
        if (there != nullptr && there->state == plan::PeeringState::up) {
            way.impossible = "it is there already";
            return way;
        }
        std::vector<plan::Edit> edits;
        if (there != nullptr) {
            edits = lab::describe(lab_, *there).remedy.edits;
        } else if (auto gap = lab::new_peering(lab_, sites_[0], sites_[1])) {
            edits = {*gap};
        }
        if (edits.empty())
            way.impossible = "a site has no router for it to end at";
        for (plan::Edit& edit : edits)
            list_at(edit, way).push_back(std::move(edit));
        return way;
    }

    // What is changed of a site's own stands at that side.
    std::vector<plan::Edit>& list_at(const plan::Edit& edit, Way& way) const {
        for (int side : {0, 1})
            for (const plan::PlaceChange& change : edit.changes)
                if (std::ranges::find(change.place.steps, name(side), &plan::Place::Step::word)
                    != change.place.steps.end())
                    return way.at[side];
        return way.common;
    }

    // The router of a site that a tunnel or a wire ends at: its first, or one that is added.
    std::string end_of(int side, Way& way) const {
        if (MachineId router = lab::router_of(lab_, sites_[side]))
            return lab_.machines[router].name;
        for (const lab::Subnet& subnet : lab_.subnets) {
            if (subnet.site != sites_[side] || subnet.outside)
                continue;
            way.at[side].push_back(lab::new_router(lab_, {subnet.name}));
            return machine_in(way.at[side].back());
        }
        return "";
    }

    bool has_default(MachineId id) const {
        return std::ranges::any_of(lab_.routes_of(id), [&](lab::RouteId route) {
            return lab_.routes[route].to.length() == 0;
        });
    }

    // By the core of the site, if it has one: it knows the way to the other subnets. `lab` has the
    // router already.
    void add_default(const Lab& lab, const std::string& router, int side, Way& way) const {
        const MachineId core = lab_.sites[sites_[side]].core;
        const auto before = lab_.machine(router);
        if (core && (!before || !has_default(*before)))
            way.at[side].push_back(plan::add_route(lab.plan, router, plan::Route::Default{},
                                                   lab_.machines[core].name));
    }

    Way tunnel(Routes routes) const {
        Way way{.kind = WayKind::tunnel, .hourly_cost = plan::tunnel_cost};
        join(way, routes, [&](const std::string& one, const std::string& other) {
            return plan::add_tunnel(lab_.plan, one, other);
        });
        if (way.impossible.empty())
            keep_outer_path(way);
        return way;
    }

    // Routes over the tunnel may cover its own ends: those keep the way that they have now. The
    // tunnel takes no less time than the distance of the two sites.
    void keep_outer_path(Way& way) const {
        Way before{.kind = WayKind::tunnel, .common = way.common};
        for (int side : {0, 1})
            for (const plan::Edit& edit : way.at[side])
                if (!is_route_over(edit))
                    before.at[side].push_back(edit);
        Lab lab = lab::build(changed(before));
        routing::Settled settled = routing::settle(lab);
        const lab::Link& link = lab.links[added_link(lab, way)];
        for (int side : {0, 1}) {
            NicId nic = side == 0 ? link.first : link.second;
            if (auto d = probe::explain_tunnel(settled, nic)) {
                way.impossible = fmt::format("nothing would carry its packets: {}", d->explanation);
                return;
            }
            MachineId end = lab.nics[nic].machine;
            net::Address other = (*link.outer)[static_cast<std::size_t>(1 - side)];
            for (MachineId machine : {end, lab.sites[sites_[side]].core})
                if (auto route = machine ? settled.route(machine, other) : std::nullopt;
                    route && route->has_next_hop())
                    way.at[side].emplace_back(plan::add_route(
                        lab.plan, lab.machines[machine].name,
                        net::Prefix(other, net::address_bits(other.family())), route->via));
        }
        const std::chrono::microseconds rest =
            *plan::distance(plan_, site(0), site(1)).delay - outer_delay(settled, link);
        way.added_delay = std::max(rest, std::chrono::microseconds(0));
    }

    // Of the links that the packets of a tunnel cross, one way.
    static std::chrono::microseconds outer_delay(const routing::Settled& settled,
                                                 const lab::Link& tunnel) {
        const Lab& lab = settled.lab();
        std::chrono::microseconds sum{0};
        probe::Exchange exchange =
            probe::exchange(settled, {.from = end_at(lab, lab.nics[tunnel.first].machine),
                                      .to = end_at(lab, tunnel.second),
                                      .count = 1});
        if (exchange.out)
            probe::each_link(lab, *exchange.out, [&](const lab::Link& link) { sum += link.delay; });
        return sum;
    }

    // To the other site; what a new router needs for itself is a default route.
    static bool is_route_over(const plan::Edit& edit) {
        return edit.move == plan::Move::add_route
               && !edit.changes.front().value.starts_with("{to: default");
    }

    Way line(Routes routes) const {
        plan::Distance distance = plan::distance(plan_, site(0), site(1));
        Way way{.kind = WayKind::line, .hourly_cost = *distance.line_cost};
        join(way, routes, [&](const std::string& one, const std::string& other) {
            return plan::add_link(lab_.plan, one, other, *distance.delay);
        });
        return way;
    }

    // Something between two routers, and the routes to the other site by way of it.
    template <class Make>
    void join(Way& way, Routes routes, Make make) const {
        std::string ends[2];
        for (int side : {0, 1}) {
            ends[side] = end_of(side, way);
            if (ends[side].empty()) {
                way.impossible =
                    fmt::format("{} has no subnet for a router to stand on", name(side));
                return;
            }
        }
        if (ends[0] == ends[1]) {
            way.impossible = fmt::format("{} stands on both", ends[0]);
            return;
        }
        way.common = {make(ends[0], ends[1])};
        Lab lab = lab::build(changed(way));
        const lab::Link& link = lab.links[added_link(lab, way)];
        for (int side : {0, 1}) {
            NicId own = side == 0 ? link.first : link.second;
            NicId theirs = side == 0 ? link.second : link.first;
            bool is_first = first_shared(lab, own, lab.nics[theirs].machine) == own;
            MachineId core = lab.sites[sites_[side]].core;
            add_default(lab, ends[side], side, way);
            for (const std::string& to : targets(1 - side, routes)) {
                way.at[side].emplace_back(plan::add_route(lab.plan, ends[side], to, ends[1 - side],
                                                          is_first ? "" : lab.nics[own].name));
                if (core)
                    way.at[side].emplace_back(
                        plan::add_route(lab.plan, lab.machines[core].name, to, ends[side]));
            }
        }
    }

    std::vector<std::string> targets(int side, Routes routes) const {
        if (routes == Routes::to_site)
            return {name(side)};
        std::vector<std::string> names;
        for (const lab::Subnet& subnet : lab_.subnets)
            if (subnet.site == sites_[side] && !subnet.outside)
                names.push_back(subnet.name);
        return names;
    }

    // The NIC by which the machine of `own` reaches the other one if nothing says which.
    static NicId first_shared(const Lab& lab, NicId own, MachineId other) {
        for (NicId nic : lab.nics_of(lab.nics[own].machine))
            for (NicId theirs : lab.nics_of(other))
                if (lab.nics[nic].segment == lab.nics[theirs].segment)
                    return nic;
        return own;
    }

    // The link that a way adds, or that a peering of it stands for; none for what is as it is.
    lab::LinkId added_link(const Lab& lab, const Way& way) const {
        if (way.kind == WayKind::peering) {
            const lab::Peering* peering = lab::peering_between(lab, sites_[0], sites_[1]);
            return peering == nullptr ? lab::LinkId{} : peering->link;
        }
        if (way.kind == WayKind::as_it_is)
            return {};
        // Written links come before those that are made.
        return lab::LinkId{static_cast<std::uint32_t>(added_position(way))};
    }

    // Behind the last one of its sort.
    std::size_t added_position(const Way& way) const {
        const bool is_tunnel = way.kind == WayKind::tunnel;
        for (std::size_t i = plan_.links.size(); i > 0; --i)
            if (bool(plan_.links[i - 1].tunnel) == is_tunnel)
                return i;
        return plan_.links.size();
    }

    // --- what it brings --------------------------------------------------------------------

    plan::Plan changed(const Way& way) const {
        std::vector<plan::Edit> edits;
        auto take = [&](const std::vector<plan::Edit>& some, bool routers) {
            for (const plan::Edit& edit : some)
                if ((edit.move == plan::Move::add_router) == routers)
                    edits.push_back(edit);
        };
        for (bool routers : {true, false}) // first those that others refer to
            for (const auto* some : {&way.common, &way.at[0], &way.at[1]})
                take(*some, routers);
        plan::Plan plan = plan::apply(plan_, edits).plan.value();
        if (way.kind == WayKind::tunnel && !way.common.empty())
            plan.links[added_position(way)].delay = way.added_delay;
        return plan;
    }

    void measure(Way& way) const {
        if (!way.impossible.empty())
            return;
        Lab lab = lab::build(changed(way));
        routing::Settled settled = routing::settle(lab);
        probe::Microseconds total{0};
        for (int side : {0, 1}) {
            SitePair row = between(settled, sites_[side], sites_[1 - side]);
            way.pairs += row.pairs;
            way.replies += row.replies;
            total += row.round_trip * static_cast<double>(row.replies);
            if (row.first_gap && way.gap.empty())
                way.gap =
                    fmt::format("between {}: {}", row.gap_between, row.first_gap->explanation);
        }
        if (way.replies == 0)
            return;
        way.round_trip = total / static_cast<double>(way.replies);
        way.mtu_bytes = narrowest(settled, added_link(lab, way));
    }

    // The MTU of the way between the first subnets of the two sites that reach each other over
    // `link`, or over anything if there is none; 0 if no two do.
    unsigned narrowest(const routing::Settled& settled, lab::LinkId link) const {
        const Lab& lab = settled.lab();
        std::size_t asked = 0;
        for (const lab::Subnet& from : lab.subnets)
            for (const lab::Subnet& to : lab.subnets) {
                if (from.site != sites_[0] || to.site != sites_[1])
                    continue;
                auto asker = speaker(settled, from);
                auto target = speaker(settled, to);
                if (!asker || !target || asked++ == most_pairs_of_subnets)
                    continue;
                probe::Exchange exchange =
                    probe::exchange(settled, {.from = end_at(lab, lab.nics[*asker].machine),
                                              .to = end_at(lab, *target)});
                if (!exchange.replied())
                    continue;
                unsigned least = 65535;
                bool is_meant = !link;
                for (const packet::Step& step : exchange.out->steps)
                    if (step.out) {
                        least = std::min<unsigned>(least, lab.nics[step.out].mtu_bytes);
                        is_meant |= lab.segments[lab.nics[step.out].segment].link == link;
                    }
                if (is_meant)
                    return least;
            }
        return 0;
    }

    const plan::Plan& plan_;
    const Lab& lab_;
    SiteId sites_[2];
};

} // namespace

std::string_view to_string(WayKind kind) {
    switch (kind) {
    case WayKind::peering: return "peering";
    case WayKind::tunnel: return "tunnel";
    case WayKind::line: return "line";
    case WayKind::as_it_is: break;
    }
    return "as it is";
}

std::vector<Way> ways(const plan::Plan& plan, const Lab& lab, SiteId one, SiteId other) {
    return Comparer(plan, lab, one, other).run();
}

} // namespace jackal::reach
