#include "jackal/routing/provenance.h"

#include "routing/bgp/bgp.h"
#include "routing/neighbour.h"

#include <algorithm>

namespace jackal::routing {

using lab::MachineId;

std::string_view to_string(Stop why) {
    switch (why) {
    case Stop::not_neighbours: return "not neighbours";
    case Stop::not_brought_in: return "not brought in";
    case Stop::is_refused: return "refused by a policy";
    case Stop::inside_as: return "not passed on inside the AS";
    case Stop::told_by_it: return "told by the same";
    case Stop::loop: return "it is in the path already";
    case Stop::next_hop: return "no way to the next hop";
    case Stop::too_far: return "16 hops";
    case Stop::area: break;
    }
    return "not told in the area";
}

namespace {

class Tracer {
  public:
    Tracer(const Settled& settled, net::Address destination)
        : settled_(settled), lab_(settled.lab()), destination_(destination) {}

    Provenance run(MachineId machine) {
        Provenance found;
        if (auto route = settled_.route(machine, destination_)) {
            found.to = route->to;
            follow(machine, found);
        }
        if ((!found.to || found.to->length() == 0) && lab_.speaker(machine) != nullptr)
            find_stops(found);
        return found;
    }

  private:
    // From one machine to who told it, until one has the prefix by itself, or has no route to it:
    // it announces a range, or a default route.
    void follow(MachineId machine, Provenance& found) const {
        std::vector<bool> seen(lab_.machines.size());
        while (machine && !seen[machine.row]) {
            seen[machine.row] = true;
            const std::vector<Route> routes = settled_.routes(machine);
            auto own = std::ranges::find(routes, *found.to, &Route::to);
            if (own == routes.end())
                return;
            Passage passage{.machine = machine, .route = *own, .offer = {}, .others = {}};
            for (const Offer& offer : settled_.learned(machine).offers(machine)) {
                if (offer.to != *found.to)
                    continue;
                if (!passage.offer && offer.kind == own->kind && offer.lost_by == Decision::best)
                    passage.offer = offer;
                else
                    passage.others.push_back(offer);
            }
            machine = passage.offer ? passage.offer->from : MachineId{};
            found.passages.push_back(std::move(passage));
        }
    }

    std::optional<Route> known(MachineId machine) const {
        if (is_own(machine))
            return own(machine);
        auto route = settled_.route(machine, destination_);
        return route && route->to.length() != 0 ? route : std::nullopt;
    }
    bool is_own(MachineId machine) const { return has_address(lab_, machine, destination_); }
    // The prefix that a machine with the address is on.
    std::optional<Route> own(MachineId machine) const {
        for (const Route& route : settled_.routes(machine))
            if (route.kind == RouteKind::connected && route.to.contains(destination_))
                return route;
        return std::nullopt;
    }

    // Where two could exchange routes of which one knows the destination and the other does not.
    void find_stops(Provenance& found) const {
        const std::vector<Neighbour> all = settled_.lessons()->neighbours();
        for (const Neighbour& n : all) {
            if (n.family != destination_.family() || !n.other)
                continue;
            auto route = known(n.other);
            if (route && !known(n.machine))
                found.stopped.push_back({.knows = n.other,
                                         .lacks = n.machine,
                                         .neighbour = n,
                                         .why = why(n, *route, all),
                                         .to = route->to});
        }
    }

    // True if the machine is told to bring routes of that source, or that prefix, into it.
    bool brings_in(const SpokenProtocol& protocol, MachineId machine, const Route& route) const {
        const auto exports = protocol.exports(*lab_.speaker(machine));
        return exports
               && (std::ranges::any_of(exports->redistribute,
                                       [&](const lab::Redistribution& one) {
                                           return is_from(route.kind, one.from);
                                       })
                   || std::ranges::find(exports->networks, route.to) != exports->networks.end());
    }

    Stop why(const Neighbour& n, const Route& route, const std::vector<Neighbour>& all) const {
        if (n.state != NeighbourState::full && n.state != NeighbourState::two_way)
            return Stop::not_neighbours;
        const SpokenProtocol& protocol = spoken(n.protocol);
        const bool is_of_it = is_from(route.kind, protocol.source());
        if (n.protocol == Protocol::ospf) {
            const lab::OspfNic* told = route.kind == RouteKind::connected
                                           ? lab_.speaker(n.other)->ospf->on(route.out)
                                           : nullptr;
            if (is_of_it || told != nullptr)
                return Stop::area;
            return brings_in(protocol, n.other, route) ? Stop::area : Stop::not_brought_in;
        }
        // As the one who knows sees the other.
        auto back = std::ranges::find_if(all, [&](const Neighbour& other) {
            return other.protocol == n.protocol && other.family == n.family
                   && other.machine == n.other && other.other == n.machine
                   && other.other_nic == n.nic && other.nic == n.other_nic;
        });
        const std::vector<Offer> said =
            back == all.end() ? std::vector<Offer>{} : settled_.lessons()->announced(*back);
        auto offer = std::ranges::find(said, route.to, &Offer::to);
        if (offer == said.end())
            return why_unsaid(protocol, n, route, is_of_it);
        if (n.protocol == Protocol::rip)
            return Stop::too_far;
        for (const Offer& heard : settled_.learned(n.machine).offers(n.machine))
            if (heard.to == route.to && heard.from == n.other
                && heard.lost_by == Decision::unreachable)
                return Stop::next_hop;
        return is_loop(offer->path, *lab_.speaker(n.machine)) ? Stop::loop : Stop::is_refused;
    }

    Stop why_unsaid(const SpokenProtocol& protocol, const Neighbour& n, const Route& route,
                    bool is_of_it) const {
        if (!is_of_it)
            return brings_in(protocol, n.other, route) ? Stop::is_refused : Stop::not_brought_in;
        if (n.protocol == Protocol::rip)
            return Stop::told_by_it;
        if (has_address(lab_, n.machine, route.via))
            return Stop::told_by_it;
        const bool is_inner = lab_.speaker(n.machine)->bgp->as == lab_.speaker(n.other)->bgp->as;
        return route.kind == RouteKind::bgp_inner && is_inner && !reflects(n, route)
                   ? Stop::inside_as
                   : Stop::is_refused;
    }

    // True if the other passes what it heard in the AS on to the machine (RFC 4456 section 6).
    bool reflects(const Neighbour& n, const Route& route) const {
        auto is_client = [&](MachineId machine) {
            return std::ranges::any_of(lab_.speaker(n.other)->bgp->neighbours,
                                       [&](const lab::BgpNeighbour& known) {
                                           return known.client && known.machine == machine;
                                       });
        };
        return is_client(n.machine)
               || std::ranges::any_of(
                   settled_.learned(n.other).offers(n.other), [&](const Offer& offer) {
                       return offer.to == route.to && offer.kind == RouteKind::bgp_inner
                              && offer.lost_by == Decision::best && is_client(offer.from);
                   });
    }

    const Settled& settled_;
    const lab::Lab& lab_;
    net::Address destination_;
};

} // namespace

Provenance provenance(const Settled& settled, MachineId machine, net::Address destination) {
    return Tracer(settled, destination).run(machine);
}

} // namespace jackal::routing
