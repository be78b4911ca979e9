#include "jackal/sorted.h"
#include "routing/neighbour.h"
#include "routing/ospf/ospf.h"

#include <algorithm>
#include <map>
#include <numeric>

namespace jackal::routing {

using lab::MachineId;

namespace {

std::uint32_t root_of(std::vector<std::uint32_t>& parents, std::uint32_t i) {
    while (parents[i] != i)
        i = parents[i] = parents[parents[i]];
    return i;
}

std::vector<std::uint32_t> singles(std::size_t count) {
    std::vector<std::uint32_t> parents(count);
    std::iota(parents.begin(), parents.end(), 0U);
    return parents;
}

} // namespace

std::uint32_t OspfTables::add_node(const lab::Speaker& speaker, std::uint32_t area) {
    const auto node = static_cast<std::uint32_t>(graph_->nodes.size());
    graph_->nodes_of[speaker.machine.row].push_back(node);
    graph_->nodes.push_back({.machine = speaker.machine, .area = area, .speaker = &speaker});
    return node;
}

void OspfTables::add_nodes() {
    graph_->nodes_of.resize(lab_->machines.size());
    for (Interface& interface : graph_->interfaces) {
        if (!interface.speaker->router_id)
            continue;
        interface.node = node_of_area(interface.speaker->machine, interface.told->area);
        if (interface.node == nowhere)
            interface.node = add_node(*interface.speaker, interface.told->area);
    }
}

// From pairs to joints: two routers point to point, or routers and the network that they are on.
void OspfTables::join() {
    joints_.clear();
    std::map<std::uint32_t, std::vector<std::uint32_t>> broadcast; // domain to pairs
    for (std::uint32_t i = 0; i < graph_->pairs.size(); ++i) {
        const Pair& pair = graph_->pairs[i];
        const Interface& a = graph_->interfaces[pair.a];
        const Interface& b = graph_->interfaces[pair.b];
        const bool hear_each_other =
            pair.discord == Discord::none || pair.state_a == NeighbourState::exchange;
        if (!hear_each_other)
            continue;
        if (is_mixed(pair) || !a.told->point_to_point)
            broadcast[a.domain].push_back(i);
        else if (pair.discord == Discord::none)
            joints_.push_back({a.node, b.node, a.told->cost, b.told->cost, pair.a, pair.b});
    }
    join_one_way();
    const std::vector<std::uint32_t> heard = heard_point_to_point();
    for (const auto& [domain, pairs] : broadcast)
        elect(pairs, heard);
}

// Who is rather designated on a broadcast network (RFC 2328 section 9.4).
bool OspfTables::comes_before(std::uint32_t interface, std::uint32_t other) const {
    const Interface& one = graph_->interfaces[interface];
    const Interface& two = graph_->interfaces[other];
    return std::pair(one.told->priority, *one.speaker->router_id)
           > std::pair(two.told->priority, *two.speaker->router_id);
}

// By interface that takes its segment for a broadcast network: the one of those heard there, which
// take it for point-to-point, that would be designated first. It does not know of it, so nobody
// announces that network; neither do those that are joined to it so.
std::vector<std::uint32_t> OspfTables::heard_point_to_point() const {
    std::vector<std::uint32_t> heard(graph_->interfaces.size(), nowhere);
    for (const Pair& pair : graph_->pairs) {
        if (!is_mixed(pair))
            continue;
        const bool is_a = graph_->interfaces[pair.a].told->point_to_point;
        const std::uint32_t one = is_a ? pair.a : pair.b;
        std::uint32_t& best = heard[is_a ? pair.b : pair.a];
        if (graph_->interfaces[one].told->priority > 0
            && (best == nowhere || comes_before(one, best)))
            best = one;
    }
    return heard;
}

// They hear each other, and one alone takes their segment for point-to-point.
bool OspfTables::is_mixed(const Pair& pair) const {
    return pair.state_a == NeighbourState::exchange
           && graph_->interfaces[pair.a].told->point_to_point
                  != graph_->interfaces[pair.b].told->point_to_point;
}

// Where one side takes a segment for point-to-point and the other does not, the first announces a
// link to the other. That counts if the other announces any link back, by another segment then (RFC
// 2328 section 16.1 (2) (b)). For IPv6 it must be announced back by the same segment, as both name
// each other's interface (RFC 5340 appendix A.4.3).
void OspfTables::join_one_way() {
    auto is_one_way = [](const Pair& pair) { return pair.discord == Discord::network_type; };
    if (family_ == net::Family::ipv6 || std::ranges::none_of(graph_->pairs, is_one_way))
        return;
    using Ends = std::pair<std::uint32_t, std::uint32_t>;
    std::vector<Ends> joined;
    for (const Joint& joint : joints_)
        joined.emplace_back(std::minmax(joint.from, joint.to));
    sort_unique(joined);
    for (std::uint32_t i = 0; i < graph_->pairs.size(); ++i) {
        const Pair& pair = graph_->pairs[i];
        if (!is_one_way(pair))
            continue;
        const bool is_a = graph_->interfaces[pair.a].told->point_to_point;
        const std::uint32_t one = is_a ? pair.a : pair.b;
        const std::uint32_t other = is_a ? pair.b : pair.a;
        const std::uint32_t from = graph_->interfaces[one].node;
        const std::uint32_t to = graph_->interfaces[other].node;
        if (std::ranges::binary_search(joined, Ends(std::minmax(from, to))))
            joints_.push_back({.from = from,
                               .to = to,
                               .cost = graph_->interfaces[one].told->cost,
                               .from_interface = one,
                               .to_interface = other,
                               .one_way = true});
    }
}

// Designated routers (RFC 2328 section 9.4), as if all had started at once: of those that hear
// each other, the one of the highest priority, then router id. `group` are pairs on one segment.
void OspfTables::elect(std::span<const std::uint32_t> group,
                       const std::vector<std::uint32_t>& heard) {
    // Camps of interfaces that hear each other, by way of others too. Who takes the segment for
    // point-to-point is of none.
    auto ends = [&](std::uint32_t i) {
        const Pair& pair = graph_->pairs[i];
        return graph_->interfaces[pair.a].told->point_to_point ? std::pair(pair.b, pair.a)
                                                               : std::pair(pair.a, pair.b);
    };
    std::vector<std::uint32_t> all;
    for (std::uint32_t i : group) {
        all.push_back(ends(i).first);
        if (!is_mixed(graph_->pairs[i]))
            all.push_back(ends(i).second);
    }
    sort_unique(all);
    std::vector<std::uint32_t> parents = singles(all.size());
    auto root = [&](std::uint32_t interface) {
        auto place = std::ranges::lower_bound(all, interface) - all.begin();
        return root_of(parents, static_cast<std::uint32_t>(place));
    };
    for (std::uint32_t i : group)
        if (!is_mixed(graph_->pairs[i]))
            parents[root(ends(i).first)] = root(ends(i).second);
    struct Camp {
        std::vector<std::uint32_t> interfaces;
        std::vector<std::uint32_t> pairs;
        std::vector<std::uint32_t> mixed;
    };
    std::map<std::uint32_t, Camp> camps;
    for (std::uint32_t interface : all)
        camps[root(interface)].interfaces.push_back(interface);
    for (std::uint32_t i : group) {
        Camp& camp = camps[root(ends(i).first)];
        (is_mixed(graph_->pairs[i]) ? camp.mixed : camp.pairs).push_back(i);
    }
    for (auto& [_, own] : camps) {
        auto& camp = own.interfaces;
        std::ranges::sort(camp,
                          [&](std::uint32_t a, std::uint32_t b) { return comes_before(a, b); });
        auto eligible = [&](std::size_t i) {
            return i < camp.size() && graph_->interfaces[camp[i]].told->priority > 0;
        };
        // One that does not know of it comes before the one of that place.
        auto is_unknowing = [&](std::size_t place) {
            return std::ranges::any_of(camp, [&](std::uint32_t interface) {
                return heard[interface] != nowhere && comes_before(heard[interface], camp[place]);
            });
        };
        if (is_unknowing(0)) {
            for (std::uint32_t interface : camp)
                graph_->interfaces[interface].transit = true;
            for (std::uint32_t i : own.pairs) // none of them is designated
                graph_->pairs[i].state_a = graph_->pairs[i].state_b = NeighbourState::two_way;
            continue;
        }
        std::uint32_t designated = eligible(0) ? camp[0] : nowhere;
        std::uint32_t backup = eligible(1) && !is_unknowing(1) ? camp[1] : nowhere;
        std::vector<std::uint32_t> members;
        for (std::uint32_t i : own.pairs) {
            Pair& pair = graph_->pairs[i];
            pair.a_designated = pair.a == designated;
            pair.b_designated = pair.b == designated;
            if (designated == nowhere)
                pair.discord = Discord::no_designated;
            bool with_designated = pair.a_designated || pair.b_designated;
            if (with_designated && pair.discord == Discord::none)
                members.push_back(pair.a_designated ? pair.b : pair.a);
            if (!with_designated && pair.a != backup && pair.b != backup)
                pair.state_a = pair.state_b = NeighbourState::two_way;
        }
        // What tells the designated router its prefixes, but is joined to its network by nobody.
        std::vector<std::uint32_t> tellers;
        for (std::uint32_t i : own.mixed)
            if (family_ == net::Family::ipv6 && ends(i).first == designated
                && graph_->pairs[i].discord == Discord::network_type)
                tellers.push_back(ends(i).second);
        if (members.empty() && tellers.empty())
            continue;
        members.push_back(designated);
        tellers.insert(tellers.end(), members.begin(), members.end());
        std::ranges::sort(members);
        const Interface& chosen = graph_->interfaces[designated];
        auto network = static_cast<std::uint32_t>(graph_->nodes.size());
        graph_->nodes.push_back({.machine = {}, .area = chosen.told->area});
        for (std::uint32_t prefix : prefixes_of_network(designated, tellers))
            graph_->intra.push_back({.prefix = prefix,
                                     .node = network,
                                     .cost = 0,
                                     .type = PathType::intra_area,
                                     .origin = chosen.speaker->machine,
                                     .nic = {}});
        for (std::uint32_t member : members) {
            Interface& interface = graph_->interfaces[member];
            interface.transit = true;
            joints_.push_back({interface.node, network, interface.told->cost, 0, member, nowhere});
        }
    }
}

// OSPF for IPv4 speaks for one prefix of a NIC, OSPF for IPv6 for all (RFC 5340 section 4.4.3.9).
std::vector<std::uint32_t> OspfTables::prefixes_of(const Interface& interface) const {
    if (family_ == net::Family::ipv4)
        return {numbers_->find(interface.prefix)};
    std::vector<std::uint32_t> found;
    for (const net::Prefix& prefix : announced_prefixes(*lab_, interface.told->nic, family_))
        found.push_back(numbers_->find(prefix));
    sort_unique(found);
    return found;
}

// The mask that all share, or for IPv6 what its neighbours tell the designated router (RFC 5340
// section 4.4.3.9).
std::vector<std::uint32_t>
OspfTables::prefixes_of_network(std::uint32_t designated,
                                std::span<const std::uint32_t> tellers) const {
    if (family_ == net::Family::ipv4)
        return prefixes_of(graph_->interfaces[designated]);
    std::vector<std::uint32_t> found;
    for (std::uint32_t teller : tellers)
        for (std::uint32_t prefix : prefixes_of(graph_->interfaces[teller]))
            if (!is_local_address(prefix))
                found.push_back(prefix);
    sort_unique(found);
    return found;
}

// An IPv6 address of full length is its router's own announcement, at no cost, and never of the
// network (LA-bit, RFC 5340 appendix A.4.1.1).
bool OspfTables::is_local_address(std::uint32_t prefix) const {
    return family_ == net::Family::ipv6 && (*numbers_)[prefix].host_bits() == 0;
}

void OspfTables::lay_edges() {
    auto& nodes = graph_->nodes;
    nodes.push_back({.machine = {}});
    for (Node& node : nodes)
        node.first_edge = 0;
    graph_->gates.clear();
    graph_->has_dead_edges = false;
    for (const Joint& joint : joints_) {
        ++nodes[joint.from].first_edge;
        ++nodes[joint.to].first_edge;
    }
    std::uint32_t total = 0;
    for (Node& node : nodes) {
        std::uint32_t count = node.first_edge;
        node.first_edge = total;
        total += count;
    }
    graph_->edges.resize(total);
    dead_.clear();
    std::vector<std::uint32_t> next(nodes.size());
    for (std::size_t i = 0; i < nodes.size(); ++i)
        next[i] = nodes[i].first_edge;
    std::vector<std::pair<std::uint32_t, std::uint32_t>> ends(total); // interfaces here and there
    std::map<std::uint32_t, Gate> virtual_gates;
    for (const Joint& joint : joints_) {
        std::uint32_t there = next[joint.from]++;
        std::uint32_t back = next[joint.to]++;
        graph_->edges[there] = {.to = joint.to, .cost = joint.cost, .twin = back};
        graph_->edges[back] = {.to = joint.from, .cost = joint.back_cost, .twin = there};
        if (joint.one_way) {
            dead_.resize(total);
            dead_[back] = graph_->has_dead_edges = true;
        }
        if (joint.gate)
            virtual_gates.emplace(there, *joint.gate);
        ends[there] = {joint.from_interface, joint.to_interface};
        ends[back] = {joint.to_interface, joint.from_interface};
    }
    auto gate = [&](std::uint32_t from, std::uint32_t to) {
        graph_->gates.push_back(
            {graph_->interfaces[from].told->nic, graph_->interfaces[to].address});
    };
    for (std::uint32_t n = 0; n + 1 < nodes.size(); ++n) {
        nodes[n].first_gate = static_cast<std::uint32_t>(graph_->gates.size());
        if (!nodes[n].machine)
            continue;
        for (std::uint32_t e = nodes[n].first_edge; e < nodes[n + 1].first_edge; ++e) {
            Edge& edge = graph_->edges[e];
            edge.gate = static_cast<std::uint32_t>(graph_->gates.size()) - nodes[n].first_gate;
            if (auto found = virtual_gates.find(e); found != virtual_gates.end()) {
                graph_->gates.push_back(found->second);
                continue;
            }
            if (nodes[edge.to].machine) {
                if (ends[e].first != nowhere)
                    gate(ends[e].first, ends[e].second);
                continue;
            }
            for (std::uint32_t m = nodes[edge.to].first_edge; m < nodes[edge.to + 1].first_edge;
                 ++m)
                gate(ends[e].first, ends[m].second);
            if (family_ == net::Family::ipv6)
                graph_->gates.push_back({graph_->interfaces[ends[e].first].told->nic,
                                         net::Prefix::everything(family_).first()});
        }
        nodes[n].gate_count =
            static_cast<std::uint32_t>(graph_->gates.size()) - nodes[n].first_gate;
    }
    dead_nics_.clear();
}

void OspfTables::number_components() {
    auto& nodes = graph_->nodes;
    auto count = static_cast<std::uint32_t>(nodes.size() - 1);
    std::vector<std::uint32_t> parents = singles(count);
    for (std::uint32_t n = 0; n < count; ++n)
        for (std::uint32_t e = nodes[n].first_edge; e < nodes[n + 1].first_edge; ++e)
            parents[root_of(parents, n)] = root_of(parents, graph_->edges[e].to);
    std::vector<std::uint32_t> number(count, nowhere);
    graph_->members.clear();
    for (std::uint32_t n = 0; n < count; ++n) {
        std::uint32_t& component = number[root_of(parents, n)];
        if (component == nowhere) {
            component = static_cast<std::uint32_t>(graph_->members.size());
            graph_->members.emplace_back();
        }
        nodes[n].component = component;
        nodes[n].local = static_cast<std::uint32_t>(graph_->members[component].size());
        graph_->members[component].push_back(n);
    }
}

// Of two routers with one router id in a database, the announcements of one replace those of the
// other, so nobody finds the way to both: the later one of the plan is cut off.
void OspfTables::drop_repeated_ids() {
    for (const auto& members : graph_->members) {
        std::map<net::Address, std::uint32_t> seen;
        for (std::uint32_t n : members) {
            const Node& node = graph_->nodes[n];
            if (!node.machine || seen.emplace(*node.speaker->router_id, n).second)
                continue;
            graph_->has_dead_edges = true;
            dead_.resize(graph_->edges.size());
            for (std::uint32_t e = node.first_edge; e < graph_->nodes[n + 1].first_edge; ++e)
                dead_[e] = dead_[graph_->edges[e].twin] = true;
        }
    }
}

// The prefixes of the routers' own NICs, those of networks apart.
void OspfTables::add_intra() {
    for (const Interface& interface : graph_->interfaces) {
        if (interface.node == nowhere)
            continue;
        for (std::uint32_t prefix : prefixes_of(interface))
            if (const bool is_local = is_local_address(prefix); is_local || !interface.transit)
                graph_->intra.push_back({.prefix = prefix,
                                         .node = interface.node,
                                         .cost = is_local ? std::uint32_t{0} : interface.told->cost,
                                         .type = PathType::intra_area,
                                         .origin = interface.speaker->machine,
                                         .nic = interface.told->nic});
    }
    add_virtual_ends();
    std::ranges::stable_sort(graph_->intra, {}, &Advert::prefix);
    first_intra_.assign(numbers_->size() + 1, 0);
    for (const Advert& advert : graph_->intra)
        ++first_intra_[advert.prefix + 1];
    std::partial_sum(first_intra_.begin(), first_intra_.end(), first_intra_.begin());
}

void OspfTables::find_rows() {
    rows_.assign(graph_->nodes.size() - 1, nullptr);
    std::size_t entries = 0;
    for (const auto& members : graph_->members)
        entries += members.size() * members.size();
    if (entries > most_row_entries) {
        too_large_ = true;
        graph_->nodes_of.assign(graph_->nodes_of.size(), {});
        return;
    }
    for (std::uint32_t component = 0; component < graph_->members.size(); ++component)
        find_rows(component);
}

// --- virtual links (RFC 2328 section 15) -------------------------------------------------------

std::uint32_t OspfTables::node_of_area(MachineId machine, std::uint32_t area) const {
    for (std::uint32_t node : graph_->nodes_of[machine.row])
        if (graph_->nodes[node].area == area)
            return node;
    return nowhere;
}

// The next hops from one node to another of its component.
std::vector<Gate> OspfTables::gates_to(std::uint32_t from, std::uint32_t to) const {
    const Node& here = graph_->nodes[from];
    const Row& ways = row(from);
    std::vector<Gate> found;
    auto add = [&](std::uint16_t gate) {
        const Gate& next = graph_->gates[here.first_gate + gate];
        if (std::ranges::find(found, next) == found.end())
            found.push_back(next);
    };
    const std::uint16_t set = ways.set[graph_->nodes[to].local];
    if (set == no_set)
        return found;
    if (set < here.gate_count)
        add(set);
    else
        std::ranges::for_each(ways.merged[set - here.gate_count], add);
    return found;
}

void OspfTables::judge_virtual_links(const Condition& condition) {
    for (const lab::Speaker& speaker : lab_->speakers) {
        if (!speaker.ospf || !condition.machine_on(speaker.machine))
            continue;
        for (const lab::OspfVirtualLink& told : speaker.ospf->virtual_links) {
            VirtualLink link{.speaker = &speaker, .told = &told};
            const lab::Speaker* other = lab_->speaker(told.to);
            auto nic_of = [&](const lab::Speaker* at) {
                for (const lab::OspfNic& nic : at->ospf->nics)
                    if (nic.area == told.area && !lab_->nics[nic.nic].is_loopback())
                        return nic.nic;
                return lab::NicId{};
            };
            link.nic = nic_of(&speaker);
            auto names = [&](const lab::OspfVirtualLink& back) {
                return back.to == speaker.machine && back.area == told.area;
            };
            const std::uint32_t here = node_of_area(speaker.machine, told.area);
            const std::uint32_t there = node_of_area(told.to, told.area);
            if (other != nullptr && other->ospf)
                link.other_nic = nic_of(other);
            if (other == nullptr || !other->ospf
                || std::ranges::none_of(other->ospf->virtual_links, names))
                link.discord = Discord::not_configured;
            else if (condition.is_silenced(Protocol::ospf, speaker.machine, told.to))
                link.discord = Discord::cut;
            else if (here == nowhere || there == nowhere || too_large_
                     || graph_->nodes[here].component != graph_->nodes[there].component
                     || cost_between(here, there) == nowhere)
                link.discord = Discord::no_way;
            else
                link.state = NeighbourState::full;
            graph_->virtual_links.push_back(link);
        }
    }
}

// An unnumbered point-to-point link of the backbone that costs what the way through the area does,
// and goes by its next hops. Who has a virtual link has the backbone, also if the link is down.
void OspfTables::add_virtual_links() {
    graph_->nodes.pop_back(); // the end of the edges
    for (const VirtualLink& link : graph_->virtual_links)
        if (node_of_area(link.speaker->machine, 0) == nowhere)
            add_node(*link.speaker, 0);
    for (const VirtualLink& link : graph_->virtual_links) {
        if (link.state != NeighbourState::full)
            continue;
        const std::uint32_t here = node_of_area(link.speaker->machine, link.told->area);
        const std::uint32_t there = node_of_area(link.told->to, link.told->area);
        for (const Gate& gate : gates_to(here, there))
            joints_.push_back({.from = node_of_area(link.speaker->machine, 0),
                               .to = node_of_area(link.told->to, 0),
                               .cost = cost_between(here, there),
                               .one_way = true, // the other end has its own
                               .gate = gate});
    }
    lay_out();
    graph_->transits.assign(graph_->members.size(), false);
    for (const VirtualLink& link : graph_->virtual_links)
        if (link.state == NeighbourState::full)
            graph_->transits[graph_->nodes[node_of_area(link.speaker->machine, link.told->area)]
                                 .component] = true;
}

// True if the way to a node leads out into the area.
bool OspfTables::goes_through(std::uint32_t from, std::uint32_t to, std::uint32_t area) const {
    return std::ranges::any_of(gates_to(from, to), [&](const Gate& gate) {
        return graph_->nodes[from].speaker->ospf->on(gate.out)->area == area;
    });
}

// The other end of a virtual link must know a global IPv6 address, so one is announced as a host
// (RFC 5340 section 4.4.3.9); into all areas but those that hear of a loopback, as daemons do.
void OspfTables::add_virtual_ends() {
    if (family_ == net::Family::ipv4)
        return;
    MachineId last;
    for (const VirtualLink& link : graph_->virtual_links) {
        const MachineId machine = link.speaker->machine;
        auto first = std::ranges::find_if(graph_->interfaces, [&](const Interface& interface) {
            return interface.speaker == link.speaker && interface.domain != nowhere;
        });
        if (machine == last || first == graph_->interfaces.end())
            continue;
        last = machine;
        const net::Address& address = spoken_address(*lab_, first->told->nic, family_)->address;
        for (std::uint32_t node : graph_->nodes_of[machine.row]) {
            if (std::ranges::any_of(graph_->interfaces, [&](const Interface& interface) {
                    return interface.node == node && interface.domain == nowhere;
                }))
                continue;
            graph_->intra.push_back(
                {.prefix = numbers_->find({address, net::address_bits(family_)}),
                 .node = node,
                 .cost = 0,
                 .type = PathType::intra_area,
                 .origin = machine,
                 .nic = first->told->nic});
        }
    }
}

std::vector<MachineId> OspfTables::border_routers() const {
    std::vector<MachineId> borders;
    for (MachineId id : lab_->machines.ids())
        if (is_border(id))
            borders.push_back(id);
    return borders;
}

// Summaries by border routers (RFC 2328 section 12.4.3): of their other areas into the backbone,
// and of the backbone and their other areas into each area. Ranges stand for what they hold.
void OspfTables::add_inter() {
    inter_.clear();
    std::vector<MachineId> borders = border_routers();
    if (borders.size() * graph_->intra.size() > most_adverts) {
        too_large_ = true;
        borders.clear();
    }
    if (borders.empty())
        return sort_adverts();

    // The costs inside one area that a router sees, by prefix.
    auto inside = [&](std::uint32_t node) {
        std::map<std::uint32_t, std::uint32_t> costs;
        for (const Advert& advert : graph_->intra) {
            if (graph_->nodes[advert.node].component != graph_->nodes[node].component
                || is_dead(advert.nic))
                continue;
            std::uint32_t way = cost_between(node, advert.node);
            if (way == nowhere)
                continue;
            auto [known, is_new] = costs.emplace(advert.prefix, way + advert.cost);
            known->second = std::min(known->second, way + advert.cost);
        }
        return costs;
    };
    auto summarised = [&](MachineId machine, std::uint32_t area,
                          const std::map<std::uint32_t, std::uint32_t>& costs) {
        std::map<std::uint32_t, std::uint32_t> result;
        for (auto [prefix, cost] : costs) {
            std::uint32_t told = prefix;
            for (const lab::OspfRange& range : lab_->speaker(machine)->ospf->ranges)
                if (range.area == area && range.prefix.contains((*numbers_)[prefix]))
                    told = numbers_->find(range.prefix);
            auto [known, is_new] = result.emplace(told, cost);
            known->second = std::max(known->second, told == prefix ? 0 : cost);
        }
        return result;
    };
    std::map<std::uint32_t, std::map<std::uint32_t, std::uint32_t>> intra; // by node
    for (MachineId border : borders)
        for (std::uint32_t node : graph_->nodes_of[border.row])
            intra[node] = inside(node);
    auto tell = [&](MachineId border, std::uint32_t into, std::uint32_t prefix,
                    std::uint32_t cost) {
        inter_.push_back({.prefix = prefix,
                          .node = into,
                          .cost = cost,
                          .type = PathType::inter_area,
                          .origin = border,
                          .nic = {}});
    };
    for (MachineId border : borders)
        for (std::uint32_t into : graph_->nodes_of[border.row])
            for (std::uint32_t of : graph_->nodes_of[border.row])
                if (of != into && (graph_->nodes[into].area == 0 || graph_->nodes[of].area != 0))
                    for (auto [prefix, cost] :
                         summarised(border, graph_->nodes[of].area, intra[of]))
                        tell(border, into, prefix, cost);
    sort_adverts();
    // Into the other areas goes what the border routers now know of and by the backbone; first into
    // those that virtual links go through, where all is told as it is, but not what goes that way.
    const std::size_t in_backbone = inter_.size();
    auto tell_of_backbone = [&](MachineId border, std::uint32_t into) {
        const Node& area = graph_->nodes[into];
        std::map<std::uint32_t, std::uint32_t> costs;
        std::map<std::uint32_t, std::uint32_t> backbone;
        for (std::uint32_t of : graph_->nodes_of[border.row])
            if (graph_->nodes[of].area == 0) {
                costs = intra[of];
                if (!graph_->transits.empty())
                    adjust_to_transit(border, area, costs);
                backbone = is_transit(area.component) ? costs : summarised(border, 0, costs);
            }
        for (std::size_t i = 0; i < in_backbone; ++i) {
            const std::uint32_t prefix = inter_[i].prefix;
            const bool own =
                std::ranges::any_of(graph_->nodes_of[border.row],
                                    [&](std::uint32_t of) { return intra[of].contains(prefix); });
            if (auto known = own ? std::nullopt : lesson(border, prefix))
                if (!is_transit(area.component) || !leads_into(border, *known, area.area))
                    backbone.emplace(prefix, known->metric);
        }
        for (auto [prefix, cost] : backbone)
            if (!intra[into].contains(prefix))
                tell(border, into, prefix, cost);
    };
    for (bool transit : {true, false}) {
        if (transit && graph_->transits.empty())
            continue;
        for (MachineId border : borders)
            for (std::uint32_t into : graph_->nodes_of[border.row])
                if (graph_->nodes[into].area != 0
                    && is_transit(graph_->nodes[into].component) == transit)
                    tell_of_backbone(border, into);
        if (transit) // what is told into the others may be by these
            sort_adverts();
    }
}

// True if a next hop is in the area.
bool OspfTables::leads_into(MachineId machine, const Lesson& lesson, std::uint32_t area) const {
    for (std::size_t i = 0; i < lesson.gate_count; ++i) {
        const lab::OspfNic* nic = lab_->speaker(machine)->ospf->on(gates()[lesson.gates.at(i)].out);
        if (nic != nullptr && nic->area == area)
            return true;
    }
    return false;
}

// What prefixes of the backbone cost by ways through transit areas (RFC 2328 section 16.3); without
// those that go through this area itself (section 12.4.3).
void OspfTables::adjust_to_transit(MachineId border, const Node& into,
                                   std::map<std::uint32_t, std::uint32_t>& costs) const {
    for (auto at = costs.begin(); at != costs.end();) {
        const auto known = lesson(border, at->first);
        if (known && is_transit(into.component) && leads_into(border, *known, into.area)) {
            at = costs.erase(at);
            continue;
        }
        if (known)
            at->second = known->metric;
        ++at;
    }
}

// Stub areas get a default route from their border routers in the place of externals, and NSSAs an
// external one (RFC 3101 section 2.7).
void OspfTables::add_stub_defaults(std::vector<Advert>& into) const {
    for (MachineId id : border_routers())
        for (std::uint32_t n : graph_->nodes_of[id.row])
            if (const lab::AreaKind kind = kind_of(graph_->nodes[n]); kind != lab::AreaKind::normal)
                into.push_back({.prefix = numbers_->find(net::Prefix::everything(family_)),
                                .node = n,
                                .cost = 1,
                                .type = kind == lab::AreaKind::stub ? PathType::inter_area
                                                                    : PathType::external_1,
                                .origin = id,
                                .nic = {}});
}

void OspfTables::settle(std::vector<Injection> externals, const Surroundings& /*surroundings*/) {
    std::ranges::stable_sort(externals, {}, &Injection::machine);
    externals_ = std::move(externals);
    add_externals();
    sort_adverts();
}

// An external route has a forwarding address where its next hop is on a segment on which its router
// speaks OSPF, so that others on that segment go there straight (RFC 2328 section 2.3, appendix
// A.4.5). Daemons do so on point-to-point links and passive NICs too, and for IPv4 where no carrier
// is; a NIC that never had one has no link-local address to speak IPv6 from.
std::optional<net::Address> OspfTables::forward_of(const Injection& external) const {
    const Gate& gate = external.gate;
    if (!gate.out || gate.via.family() != family_ || has_address(*lab_, external.machine, gate.via)
        || lab_->speaker(external.machine)->ospf->on(gate.out) == nullptr)
        return std::nullopt;
    const auto* address = spoken_address(*lab_, gate.out, family_);
    const auto own = std::ranges::equal_range(
        graph_->interfaces, external.machine, {},
        [](const Interface& interface) { return interface.speaker->machine; });
    const bool is_there = family_ == net::Family::ipv4
                              ? address != nullptr && address->prefix().contains(gate.via)
                              : std::ranges::any_of(own, [&](const Interface& interface) {
                                    return interface.told->nic == gate.out;
                                });
    return is_there ? std::optional(gate.via) : std::nullopt;
}

// What stands for it in an NSSA, as all that leaves the area must have one: an address of the
// router there, of a NIC without neighbours before others (RFC 3101 section 2.3), and the first.
std::optional<net::Address> OspfTables::forward_in_nssa(const Node& router) const {
    const Interface* best = nullptr;
    auto rank = [&](const Interface& interface) {
        return std::pair(!interface.told->passive, interface.told->nic);
    };
    for (const Interface& interface : graph_->interfaces)
        if (interface.speaker == router.speaker && interface.told->area == router.area
            && !(family_ == net::Family::ipv6 && lab_->nics[interface.told->nic].is_loopback())
            && (best == nullptr || rank(interface) < rank(*best)))
            best = &interface;
    return best == nullptr ? std::nullopt
                           : std::optional(lab_->first_address(best->told->nic, family_)->address);
}

// Who brings what into OSPF: into all areas that take it, or into an NSSA that the router is inside
// of. A border router of an NSSA may tell it, too (RFC 3101 section 2.4); daemons do not.
std::vector<OspfTables::External> OspfTables::brought_in() const {
    std::vector<External> found;
    std::map<std::uint32_t, std::optional<net::Address>> in_nssa; // by node
    for (const Injection& injection : externals_) {
        const auto& nodes = graph_->nodes_of[injection.machine.row];
        External& external = found.emplace_back(External{.prefix = injection.prefix,
                                                         .origin = injection.machine,
                                                         .metric = injection.metric,
                                                         .type = injection.type,
                                                         .forward = forward_of(injection)});
        if (nodes.size() != 1 || kind_of(graph_->nodes[nodes.front()]) != lab::AreaKind::nssa)
            continue;
        external.nssa = nodes.front();
        auto [own, is_new] = in_nssa.try_emplace(external.nssa);
        if (is_new)
            own->second = forward_in_nssa(graph_->nodes[external.nssa]);
        if (!external.forward)
            external.forward = own->second;
        external.leaves_nssa = external.forward.has_value();
    }
    return found;
}

// Gates straight to forwarding addresses, for all who are on their segments.
void OspfTables::find_forwards(const std::vector<External>& externals) {
    forwards_.clear();
    for (const External& external : externals)
        if (external.forward)
            forwards_.push_back(*external.forward);
    sort_unique(forwards_);
    straight_.assign(forwards_.size(), {});
    if (forwards_.empty())
        return;
    gates_ = graph_->gates;
    for (const Interface& interface : graph_->interfaces)
        for (std::uint32_t prefix : prefixes_of(interface)) {
            const net::Prefix& on_link = (*numbers_)[prefix];
            for (auto first = std::ranges::lower_bound(forwards_, on_link.first());
                 first != forwards_.end() && *first <= on_link.last(); ++first) {
                straight_[static_cast<std::size_t>(first - forwards_.begin())].push_back(
                    {interface.speaker->machine, interface.told->cost,
                     static_cast<std::uint32_t>(gates_.size())});
                gates_.push_back({interface.told->nic, *first});
            }
        }
}

std::uint32_t OspfTables::number_of(const std::optional<net::Address>& forward) const {
    if (!forward)
        return nowhere;
    auto found = std::ranges::lower_bound(forwards_, *forward);
    return static_cast<std::uint32_t>(found - forwards_.begin());
}

// The border router of the highest router id in an NSSA, which translates (RFC 3101 section 3.1).
MachineId OspfTables::translator_of(std::uint32_t component) const {
    MachineId best;
    for (std::uint32_t n : graph_->members[component])
        if (const Node& node = graph_->nodes[n];
            node.machine && is_border(node.machine)
            && (!best || *node.speaker->router_id > *lab_->speaker(best)->router_id))
            best = node.machine;
    return best;
}

// By an address of its own on a broadcast network no router goes; on a point-to-point link, and for
// IPv6, daemons do not see that it is theirs.
bool OspfTables::is_own_on_broadcast(MachineId machine, net::Address address) const {
    return family_ == net::Family::ipv4
           && std::ranges::any_of(graph_->interfaces, [&](const Interface& interface) {
                  return interface.speaker->machine == machine && interface.address == address
                         && !interface.told->point_to_point;
              });
}

// What leaves an NSSA its translator announces in all other areas, of each prefix that which it
// would use itself (RFC 3101 section 3.2).
std::vector<OspfTables::External>
OspfTables::translated(const std::vector<External>& externals) const {
    struct Best {
        std::tuple<std::uint8_t, std::uint32_t, std::uint32_t> rank;
        External external;
    };
    std::map<std::pair<std::uint32_t, std::uint32_t>, Best> found; // by prefix and component
    std::map<std::uint32_t, MachineId> translators;                // by component
    for (const External& external : externals) {
        if (!external.leaves_nssa)
            continue;
        const std::uint32_t component = graph_->nodes[external.nssa].component;
        auto [known_translator, is_unknown] = translators.try_emplace(component);
        if (is_unknown)
            known_translator->second = translator_of(component);
        const MachineId translator = known_translator->second;
        Lesson lesson;
        if (!translator || is_own_on_broadcast(translator, *external.forward)
            || best_inside(translator, external.prefix, lesson) != nullptr)
            continue;
        const auto onward = way_to_forward(translator, number_of(external.forward));
        if (!onward)
            continue;
        const std::uint32_t cost = onward->lesson.metric;
        std::tuple rank(external.type,
                        external.type == 1 ? external.metric + cost : external.metric, cost);
        External passed_on = external;
        passed_on.origin = translator;
        passed_on.nssa = nowhere;
        auto [known, is_new] =
            found.try_emplace({external.prefix, component}, Best{rank, passed_on});
        if (!is_new && rank < known->second.rank)
            known->second = {rank, passed_on};
    }
    std::vector<External> all;
    for (const auto& [_, best] : found)
        all.push_back(best.external);
    return all;
}

// To each component that hears of the router that announces it: by that itself if it is there,
// else by the border routers, which say how far it is from them (RFC 2328 section 12.4.3).
std::vector<OspfTables::Way> OspfTables::ways_to(MachineId machine,
                                                 const std::vector<MachineId>& borders) const {
    auto takes = [&](std::uint32_t n) {
        return kind_of(graph_->nodes[n]) == lab::AreaKind::normal;
    };
    std::vector<Way> ways;
    std::vector<bool> has(graph_->members.size());
    for (std::uint32_t n : graph_->nodes_of[machine.row])
        if (takes(n)) {
            ways.push_back({n, 0});
            has[graph_->nodes[n].component] = true;
        }
    // Into the backbone first, from there into the other areas.
    for (bool backbone : {true, false}) {
        std::vector<Way> more;
        for (MachineId border : borders) {
            std::uint32_t cost = nowhere;
            std::uint32_t from = nowhere;
            std::uint32_t to = nowhere;
            for (std::uint32_t n : graph_->nodes_of[border.row])
                for (const Way& way : ways)
                    if (graph_->nodes[way.node].component == graph_->nodes[n].component
                        && cost_between(n, way.node) != nowhere
                        && cost_between(n, way.node) + way.cost < cost) {
                        cost = cost_between(n, way.node) + way.cost;
                        from = n;
                        to = way.node;
                    }
            for (std::uint32_t n : graph_->nodes_of[border.row])
                if (cost != nowhere && !has[graph_->nodes[n].component]
                    && (graph_->nodes[n].area == 0) == backbone && takes(n)
                    && !(is_transit(graph_->nodes[n].component)
                         && goes_through(from, to, graph_->nodes[n].area)))
                    more.push_back({n, cost});
        }
        for (const Way& way : more)
            has[graph_->nodes[way.node].component] = true;
        ways.insert(ways.end(), more.begin(), more.end());
    }
    return ways;
}

void OspfTables::add_externals() {
    external_.clear();
    std::vector<External> externals = brought_in();
    find_forwards(externals);
    for (External& external : translated(externals))
        externals.push_back(std::move(external));
    if (externals.empty())
        return;
    const std::vector<MachineId> borders = border_routers();
    std::map<MachineId, std::vector<Way>> known;
    for (const External& external : externals) {
        if (external_.size() > most_adverts) {
            too_large_ = true;
            return;
        }
        const std::uint32_t forward = number_of(external.forward);
        auto add = [&](const Way& way) {
            external_.push_back(
                {.prefix = external.prefix,
                 .node = way.node,
                 .cost = (forward == nowhere ? way.cost : 0)
                         + (external.type == 1 ? external.metric : 0),
                 .metric = external.type == 1 ? 0 : external.metric,
                 .type = external.type == 1 ? PathType::external_1 : PathType::external_2,
                 .origin = external.origin,
                 .nic = {},
                 .forward = forward});
        };
        if (external.nssa != nowhere) {
            add({external.nssa, 0});
            continue;
        }
        auto [ways, is_new] = known.try_emplace(external.origin);
        if (is_new)
            ways->second = ways_to(external.origin, borders);
        std::ranges::for_each(ways->second, add);
    }
}

void OspfTables::sort_adverts() {
    other_ = inter_;
    other_.insert(other_.end(), external_.begin(), external_.end());
    add_stub_defaults(other_);
    std::ranges::stable_sort(other_, {}, &Advert::prefix);
    first_other_.assign(numbers_->size() + 1, 0);
    for (const Advert& advert : other_)
        ++first_other_[advert.prefix + 1];
    std::partial_sum(first_other_.begin(), first_other_.end(), first_other_.begin());
}

} // namespace jackal::routing
