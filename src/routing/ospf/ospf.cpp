#include "ospf.h"

#include "routing/neighbour.h"

#include <algorithm>
#include <array>
#include <atomic>
#include <bit>
#include <map>
#include <numeric>
#include <thread>

namespace jackal::routing {

using lab::MachineId;
using lab::NicId;

namespace {

// What hellos are sent to: AllSPFRouters (RFC 2328 appendix A.1, RFC 5340 appendix A.1).
net::Address all_routers(net::Family family) {
    static const net::Address ipv4 = net::parse_address("224.0.0.5").value();
    static const net::Address ipv6 = net::parse_address("ff02::5").value();
    return family == net::Family::ipv4 ? ipv4 : ipv6;
}

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

// --- adjacencies -----------------------------------------------------------------------------

void OspfTables::form(const Condition& condition, const lab::Wiring& wiring) {
    graph_ = std::make_shared<Graph>();
    add_interfaces(condition, wiring);
    add_nodes();
    add_pairs(condition);
    add_unheard(condition, wiring);
    join();
    lay_edges();
    number_components();
    drop_repeated_ids();
    add_intra();
    add_inter();
    sort_adverts();
}

void OspfTables::add_interfaces(const Condition& condition, const lab::Wiring& wiring) {
    for (const lab::Speaker& speaker : lab_->speakers) {
        if (!speaker.ospf)
            continue;
        for (const lab::OspfNic& told : speaker.ospf->nics) {
            const auto* address = lab_->first_address(told.nic, family_);
            if (address == nullptr || !is_live(*lab_, condition, told.nic, family_))
                continue;
            bool loopback = lab_->nics[told.nic].is_loopback();
            graph_->interfaces.push_back(
                {.speaker = &speaker,
                 .told = &told,
                 .address = address->address,
                 .prefix = loopback ? net::Prefix(address->address, net::address_bits(family_))
                                    : address->prefix(),
                 .domain = loopback ? nowhere : wiring.domain(*lab_, told.nic)});
        }
    }
}

void OspfTables::add_nodes() {
    graph_->nodes_of.resize(lab_->machines.size());
    for (Interface& interface : graph_->interfaces) {
        if (!interface.speaker->router_id)
            continue;
        auto& own = graph_->nodes_of[interface.speaker->machine.row];
        for (std::uint32_t node : own)
            if (graph_->nodes[node].area == interface.told->area)
                interface.node = node;
        if (interface.node != nowhere)
            continue;
        interface.node = static_cast<std::uint32_t>(graph_->nodes.size());
        own.push_back(interface.node);
        graph_->nodes.push_back({.machine = interface.speaker->machine,
                                 .area = interface.told->area,
                                 .speaker = interface.speaker});
    }
}

// What two interfaces on one segment make of each other.
OspfTables::Pair OspfTables::judged(std::uint32_t a, std::uint32_t b,
                                    const Condition& condition) const {
    const Interface& one = graph_->interfaces[a];
    const Interface& other = graph_->interfaces[b];
    Pair pair{.a = a, .b = b};
    auto apart = [&](Discord discord) {
        pair.discord = discord;
        return pair;
    };
    if (one.told->passive || other.told->passive)
        return apart(Discord::passive);
    if (!one.speaker->router_id || !other.speaker->router_id)
        return apart(Discord::no_router_id);
    if (condition.is_silenced(Protocol::ospf, one.speaker->machine, other.speaker->machine))
        return apart(Discord::cut);
    net::Flow flow{one.address, all_routers(family_), net::Protocol::ospf, 0, 0};
    lab::FilterId there = dropped_by(*lab_, one.told->nic, other.told->nic, flow);
    flow.source = other.address;
    lab::FilterId back = dropped_by(*lab_, other.told->nic, one.told->nic, flow);
    if (there || back) {
        pair.filter = there ? there : back;
        pair.state_a = back ? NeighbourState::down : NeighbourState::init;
        pair.state_b = there ? NeighbourState::down : NeighbourState::init;
        return apart(Discord::filtered);
    }
    // What comes from an address of its own, a machine drops (RFC 1122 section 3.2.1.3).
    if (is_own(*lab_, condition, one.speaker->machine, other.address)
        || is_own(*lab_, condition, other.speaker->machine, one.address))
        return apart(Discord::own_address);
    if (one.speaker->router_id == other.speaker->router_id)
        return apart(Discord::router_id);
    if (one.told->area != other.told->area)
        return apart(Discord::area);
    if (one.told->hello_s != other.told->hello_s)
        return apart(Discord::hello);
    if (one.told->dead_s != other.told->dead_s)
        return apart(Discord::dead);
    if (one.speaker->ospf->is_stub(one.told->area) != other.speaker->ospf->is_stub(one.told->area))
        return apart(Discord::stub);
    // RFC 2328 section 10.5: on broadcast networks the masks must agree. And both must be next
    // hops.
    bool masks = family_ == net::Family::ipv6 || one.told->point_to_point
                 || other.told->point_to_point || one.prefix == other.prefix;
    if (!masks || !one.prefix.contains(other.address) || !other.prefix.contains(one.address))
        return apart(Discord::prefix);
    pair.state_a = pair.state_b = NeighbourState::exchange;
    if (one.told->point_to_point != other.told->point_to_point)
        return apart(Discord::network_type);
    if (lab_->nics[one.told->nic].mtu_bytes != lab_->nics[other.told->nic].mtu_bytes)
        return apart(Discord::mtu);
    pair.state_a = pair.state_b = NeighbourState::full;
    return pair;
}

void OspfTables::add_pairs(const Condition& condition) {
    std::vector<std::pair<std::uint32_t, std::uint32_t>> by_domain;
    for (std::uint32_t i = 0; i < graph_->interfaces.size(); ++i)
        if (graph_->interfaces[i].domain != nowhere)
            by_domain.emplace_back(graph_->interfaces[i].domain, i);
    std::ranges::sort(by_domain);
    for (auto first = by_domain.begin(); first != by_domain.end();) {
        auto end = std::find_if(first, by_domain.end(),
                                [&](const auto& p) { return p.first != first->first; });
        auto last = first + std::min<std::ptrdiff_t>(end - first, most_on_segment);
        too_large_ = too_large_ || last != end;
        for (auto a = first; a != last; ++a)
            for (auto b = a + 1; b != last; ++b) {
                const Interface& one = graph_->interfaces[a->second];
                const Interface& other = graph_->interfaces[b->second];
                if (one.speaker == other.speaker || (one.told->passive && other.told->passive))
                    continue;
                if (graph_->pairs.size() == most_pairs) {
                    too_large_ = true;
                    return;
                }
                graph_->pairs.push_back(judged(a->second, b->second, condition));
            }
        first = end;
    }
}

// Routers that speak OSPF, but not on a segment where a neighbour does.
void OspfTables::add_unheard(const Condition& condition, const lab::Wiring& wiring) {
    std::size_t looked_at = 0; // large labs are not looked through to the end
    for (const Interface& interface : graph_->interfaces) {
        NicId nic = interface.told->nic;
        if (interface.domain == nowhere || interface.told->passive
            || (looked_at += lab_->segments[lab_->nics[nic].segment].nics.size()) > most_pairs)
            continue;
        for (NicId other : lab_->segments[lab_->nics[nic].segment].nics) {
            const lab::Speaker* speaker = lab_->speaker(lab_->nics[other].machine);
            if (other != nic && speaker != nullptr && speaker->ospf && !speaker->ospf->on(other)
                && speaker != interface.speaker && lab_->machines[speaker->machine].forwards
                && is_live(*lab_, condition, other, family_)
                && wiring.domain(*lab_, other) == interface.domain)
                graph_->unheard.push_back({nic, other});
        }
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
        if (pair.discord != Discord::none && pair.discord != Discord::mtu)
            continue;
        if (!a.told->point_to_point)
            broadcast[a.domain].push_back(i);
        else if (pair.discord == Discord::none)
            joints_.push_back({a.node, b.node, a.told->cost, b.told->cost, pair.a, pair.b});
    }
    for (const auto& [domain, pairs] : broadcast)
        elect(pairs);
}

// Designated routers (RFC 2328 section 9.4), as if all had started at once: of those that hear
// each other, the one of the highest priority, then router id. `group` are pairs on one segment.
void OspfTables::elect(std::span<const std::uint32_t> group) {
    auto before = [&](std::uint32_t a, std::uint32_t b) {
        const Interface& one = graph_->interfaces[a];
        const Interface& other = graph_->interfaces[b];
        return std::pair(one.told->priority, *one.speaker->router_id)
               > std::pair(other.told->priority, *other.speaker->router_id);
    };
    // Camps of interfaces that hear each other, by way of others too.
    std::vector<std::uint32_t> all;
    for (std::uint32_t i : group)
        for (std::uint32_t interface : {graph_->pairs[i].a, graph_->pairs[i].b})
            all.push_back(interface);
    std::ranges::sort(all);
    auto repeated = std::ranges::unique(all);
    all.erase(repeated.begin(), repeated.end());
    std::vector<std::uint32_t> parents = singles(all.size());
    auto root = [&](std::uint32_t interface) {
        auto place = std::ranges::lower_bound(all, interface) - all.begin();
        return root_of(parents, static_cast<std::uint32_t>(place));
    };
    for (std::uint32_t i : group)
        parents[root(graph_->pairs[i].a)] = root(graph_->pairs[i].b);
    struct Camp {
        std::vector<std::uint32_t> interfaces;
        std::vector<std::uint32_t> pairs;
    };
    std::map<std::uint32_t, Camp> camps;
    for (std::uint32_t interface : all)
        camps[root(interface)].interfaces.push_back(interface);
    for (std::uint32_t i : group)
        camps[root(graph_->pairs[i].a)].pairs.push_back(i);
    for (auto& [_, own] : camps) {
        auto& camp = own.interfaces;
        std::ranges::sort(camp, before);
        auto eligible = [&](std::size_t i) {
            return i < camp.size() && graph_->interfaces[camp[i]].told->priority > 0;
        };
        std::uint32_t designated = eligible(0) ? camp[0] : nowhere;
        std::uint32_t backup = eligible(1) ? camp[1] : nowhere;
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
        if (members.empty())
            continue;
        members.push_back(designated);
        std::ranges::sort(members);
        const Interface& chosen = graph_->interfaces[designated];
        auto network = static_cast<std::uint32_t>(graph_->nodes.size());
        graph_->nodes.push_back({.machine = {}, .area = chosen.told->area});
        graph_->intra.push_back({.prefix = numbers_->find(chosen.prefix),
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

// --- the graph -------------------------------------------------------------------------------

void OspfTables::lay_edges() {
    auto& nodes = graph_->nodes;
    nodes.push_back({.machine = {}});
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
    std::vector<std::uint32_t> next(nodes.size());
    for (std::size_t i = 0; i < nodes.size(); ++i)
        next[i] = nodes[i].first_edge;
    std::vector<std::pair<std::uint32_t, std::uint32_t>> ends(total); // interfaces here and there
    for (const Joint& joint : joints_) {
        std::uint32_t there = next[joint.from]++;
        std::uint32_t back = next[joint.to]++;
        graph_->edges[there] = {.to = joint.to, .cost = joint.cost, .twin = back};
        graph_->edges[back] = {.to = joint.from, .cost = joint.back_cost, .twin = there};
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
            if (nodes[edge.to].machine) {
                gate(ends[e].first, ends[e].second);
                continue;
            }
            for (std::uint32_t m = nodes[edge.to].first_edge; m < nodes[edge.to + 1].first_edge;
                 ++m)
                gate(ends[e].first, ends[m].second);
        }
        nodes[n].gate_count =
            static_cast<std::uint32_t>(graph_->gates.size()) - nodes[n].first_gate;
    }
    joints_.clear();
    dead_.clear();
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
            dead_.resize(graph_->edges.size());
            for (std::uint32_t e = node.first_edge; e < graph_->nodes[n + 1].first_edge; ++e)
                dead_[e] = dead_[graph_->edges[e].twin] = true;
        }
    }
}

// --- shortest paths --------------------------------------------------------------------------

// A queue of nodes by cost for costs that never fall below the last one taken: a radix heap (Ahuja,
// Mehlhorn, Orlin and Tarjan 1990).
class CostQueue {
  public:
    struct Entry {
        std::uint32_t key = 0;
        std::uint32_t node = 0;
    };

    bool empty() const { return size_ == 0; }
    void clear() { last_ = 0; } // of an empty queue

    void push(std::uint32_t key, std::uint32_t node) {
        buckets_[static_cast<std::size_t>(std::bit_width(key ^ last_))].push_back({key, node});
        ++size_;
    }

    Entry pop() {
        if (buckets_[0].empty())
            refill();
        Entry entry = buckets_[0].back();
        buckets_[0].pop_back();
        --size_;
        return entry;
    }

  private:
    void refill() {
        std::size_t i = 1;
        while (buckets_[i].empty())
            ++i;
        last_ = std::ranges::min_element(buckets_[i], {}, &Entry::key)->key;
        for (const Entry& entry : buckets_[i])
            buckets_[static_cast<std::size_t>(std::bit_width(entry.key ^ last_))].push_back(entry);
        buckets_[i].clear();
    }

    std::array<std::vector<Entry>, 33> buckets_;
    std::uint32_t last_ = 0;
    std::size_t size_ = 0;
};

// Dijkstra's algorithm (RFC 2328 section 16.1), with the sets of next hops of equal-cost paths, in
// one component after another. Nodes and edges go by their numbers in the component.
class OspfTables::ShortestPaths {
  public:
    explicit ShortestPaths(const OspfTables& tables)
        : graph_(*tables.graph_), dead_(tables.dead_) {}

    void enter(std::uint32_t component) {
        const auto& members = graph_.members[component];
        first_.clear();
        edges_.clear();
        more_.clear();
        is_router_.clear();
        for (std::uint32_t n : members) {
            first_.push_back(static_cast<std::uint32_t>(edges_.size()));
            is_router_.push_back(graph_.nodes[n].machine ? 1 : 0);
            for (std::uint32_t e = graph_.nodes[n].first_edge; e < graph_.nodes[n + 1].first_edge;
                 ++e) {
                const Edge& edge = graph_.edges[e];
                if (!dead_.empty() && dead_[e])
                    continue;
                edges_.push_back({.to = graph_.nodes[edge.to].local, .cost = edge.cost});
                more_.push_back({.back_cost = graph_.edges[edge.twin].cost,
                                 .gate = edge.gate,
                                 .member = e - graph_.nodes[n].first_edge});
            }
        }
        first_.push_back(static_cast<std::uint32_t>(edges_.size()));
        affected_.assign(members.size(), false);
    }

    Row from(const Node& source) {
        std::size_t count = is_router_.size();
        Row row{.cost = std::vector<std::uint32_t>(count, nowhere),
                .set = std::vector<std::uint16_t>(count, no_set),
                .merged = {}};
        start(source, row);
        row.cost[source_] = 0;
        push(0, source_);
        run<false>();
        return row;
    }

    // An edge of the component that has gone.
    struct Gone {
        std::uint32_t from = 0;
        std::uint32_t to = 0;
        std::uint32_t cost = 0;
    };

    // The row of `source` after edges have gone, or `before` itself if it stays as it is.
    std::shared_ptr<const Row> without(const Node& source, const std::shared_ptr<const Row>& before,
                                       const std::vector<Gone>& gone) {
        touched_.clear();
        const auto& costs = before->cost;
        auto touch = [&](std::uint32_t from, std::uint32_t to, std::uint32_t cost) {
            if (costs[from] != nowhere && costs[from] + cost == costs[to] && !affected_[to]
                && to != source.local) {
                affected_[to] = true;
                touched_.push_back(to);
            }
        };
        for (const Gone& edge : gone)
            touch(edge.from, edge.to, edge.cost);
        if (touched_.empty())
            return before;
        for (std::size_t i = 0; i < touched_.size(); ++i)
            for (std::uint32_t e = first_[touched_[i]]; e < first_[touched_[i] + 1]; ++e)
                touch(touched_[i], edges_[e].to, edges_[e].cost);
        auto row = std::make_shared<Row>(*before);
        repair(source, *row);
        for (std::uint32_t n : touched_)
            affected_[n] = false;
        return row;
    }

  private:
    struct LocalEdge { // as small as can be, as all of them are looked at for every source
        std::uint32_t to = 0;
        std::uint32_t cost = 0;
    };
    struct More {
        std::uint32_t back_cost = 0;
        std::uint32_t gate = 0;
        std::uint32_t member = 0; // of a network: which of its members the edge leads to
    };

    void start(const Node& source, Row& row) {
        source_ = source.local;
        single_ = source.gate_count;
        row_ = &row;
        known_.clear();
        queue_.clear();
    }

    // Finds new ways to the nodes in touched_.
    void repair(const Node& source, Row& row) {
        start(source, row);
        for (std::uint16_t i = 0; i < row.merged.size(); ++i)
            known_.emplace(row.merged[i], i);
        for (std::uint32_t n : touched_) {
            row.cost[n] = nowhere;
            row.set[n] = no_set;
        }
        for (std::uint32_t n : touched_)
            for (std::uint32_t e = first_[n]; e < first_[n + 1]; ++e)
                if (std::uint32_t other = edges_[e].to;
                    !affected_[other] && row.cost[other] != nowhere)
                    reach(other, n, more_[e].back_cost);
        run<true>();
    }

    // With `only_affected` whatever is not affected has its way already.
    template <bool only_affected>
    void run() {
        std::uint32_t* costs = row_->cost.data();
        const LocalEdge* edges = edges_.data();
        while (!queue_.empty()) {
            auto [key, n] = queue_.pop();
            std::uint32_t here = key >> 1;
            if (costs[n] != here)
                continue; // a better way was found since
            for (std::uint32_t e = first_[n], end = first_[n + 1]; e < end; ++e) {
                auto [to, cost] = edges[e];
                if (here + cost <= costs[to] && (!only_affected || affected_[to]))
                    settle(to, here + cost, set_by(n, e));
            }
        }
    }

    // By the edge from one node to another that costs so much: the cheapest of them, with all that
    // cost the same.
    void reach(std::uint32_t from, std::uint32_t to, std::uint32_t cost) {
        for (std::uint32_t e = first_[from]; e < first_[from + 1]; ++e)
            if (edges_[e].to == to && edges_[e].cost == cost
                && row_->cost[from] + cost <= row_->cost[to])
                settle(to, row_->cost[from] + cost, set_by(from, e));
    }

    void settle(std::uint32_t to, std::uint32_t cost, std::uint16_t set) {
        if (cost == row_->cost[to]) {
            row_->set[to] = united(row_->set[to], set);
            return;
        }
        row_->cost[to] = cost;
        row_->set[to] = set;
        push(cost, to);
    }

    // The next hops of the way by this edge.
    std::uint16_t set_by(std::uint32_t from, std::uint32_t e) const {
        if (from == source_)
            return static_cast<std::uint16_t>(more_[e].gate);
        // A network that the source is on itself leads to each of its members directly.
        if (!is_router_[from])
            for (std::uint32_t s = first_[source_]; s < first_[source_ + 1]; ++s)
                if (edges_[s].to == from && row_->cost[from] == edges_[s].cost)
                    return static_cast<std::uint16_t>(more_[s].gate + more_[e].member);
        return row_->set[from];
    }

    std::uint16_t united(std::uint16_t a, std::uint16_t b) {
        if (a == b)
            return a;
        std::vector<std::uint16_t> all = members(a);
        for (std::uint16_t gate : members(b))
            all.push_back(gate);
        std::ranges::sort(all);
        auto repeated = std::ranges::unique(all);
        all.erase(repeated.begin(), repeated.end());
        if (row_->merged.size() + single_ >= no_set)
            return a; // more sets than are told apart
        auto [known, is_new] =
            known_.try_emplace(all, static_cast<std::uint16_t>(row_->merged.size()));
        if (is_new)
            row_->merged.push_back(std::move(all));
        return static_cast<std::uint16_t>(single_ + known->second);
    }

    std::vector<std::uint16_t> members(std::uint16_t set) const {
        if (set < single_)
            return {set};
        return row_->merged[set - single_];
    }

    // Networks come before routers of the same cost (RFC 2328 section 16.1).
    void push(std::uint32_t cost, std::uint32_t node) {
        queue_.push(cost << 1 | is_router_[node], node);
    }

    const Graph& graph_;
    const std::vector<bool>& dead_;
    std::vector<std::uint32_t> first_; // edge, by node, and the end
    std::vector<LocalEdge> edges_;
    std::vector<More> more_; // by edge
    std::vector<std::uint8_t> is_router_;
    std::uint32_t source_ = 0;
    std::size_t single_ = 0; // gates of the source
    Row* row_ = nullptr;
    CostQueue queue_;
    std::map<std::vector<std::uint16_t>, std::uint16_t> known_; // of row_->merged
    std::vector<std::uint32_t> touched_;
    std::vector<bool> affected_;
};

std::uint32_t OspfTables::node_in(MachineId machine, std::uint32_t component) const {
    for (std::uint32_t node : graph_->nodes_of[machine.row])
        if (graph_->nodes[node].component == component)
            return node;
    return nowhere;
}

std::uint32_t OspfTables::cost_between(std::uint32_t from, std::uint32_t to) const {
    return row(from).cost[graph_->nodes[to].local];
}

bool OspfTables::is_border(MachineId machine) const {
    const auto& nodes = graph_->nodes_of[machine.row];
    return nodes.size() > 1 && std::ranges::any_of(nodes, [&](std::uint32_t n) {
               return graph_->nodes[n].area == 0;
           });
}

// --- what is announced -----------------------------------------------------------------------

// The prefixes of the routers' own NICs, those of networks apart.
void OspfTables::add_intra() {
    for (const Interface& interface : graph_->interfaces)
        if (interface.node != nowhere && !interface.transit)
            graph_->intra.push_back({.prefix = numbers_->find(interface.prefix),
                                     .node = interface.node,
                                     .cost = interface.told->cost,
                                     .type = PathType::intra_area,
                                     .origin = interface.speaker->machine,
                                     .nic = interface.told->nic});
    std::ranges::stable_sort(graph_->intra, {}, &Advert::prefix);
    first_intra_.assign(numbers_->size() + 1, 0);
    for (const Advert& advert : graph_->intra)
        ++first_intra_[advert.prefix + 1];
    std::partial_sum(first_intra_.begin(), first_intra_.end(), first_intra_.begin());

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

// The shortest paths from every router of a component; those of large ones by several threads.
void OspfTables::find_rows(std::uint32_t component) {
    constexpr std::size_t few = 200;
    const auto& members = graph_->members[component];
    std::atomic<std::size_t> next = 0;
    auto work = [&] {
        ShortestPaths paths(*this);
        paths.enter(component);
        for (std::size_t i = next++; i < members.size(); i = next++)
            if (const Node& node = graph_->nodes[members[i]]; node.machine)
                rows_[members[i]] = std::make_shared<const Row>(paths.from(node));
    };
    std::vector<std::jthread> others;
    if (members.size() > few)
        for (unsigned n = 1; n < std::min(std::thread::hardware_concurrency(), 16U); ++n)
            others.emplace_back(work);
    work();
}

// Summaries by border routers (RFC 2328 section 12.4.3): of their other areas into the backbone,
// and of the backbone and their other areas into each area. Ranges stand for what they hold.
void OspfTables::add_inter() {
    inter_.clear();
    std::vector<MachineId> borders;
    for (MachineId id : lab_->machines.ids())
        if (is_border(id))
            borders.push_back(id);
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
                || (advert.nic && std::ranges::binary_search(dead_nics_, advert.nic)))
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
    // Into the other areas goes what the border routers now know of and by the backbone.
    std::size_t in_backbone = inter_.size();
    for (MachineId border : borders)
        for (std::uint32_t into : graph_->nodes_of[border.row]) {
            if (graph_->nodes[into].area == 0)
                continue;
            std::map<std::uint32_t, std::uint32_t> backbone;
            for (std::uint32_t of : graph_->nodes_of[border.row])
                if (graph_->nodes[of].area == 0)
                    backbone = summarised(border, 0, intra[of]);
            for (std::size_t i = 0; i < in_backbone; ++i) {
                std::uint32_t prefix = inter_[i].prefix;
                bool own = std::ranges::any_of(graph_->nodes_of[border.row], [&](std::uint32_t of) {
                    return intra[of].contains(prefix);
                });
                if (auto known = own ? std::nullopt : lesson(border, prefix))
                    backbone.emplace(prefix, known->metric);
            }
            for (auto [prefix, cost] : backbone)
                if (!intra[into].contains(prefix))
                    tell(border, into, prefix, cost);
        }
}

// Stub areas get a default route from their border routers in the place of externals.
void OspfTables::add_stub_defaults(std::vector<Advert>& into) const {
    for (MachineId id : lab_->machines.ids())
        if (is_border(id))
            for (std::uint32_t n : graph_->nodes_of[id.row])
                if (const Node& node = graph_->nodes[n]; node.speaker->ospf->is_stub(node.area))
                    into.push_back({.prefix = numbers_->find(net::Prefix::everything(family_)),
                                    .node = n,
                                    .cost = 1,
                                    .type = PathType::inter_area,
                                    .origin = id,
                                    .nic = {}});
}

void OspfTables::set_externals(std::vector<OspfExternal> externals) {
    std::ranges::sort(externals);
    externals_ = std::move(externals);
    add_externals();
    sort_adverts();
}

// To each component that hears of the router that announces it: by that itself if it is there,
// else by the border routers, which say how far it is from them (RFC 2328 section 12.4.3).
void OspfTables::add_externals() {
    external_.clear();
    if (externals_.empty())
        return;
    auto is_stub = [&](std::uint32_t component) {
        const Node& first = graph_->nodes[graph_->members[component].front()];
        for (std::uint32_t n : graph_->members[component])
            if (graph_->nodes[n].machine)
                return graph_->nodes[n].speaker->ospf->is_stub(first.area);
        return false;
    };
    std::vector<MachineId> borders;
    for (MachineId id : lab_->machines.ids())
        if (is_border(id))
            borders.push_back(id);
    struct Way {
        std::uint32_t node = 0;
        std::uint32_t cost = 0;
    };
    auto ways_to = [&](MachineId machine) {
        std::vector<Way> ways;
        std::vector<bool> has(graph_->members.size());
        for (std::uint32_t n : graph_->nodes_of[machine.row])
            if (!is_stub(graph_->nodes[n].component)) {
                ways.push_back({n, 0});
                has[graph_->nodes[n].component] = true;
            }
        // Into the backbone first, from there into the other areas.
        for (bool backbone : {true, false}) {
            std::vector<Way> more;
            for (MachineId border : borders) {
                std::uint32_t cost = nowhere;
                for (std::uint32_t n : graph_->nodes_of[border.row])
                    for (const Way& way : ways)
                        if (graph_->nodes[way.node].component == graph_->nodes[n].component
                            && cost_between(n, way.node) != nowhere)
                            cost = std::min(cost, cost_between(n, way.node) + way.cost);
                for (std::uint32_t n : graph_->nodes_of[border.row])
                    if (cost != nowhere && !has[graph_->nodes[n].component]
                        && (graph_->nodes[n].area == 0) == backbone
                        && !is_stub(graph_->nodes[n].component))
                        more.push_back({n, cost});
            }
            for (const Way& way : more)
                has[graph_->nodes[way.node].component] = true;
            ways.insert(ways.end(), more.begin(), more.end());
        }
        return ways;
    };
    std::vector<Way> ways;
    MachineId of;
    for (const OspfExternal& external : externals_) {
        if (external.machine != of)
            ways = ways_to(external.machine);
        of = external.machine;
        if (external_.size() > most_adverts) {
            too_large_ = true;
            return;
        }
        for (const Way& way : ways)
            external_.push_back(
                {.prefix = external.prefix,
                 .node = way.node,
                 .cost = external.type == 1 ? way.cost + external.metric : way.cost,
                 .metric = external.type == 1 ? 0 : external.metric,
                 .type = external.type == 1 ? PathType::external_1 : PathType::external_2,
                 .origin = external.machine,
                 .nic = {}});
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

// --- cuts ------------------------------------------------------------------------------------

bool OspfTables::reduce(const Condition& condition) {
    std::vector<std::uint32_t> lost; // interfaces
    for (std::uint32_t i = 0; i < graph_->interfaces.size(); ++i) {
        const Interface& interface = graph_->interfaces[i];
        if (is_live(*lab_, condition, interface.told->nic, family_)
            || std::ranges::binary_search(dead_nics_, interface.told->nic))
            continue;
        if (interface.node == nowhere || interface.transit)
            return false;
        lost.push_back(i);
    }
    if (lost.empty())
        return true;
    std::vector<std::uint32_t> gone;
    dead_.resize(graph_->edges.size());
    for (std::uint32_t i : lost) {
        const Interface& interface = graph_->interfaces[i];
        const Node& node = graph_->nodes[interface.node];
        dead_nics_.push_back(interface.told->nic);
        for (std::uint32_t e = node.first_edge; e < graph_->nodes[interface.node + 1].first_edge;
             ++e)
            if (graph_->gates[node.first_gate + graph_->edges[e].gate].out == interface.told->nic)
                for (std::uint32_t side : {e, graph_->edges[e].twin})
                    if (!dead_[side]) {
                        dead_[side] = true;
                        gone.push_back(side);
                    }
    }
    std::ranges::sort(dead_nics_);
    ShortestPaths paths(*this);
    for (std::uint32_t component = 0; component < graph_->members.size(); ++component) {
        std::vector<ShortestPaths::Gone> edges;
        for (std::uint32_t e : gone) {
            const Node& from = graph_->nodes[graph_->edges[graph_->edges[e].twin].to];
            if (from.component == component)
                edges.push_back(
                    {from.local, graph_->nodes[graph_->edges[e].to].local, graph_->edges[e].cost});
        }
        if (edges.empty())
            continue;
        paths.enter(component);
        for (std::uint32_t n : graph_->members[component])
            if (rows_[n] != nullptr)
                rows_[n] = paths.without(graph_->nodes[n], rows_[n], edges);
    }
    if (!inter_.empty())
        add_inter();
    if (!external_.empty())
        add_externals();
    sort_adverts();
    return true;
}

// --- lessons ---------------------------------------------------------------------------------

// True if the router is on the network itself.
bool OspfTables::is_on(std::uint32_t router, std::uint32_t network) const {
    if (graph_->nodes[network].machine)
        return false;
    for (std::uint32_t e = graph_->nodes[router].first_edge;
         e < graph_->nodes[router + 1].first_edge; ++e)
        if (graph_->edges[e].to == network)
            return true;
    return false;
}

const OspfTables::Advert* OspfTables::best(MachineId machine, std::uint32_t prefix,
                                           Lesson& lesson) const {
    const auto& own = graph_->nodes_of[machine.row];
    const Advert* found = nullptr;
    lesson = {.kind = RouteKind::ospf};
    auto rank = [](PathType type, std::uint32_t metric, std::uint32_t cost) {
        return std::tuple(type, metric, cost);
    };
    auto consider = [&](const Advert& advert) {
        std::uint32_t node = node_in(machine, graph_->nodes[advert.node].component);
        if (node == nowhere || (advert.nic && std::ranges::binary_search(dead_nics_, advert.nic)))
            return;
        if (advert.type == PathType::inter_area
            && (node == advert.node || (is_border(machine) && graph_->nodes[node].area != 0)))
            return; // RFC 2328 section 16.2: border routers believe the backbone alone
        std::uint32_t way = cost_between(node, advert.node);
        if (way == nowhere)
            return;
        if (advert.node == node && advert.origin == machine && advert.type != PathType::intra_area)
            return;
        auto own_rank = rank(advert.type, advert.metric, way + advert.cost);
        auto known = rank(lesson.type, lesson.type == PathType::external_2 ? lesson.metric : 0,
                          lesson.type == PathType::external_2 ? lesson.inner_cost : lesson.metric);
        if (found != nullptr && own_rank > known)
            return;
        if (found == nullptr || own_rank < known) {
            found = &advert;
            bool outer = advert.type == PathType::external_2;
            lesson = {.kind = RouteKind::ospf,
                      .type = advert.type,
                      .metric = outer ? advert.metric : way + advert.cost,
                      .inner_cost = way + advert.cost};
        }
        if (is_on(node, advert.node))
            return; // its own network
        const Row& ways = row(node);
        std::uint16_t set = ways.set[graph_->nodes[advert.node].local];
        const Node& here = graph_->nodes[node];
        if (set == no_set)
            return; // its own
        if (set < here.gate_count)
            return lesson.add_gate(here.first_gate + set);
        for (std::uint16_t gate : ways.merged[set - here.gate_count])
            lesson.add_gate(here.first_gate + gate);
    };
    if (own.empty())
        return nullptr;
    for (std::uint32_t i = first_intra_[prefix]; i < first_intra_[prefix + 1]; ++i)
        consider(graph_->intra[i]);
    if (found == nullptr)
        for (std::uint32_t i = first_other_[prefix]; i < first_other_[prefix + 1]; ++i)
            consider(other_[i]);
    return found;
}

std::optional<Lesson> OspfTables::lesson(MachineId machine, std::uint32_t prefix) const {
    Lesson lesson;
    if (best(machine, prefix, lesson) == nullptr || lesson.gate_count == 0)
        return std::nullopt;
    return lesson;
}

OspfTables::Source OspfTables::source(MachineId machine, std::uint32_t prefix) const {
    Lesson lesson;
    const Advert* advert = best(machine, prefix, lesson);
    if (advert == nullptr)
        return {};
    return {advert->origin, graph_->nodes[advert->node].area};
}

// --- tables for people -----------------------------------------------------------------------

void OspfTables::add_neighbours(std::vector<Neighbour>& into) const {
    auto add = [&](const Pair& pair, bool back) {
        const Interface& one = graph_->interfaces[back ? pair.b : pair.a];
        const Interface& other = graph_->interfaces[back ? pair.a : pair.b];
        into.push_back({.protocol = Protocol::ospf,
                        .family = family_,
                        .state = back ? pair.state_b : pair.state_a,
                        .discord = pair.discord,
                        .designated = back ? pair.a_designated : pair.b_designated,
                        .machine = one.speaker->machine,
                        .other = other.speaker->machine,
                        .nic = one.told->nic,
                        .other_nic = other.told->nic,
                        .filter = pair.filter});
    };
    auto is_dead = [&](std::uint32_t interface) {
        return std::ranges::binary_search(dead_nics_, graph_->interfaces[interface].told->nic);
    };
    for (const Pair& pair : graph_->pairs)
        if (!is_dead(pair.a) && !is_dead(pair.b))
            for (bool back : {false, true})
                add(pair, back);
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
                   && cost_between(own, advert.node) != nowhere
                   && !(advert.nic && std::ranges::binary_search(dead_nics_, advert.nic));
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
                add({.kind = external ? LinkState::Kind::external : LinkState::Kind::summary,
                     .origin = advert.origin,
                     .to = (*numbers_)[advert.prefix],
                     .cost = second ? advert.metric : advert.cost,
                     .type = static_cast<std::uint8_t>(!external ? 0
                                                       : second  ? 2
                                                                 : 1)});
            }
    }
}

} // namespace jackal::routing
