#include "routing/ospf/ospf.h"

#include "routing/neighbour.h"

#include <algorithm>
#include <numeric>

namespace jackal::routing {

using lab::MachineId;
using lab::NicId;

void OspfTables::form(const Condition& condition, const lab::Wiring& wiring) {
    graph_ = std::make_shared<Graph>(condition);
    add_interfaces(condition, wiring);
    add_nodes();
    add_pairs(condition);
    order_sights();
    part_crowds();
    add_unheard(condition, wiring);
    join();
    lay_out();
    judge_virtual_links(condition);
    if (!graph_->virtual_links.empty())
        add_virtual_links();
    joints_.clear();
    add_intra();
    add_inter();
    sort_adverts();
}

// Edges, who has the same database, and ways.
void OspfTables::lay_out() {
    lay_edges();
    number_components();
    drop_repeated_ids();
    find_rows();
}

std::uint32_t OspfTables::node_in(MachineId machine, std::uint32_t component) const {
    for (std::uint32_t node : graph_->nodes_of[machine.row])
        if (graph_->nodes[node].component == component)
            return node;
    return nowhere;
}

// RFC 2328 section 3.3. One without the backbone tells its areas of each other, and does not
// believe what border routers say in them.
bool OspfTables::is_border(MachineId machine) const {
    return graph_->nodes_of[machine.row].size() > 1;
}

// --- lessons ---------------------------------------------------------------------------------

// The edge by which the router is on the network itself, or null.
const OspfTables::Edge* OspfTables::edge_onto(std::uint32_t router, std::uint32_t network) const {
    if (graph_->nodes[network].machine)
        return nullptr;
    for (std::uint32_t e = graph_->nodes[router].first_edge;
         e < graph_->nodes[router + 1].first_edge; ++e)
        if (graph_->edges[e].to == network)
            return &graph_->edges[e];
    return nullptr;
}

// True if the prefix is of the NIC by which the router is on a network: for IPv6 others there may
// have announced another one, which is then on the link (RFC 5340 section 4.8.1).
bool OspfTables::has_prefix(std::uint32_t router, const Edge& onto, std::uint32_t prefix) const {
    return family_ == net::Family::ipv4
           || std::ranges::any_of(
               lab_->addresses_of(graph_->gates[graph_->nodes[router].first_gate + onto.gate].out),
               [&](lab::AddressId id) {
                   return lab_->addresses[id].prefix() == (*numbers_)[prefix];
               });
}

// True if the prefix is a range of the border router's own that is active: it reaches some of it in
// its area. What others say of such a range counts for nothing (RFC 2328 section 16.2 (3)).
bool OspfTables::summarises(MachineId machine, std::uint32_t prefix) const {
    const net::Prefix& told = (*numbers_)[prefix];
    return std::ranges::any_of(
        lab_->speaker(machine)->ospf->ranges, [&](const lab::OspfRange& range) {
            const std::uint32_t own =
                range.prefix == told ? node_of_area(machine, range.area) : nowhere;
            return own != nowhere && std::ranges::any_of(graph_->intra, [&](const Advert& advert) {
                       return graph_->nodes[advert.node].component == graph_->nodes[own].component
                              && !is_dead(advert.nic)
                              && range.prefix.contains((*numbers_)[advert.prefix])
                              && cost_between(own, advert.node) != nowhere;
                   });
        });
}

// The best of what is announced to one machine for one prefix.
class OspfTables::Choice {
  public:
    Choice(const OspfTables& tables, MachineId machine, std::uint32_t prefix, Lesson& lesson)
        : tables_(tables), graph_(*tables.graph_), machine_(machine), prefix_(prefix),
          lesson_(lesson) {
        lesson = {.kind = RouteKind::ospf};
    }

    const Advert* found() const { return found_; }

