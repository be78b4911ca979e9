#include "jackal/sorted.h"
#include "routing/ospf/ospf.h"

#include "routing/neighbour.h"

#include <algorithm>
#include <array>
#include <atomic>
#include <bit>
#include <map>
#include <thread>

namespace jackal::routing {

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
        sort_unique(all);
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

std::uint32_t OspfTables::cost_between(std::uint32_t from, std::uint32_t to) const {
    return row(from).cost[graph_->nodes[to].local];
}

bool OspfTables::has_borders() const {
    return std::ranges::any_of(graph_->nodes_of,
                               [](const auto& nodes) { return nodes.size() > 1; });
}

std::unique_ptr<ProtocolTables> OspfTables::reduced(const Condition& condition) const {
    auto tables = std::make_unique<OspfTables>(*this);
    return tables->reduce(condition) ? std::move(tables) : nullptr;
}

// Those that speak no more.
std::vector<std::uint32_t> OspfTables::lost_interfaces(const Condition& condition) const {
    std::vector<std::uint32_t> lost;
    each_changed_carrier(*lab_, graph_->condition, condition, [&](lab::NicId nic) {
        const auto found = std::ranges::lower_bound(graph_->interface_of, std::pair(nic, 0U));
        if (found != graph_->interface_of.end() && found->first == nic
            && !is_live(*lab_, condition, nic, family_) && !is_dead(nic))
            lost.push_back(found->second);
    });
    sort_unique(lost);
    return lost;
}

bool OspfTables::reduce(const Condition& condition) {
    if (std::ranges::any_of(graph_->pairs, [&](const Pair& pair) {
            return (pair.discord == Discord::network_type && !is_mixed(pair))
                   || (pair.discord == Discord::own_address
                       && !is_own_address(condition, graph_->interfaces[pair.a],
                                          graph_->interfaces[pair.b]));
        }))
        return false;
    const std::vector<std::uint32_t> lost = lost_interfaces(condition);
    if (std::ranges::any_of(lost, [&](std::uint32_t i) {
            return graph_->interfaces[i].node == nowhere || graph_->interfaces[i].transit;
        }))
        return false;
    if (!lost.empty() && (graph_->has_dead_edges || has_borders()))
        return false;
    externals_.clear(); // they are settled anew: chance may decide by what comes first
    external_.clear();
    forwards_.clear();
    sort_adverts();
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
    return true;
}

} // namespace jackal::routing