    void consider(const Advert& advert) {
        std::uint32_t node = tables_.node_in(machine_, graph_.nodes[advert.node].component);
        if (node == nowhere || tables_.is_dead(advert.nic))
            return;
        const bool is_border = tables_.is_border(machine_);
        if (advert.type == PathType::inter_area
            && (node == advert.node
                || (is_border
                    && (graph_.nodes[node].area != 0 || tables_.summarises(machine_, prefix_)))))
            return;
        const bool is_external = advert.type > PathType::inter_area;
        const bool told_by_border =
            is_external && graph_.nodes[advert.node].machine != advert.origin;
        if (told_by_border
            && ((is_border && graph_.nodes[node].area != 0) || is_inside(advert.origin)))
            return;
        std::uint32_t way = tables_.cost_between(node, advert.node);
        if (way == nowhere)
            return;
        if (advert.node == node && advert.origin == machine_ && advert.type != PathType::intra_area)
            return;
        // The default route that border routers announce into an NSSA is not for them.
        if (is_external && is_border && (*tables_.numbers_)[prefix_].length() == 0
            && OspfTables::kind_of(graph_.nodes[advert.node]) == lab::AreaKind::nssa
            && tables_.is_border(advert.origin))
            return;
        if (advert.forward != nowhere) {
            if (auto onward = tables_.way_to_forward(machine_, advert.forward))
                take_onward(advert, *onward);
            return;
        }
        const bool prefers = is_external && !told_by_border && graph_.nodes[node].area != 0;
        if (take(advert, way + advert.cost, prefers))
            add_gates(advert, node);
    }

    // Border routers of a transit area take a way through it that is as short as theirs by the
    // backbone, which virtual links are in (RFC 2328 section 16.3).
    void improve(const Advert& advert) {
        const std::uint32_t component = graph_.nodes[advert.node].component;
        if (found_ == nullptr || !tables_.is_transit(component) || lesson_.gate_count == 0
            || graph_.nodes[found_->node].area != 0 || advert.forward != nowhere)
            return;
        const std::uint32_t node = tables_.node_in(machine_, component);
        const bool is_external = advert.type > PathType::inter_area;
        const bool told_by_border = graph_.nodes[advert.node].machine == advert.origin
                                        ? !is_external
                                        : is_external && !is_inside(advert.origin);
        if (node == nowhere || node == advert.node || !told_by_border)
            return;
        const std::uint32_t way = tables_.cost_between(node, advert.node);
        const bool is_outer = advert.type == PathType::external_2;
        if (way == nowhere
            || (is_external
                && (advert.type != lesson_.type || (is_outer && advert.metric != lesson_.metric))))
            return;
        std::uint32_t& known = is_outer ? lesson_.inner_cost : lesson_.metric;
        if (way + advert.cost > known)
            return;
        if (way + advert.cost < known)
            lesson_.gate_count = 0;
        known = lesson_.inner_cost = way + advert.cost;
        add_gates(advert, node);
    }

  private:
    // What a border router says of a way to the router that an external route comes from counts
    // for nothing where there is a way to that inside an area, but for stubs, where it announces
    // nothing; and border routers believe what the backbone says alone (RFC 2328 section 16.2).
    bool is_inside(MachineId origin) const {
        return std::ranges::any_of(graph_.nodes_of[origin.row], [&](std::uint32_t of) {
            std::uint32_t node = tables_.node_in(machine_, graph_.nodes[of].component);
            return node != nowhere && tables_.cost_between(node, of) != nowhere
                   && OspfTables::kind_of(graph_.nodes[of]) != lab::AreaKind::stub;
        });
    }

    // True if it is as good as the best so far, or takes its place. Of ways to who announces an
    // external route those inside an area other than the backbone go first, as with
    // RFC1583Compatibility disabled (RFC 2328 section 16.4.1). Ways inside two areas are not mixed:
    // daemons take the area of the higher number.
    bool take(const Advert& advert, std::uint32_t cost, bool prefers) {
        const bool is_outer = advert.type == PathType::external_2;
        auto rank = [](PathType type, std::uint32_t metric, bool preferred, std::uint32_t inner) {
            return std::tuple(type, metric, !preferred, inner);
        };
        auto is_of_higher_area = [&](const Advert& one, const Advert& other) {
            return one.type == PathType::intra_area
                   && graph_.nodes[one.node].area > graph_.nodes[other.node].area;
        };
        auto own = rank(advert.type, advert.metric, prefers, cost);
        auto known = rank(
            lesson_.type, lesson_.type == PathType::external_2 ? lesson_.metric : 0, is_preferred_,
            lesson_.type == PathType::external_2 ? lesson_.inner_cost : lesson_.metric);
        if (found_ != nullptr
            && (own > known || (own == known && is_of_higher_area(*found_, advert))))
            return false;
        if (found_ == nullptr || own < known || is_of_higher_area(advert, *found_)) {
            found_ = &advert;
            is_preferred_ = prefers;
            lesson_ = {.kind = RouteKind::ospf,
                       .type = advert.type,
                       .metric = is_outer ? advert.metric : cost,
                       .inner_cost = cost};
        }
        return true;
    }

    void add_gates(const Advert& advert, std::uint32_t node) {
        const Node& here = graph_.nodes[node];
        if (const Edge* edge = tables_.edge_onto(node, advert.node); // its own network
            edge != nullptr && edge->cost == tables_.cost_between(node, advert.node)) {
            if (!tables_.has_prefix(node, *edge, prefix_))
                lesson_.add_gate(here.first_gate + edge->gate + tables_.members_of(advert.node));
            return;
        }
        const Row& ways = tables_.row(node);
        std::uint16_t set = ways.set[graph_.nodes[advert.node].local];
        if (set == no_set)
            return; // its own
        if (set < here.gate_count)
            return add_gate(here.first_gate + set);
        for (std::uint16_t gate : ways.merged[set - here.gate_count])
            add_gate(here.first_gate + gate);
    }

    // A virtual link has the next hops of the area that it goes through.
    void add_gate(std::uint32_t gate) {
        if (!graph_.transits.empty())
            for (std::size_t i = 0; i < lesson_.gate_count; ++i)
                if (graph_.gates[lesson_.gates.at(i)] == graph_.gates[gate])
                    return;
        lesson_.add_gate(gate);
    }

    // By its forwarding address (RFC 2328 section 16.4 (3)), straight to it from its own network:
    // by all NICs there that cost what the way to it costs. Who has it as an address of full
    // length, or no address of that network, has no such NIC, and no way.
    void take_onward(const Advert& advert, const Onward& onward) {
        const bool prefers = onward.lesson.type == PathType::intra_area && onward.area != 0;
        auto is_straight = [&](const StraightGate& straight) {
            return straight.machine == machine_ && straight.cost == onward.lesson.metric;
        };
        const auto& straights = tables_.straight_[advert.forward];
        const bool goes_on =
            onward.lesson.gate_count != 0 && !tables_.gates_[onward.lesson.gates.at(0)].is_direct();
        if (!goes_on
            && (std::ranges::none_of(straights, is_straight)
                || has_address(*tables_.lab_, machine_, tables_.forwards_[advert.forward])))
            return; // the last would send to itself
        if (!take(advert, onward.lesson.metric + advert.cost, prefers))
            return;
        for (std::size_t i = 0; goes_on && i < onward.lesson.gate_count; ++i)
            lesson_.add_gate(onward.lesson.gates.at(i));
        for (const StraightGate& straight : straights)
            if (!goes_on && is_straight(straight))
                lesson_.add_gate(straight.gate);
    }

    const OspfTables& tables_;
    const Graph& graph_;
    MachineId machine_;
    std::uint32_t prefix_;
    Lesson& lesson_;
    const Advert* found_ = nullptr;
    bool is_preferred_ = false;
};

const OspfTables::Advert* OspfTables::best_inside(MachineId machine, std::uint32_t prefix,
                                                  Lesson& lesson) const {
    Choice choice(*this, machine, prefix, lesson);
    if (graph_->nodes_of[machine.row].empty())
        return nullptr;
    for (std::uint32_t i = first_intra_[prefix]; i < first_intra_[prefix + 1]; ++i)
        choice.consider(graph_->intra[i]);
    if (choice.found() == nullptr)
        for (std::uint32_t i = first_other_[prefix]; i < first_other_[prefix + 1]; ++i)
            if (other_[i].type == PathType::inter_area)
                choice.consider(other_[i]);
    if (!graph_->transits.empty())
        for (std::uint32_t i = first_other_[prefix]; i < first_other_[prefix + 1]; ++i)
            if (other_[i].type == PathType::inter_area)
                choice.improve(other_[i]);
    return choice.found();
}

const OspfTables::Advert* OspfTables::best(MachineId machine, std::uint32_t prefix,
                                           Lesson& lesson) const {
    const Advert* inside = best_inside(machine, prefix, lesson);
    if (inside != nullptr || graph_->nodes_of[machine.row].empty())
        return inside;
    Choice choice(*this, machine, prefix, lesson);
    for (std::uint32_t i = first_other_[prefix]; i < first_other_[prefix + 1]; ++i)
        if (other_[i].type > PathType::inter_area)
            choice.consider(other_[i]);
    if (!graph_->transits.empty())
        for (std::uint32_t i = first_other_[prefix]; i < first_other_[prefix + 1]; ++i)
            if (other_[i].type > PathType::inter_area)
                choice.improve(other_[i]);
    return choice.found();
}

template <class Use>
void OspfTables::each_advert(std::uint32_t prefix, Use use) const {
    for (std::uint32_t i = first_intra_[prefix]; i < first_intra_[prefix + 1]; ++i)
        use(graph_->intra[i]);
    for (std::uint32_t i = first_other_[prefix]; i < first_other_[prefix + 1]; ++i)
        use(other_[i]);
}

template <class Use>
void OspfTables::each_prefix_around(net::Address address, Use use) const {
    for (std::uint32_t p = numbers_->lookup(address); p != PrefixNumbers::none;
         p = numbers_->around(p))
        if (!use(p))
            return;
}

// The longest prefix that holds it must be of a way inside OSPF (RFC 2328 section 16.4 (3)).
std::optional<OspfTables::Onward> OspfTables::way_to_forward(MachineId machine,
                                                             std::uint32_t forward) const {
    std::optional<Onward> found;
    each_prefix_around(forwards_[forward], [&](std::uint32_t prefix) {
        Lesson lesson;
        if (const Advert* advert = best_inside(machine, prefix, lesson))
            found = {lesson, graph_->nodes[advert->node].area};
        return !found;
    });
    return found;
}

std::optional<Lesson> OspfTables::lesson(MachineId machine, std::uint32_t prefix) const {
    Lesson lesson;
    if (best(machine, prefix, lesson) == nullptr || lesson.gate_count == 0)
        return std::nullopt;
    return lesson;
}

// Who announces it, and how.
void OspfTables::add_traits(std::uint32_t prefix, std::vector<std::uint64_t>& into) const {
    each_advert(prefix, [&](const Advert& advert) {
        if (is_dead(advert.nic))
            return;
        into.insert(into.end(), {static_cast<std::uint64_t>(advert.type), advert.node, advert.cost,
                                 advert.metric, advert.origin.row, advert.forward});
    });
}

// To which nodes of its component a router has another way than before.
std::vector<OspfTables::MovedNode> OspfTables::moved_nodes(std::uint32_t source,
                                                           const OspfTables& before) const {
    const Row& now = row(source);
    const Row& old = before.row(source);
    const std::size_t singles = graph_->nodes[source].gate_count;
    const bool same_merged = now.merged == old.merged;
    auto is_same_set = [&](std::uint16_t one, std::uint16_t other) {
        return one == other
               && (same_merged || one == no_set || one < singles
                   || now.merged[one - singles] == old.merged[one - singles]);
    };
    std::vector<MovedNode> moved;
    const auto& members = graph_->members[graph_->nodes[source].component];
    auto compare = [&](std::size_t i) {
        bool has_other_gates = !is_same_set(now.set[i], old.set[i])
                               || (now.cost[i] == nowhere) != (old.cost[i] == nowhere);
        if (has_other_gates || now.cost[i] != old.cost[i])
            moved.push_back({members[i], has_other_gates});
    };
    constexpr std::size_t stretch = 32; // most of them are equal as a whole
    for (std::size_t first = 0; first < members.size(); first += stretch) {
        const std::size_t last = std::min(first + stretch, members.size());
        std::uint32_t differs = same_merged ? 0 : 1;
        for (std::size_t i = first; i < last; ++i)
            differs |=
                (now.cost[i] ^ old.cost[i]) | static_cast<std::uint32_t>(now.set[i] ^ old.set[i]);
        for (std::size_t i = first; i < last && differs != 0; ++i)
            compare(i);
    }
    return moved;
}

std::uint32_t OspfTables::count_adverts(std::uint32_t prefix) const {
    return first_intra_[prefix + 1] - first_intra_[prefix] + first_other_[prefix + 1]
           - first_other_[prefix];
}

// Marks the prefixes that are not announced as before.
void OspfTables::mark_changed(const OspfTables& before, std::vector<bool>& prefixes) const {
    if (dead_nics_ != before.dead_nics_)
        for (const Advert& advert : graph_->intra)
            if (is_dead(advert.nic) != before.is_dead(advert.nic))
                prefixes[advert.prefix] = true;
    for (std::uint32_t p = 0; p < numbers_->size(); ++p) {
        auto of = [p](const OspfTables& tables) {
            return std::span(tables.other_)
                .subspan(tables.first_other_[p],
                         tables.first_other_[p + 1] - tables.first_other_[p]);
        };
        if (!std::ranges::equal(of(*this), of(before)))
            prefixes[p] = true;
    }
}

bool OspfTables::add_changes(const ProtocolTables& before, std::vector<LessonChange>& into) const {
    const auto& known = static_cast<const OspfTables&>(before);
    if (known.graph_ != graph_ || known.forwards_ != forwards_)
        return false;
    struct Mover {
        std::uint32_t to = 0; // node
        MachineId machine;
        bool has_other_gates = false;
    };
    std::vector<Mover> found; // who has another way
    for (std::uint32_t n = 0; n < rows_.size(); ++n)
        if (rows_[n] != known.rows_[n])
            for (const MovedNode& to : moved_nodes(n, known))
                found.push_back({to.node, graph_->nodes[n].machine, to.has_other_gates});
    std::vector<std::uint32_t> first(graph_->nodes.size() + 2); // of the movers, by node
    for (const Mover& mover : found)
        ++first[mover.to + 2];
    std::partial_sum(first.begin(), first.end(), first.begin());
    std::vector<Mover> movers(found.size());
    for (const Mover& mover : found)
        movers[first[mover.to + 1]++] = mover;
    std::vector<bool> changed(numbers_->size());
    mark_changed(known, changed);
    for (const Advert& advert : external_)
        if (advert.forward != nowhere)
            each_prefix_around(forwards_[advert.forward], [&](std::uint32_t prefix) {
                changed[advert.prefix] = changed[advert.prefix] || changed[prefix];
                return true;
            });
    for (std::uint32_t p = 0; p < changed.size(); ++p)
        for (std::uint32_t m = 0; m < graph_->nodes_of.size() && changed[p]; ++m)
            if (!graph_->nodes_of[m].empty())
                into.push_back({MachineId{m}, p});
    // What a way costs counts only beside other ways.
    auto add = [&](const Advert& advert, std::uint32_t node, bool is_only) {
        for (std::uint32_t i = first[node]; i < first[node + 1]; ++i)
            if (movers[i].has_other_gates || !is_only)
                into.push_back({movers[i].machine, advert.prefix, !changed[advert.prefix]});
    };
    for (std::span<const Advert> adverts :
         {std::span<const Advert>(graph_->intra), std::span<const Advert>(other_)})
        for (const Advert& advert : adverts) {
            bool is_only = count_adverts(advert.prefix) == 1;
            add(advert, advert.node, is_only);
            if (advert.type != PathType::intra_area && advert.type != PathType::inter_area)
                for (std::uint32_t origin : graph_->nodes_of[advert.origin.row])
                    if (origin != advert.node)
                        add(advert, origin, is_only);
            if (advert.forward != nowhere)
                each_prefix_around(forwards_[advert.forward], [&](std::uint32_t prefix) {
                    each_advert(prefix, [&](const Advert& there) {
                        if (there.type <= PathType::inter_area)
                            add(advert, there.node, false);
                    });
                    return true;
                });
        }
    return true;
}

std::vector<Offer> OspfTables::offers(MachineId machine, std::uint32_t prefix) const {
    auto found = lesson(machine, prefix);
    if (!found)
        return {};
    Offer offer = offer_of(*found, (*numbers_)[prefix]);
    Source announced = source(machine, prefix);
    offer.from = announced.origin;
    offer.area = announced.area;
    return {std::move(offer)};
}

OspfTables::Source OspfTables::source(MachineId machine, std::uint32_t prefix) const {
    Lesson lesson;
    const Advert* advert = best(machine, prefix, lesson);
    if (advert == nullptr)
        return {};
    return {advert->origin, graph_->nodes[advert->node].area};
}

// --- tables for people -----------------------------------------------------------------------

Neighbour OspfTables::seen(const Sight& sight) const {
    const auto& [number, back] = sight;
    const Pair& pair = graph_->pairs[number];
    const Interface& one = graph_->interfaces[back ? pair.b : pair.a];
    const Interface& other = graph_->interfaces[back ? pair.a : pair.b];
    return {.protocol = Protocol::ospf,
            .family = family_,
            .state = back ? pair.state_b : pair.state_a,
            .discord = pair.discord,
            .designated = back ? pair.a_designated : pair.b_designated,
            .machine = one.speaker->machine,
            .other = other.speaker->machine,
            .nic = one.told->nic,
            .other_nic = other.told->nic,
            .filter = pair.filter};
}

void OspfTables::add_neighbours(std::vector<Neighbour>& into) const {
    for (const Sight& sight : graph_->sights)
        if (const Neighbour n = seen(sight); !is_dead(n.nic) && !is_dead(n.other_nic))
            into.push_back(n);
    for (const VirtualLink& link : graph_->virtual_links)
        into.push_back({.protocol = Protocol::ospf,
                        .family = family_,
                        .state = link.state,
                        .discord = link.discord,
                        .machine = link.speaker->machine,
                        .other = link.told->to,
                        .nic = link.nic,
                        .other_nic = link.other_nic,
                        .filter = {},
                        .transit = link.told->area});
    for (const Unheard& unheard : graph_->unheard)
        into.push_back({.protocol = Protocol::ospf,
                        .family = family_,
                        .state = NeighbourState::down,
                        .discord = Discord::not_spoken,
                        .machine = lab_->nics[unheard.nic].machine,
                        .other = lab_->nics[unheard.other].machine,
                        .nic = unheard.nic,
                        .other_nic = unheard.other,
                        .filter = {}});
}

bool OspfTables::add_lost_neighbours(const ProtocolTables& before,
                                     std::vector<Neighbour>& into) const {
    const auto& known = static_cast<const OspfTables&>(before);
    if (known.graph_ != graph_ || !std::ranges::includes(dead_nics_, known.dead_nics_))
        return false;
    for (lab::NicId nic : dead_nics_) {
        const auto sights = std::ranges::equal_range(
            graph_->sights, std::pair(lab_->nics[nic].machine, nic), {}, [&](const Sight& sight) {
                const Neighbour n = seen(sight);
                return std::pair(n.machine, n.nic);
            });
        for (const Sight& sight : sights) {
            const Neighbour n = seen(sight);
            if (known.is_dead(n.nic) || known.is_dead(n.other_nic))
                continue;
            into.push_back(n);
            if (!is_dead(n.other_nic)) // else its own turn comes
                into.push_back(seen({sight.pair, !sight.back}));
        }
    }
    return true;
}

void OspfTables::add_link_states(MachineId machine, std::vector<LinkState>& into) const {
    for (std::uint32_t own : graph_->nodes_of[machine.row]) {
        const Node& here = graph_->nodes[own];
        auto add = [&](LinkState state) {
            state.family = family_;
            state.area = here.area;
            into.push_back(state);
        };
        for (std::uint32_t n : graph_->members[here.component]) {
            if (cost_between(own, n) == nowhere)
                continue;
            for (std::uint32_t e = graph_->nodes[n].first_edge; e < graph_->nodes[n + 1].first_edge;
                 ++e) {
                const Edge& edge = graph_->edges[e];
                const Node& to = graph_->nodes[edge.to];
                if (!graph_->nodes[n].machine || (!dead_.empty() && dead_[e]))
                    continue;
                LinkState state{.kind = LinkState::Kind::router,
                                .origin = graph_->nodes[n].machine,
                                .neighbour = to.machine,
                                .cost = edge.cost};
                if (!to.machine) // of a network its prefix
                    for (const Advert& advert : graph_->intra)
                        if (advert.node == edge.to)
                            state.to = (*numbers_)[advert.prefix];
                add(state);
            }
        }
        auto in_reach = [&](const Advert& advert) {
            return graph_->nodes[advert.node].component == here.component
                   && cost_between(own, advert.node) != nowhere && !is_dead(advert.nic);
        };
        for (const Advert& advert : graph_->intra)
            if (in_reach(advert))
                add({.kind = advert.nic ? LinkState::Kind::router : LinkState::Kind::network,
                     .origin = advert.origin,
                     .to = (*numbers_)[advert.prefix],
                     .cost = advert.cost});
        for (const Advert& advert : other_)
            if (in_reach(advert)) {
                bool external = advert.type != PathType::inter_area;
                if (external && graph_->nodes[advert.node].machine != advert.origin)
                    continue; // the same from afar
                bool second = advert.type == PathType::external_2;
                const bool in_nssa = kind_of(graph_->nodes[advert.node]) == lab::AreaKind::nssa;
                add({.kind = !external ? LinkState::Kind::summary
                             : in_nssa ? LinkState::Kind::nssa
                                       : LinkState::Kind::external,
                     .origin = advert.origin,
                     .to = (*numbers_)[advert.prefix],
                     .cost = second ? advert.metric : advert.cost,
                     .type = static_cast<std::uint8_t>(!external ? 0
                                                       : second  ? 2
                                                                 : 1),
                     .forward = advert.forward == nowhere
                                    ? std::nullopt
                                    : std::optional(forwards_[advert.forward])});
            }
    }
}

} // namespace jackal::routing
