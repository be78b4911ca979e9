// OSPF of one address family: adjacencies, the link-state databases that they flood, and the
// shortest paths of every router through them (RFC 2328; RFC 5340 for IPv6).
//
// Nothing is kept for pairs of routers and prefixes, of which there may be hundreds of millions:
// each router has the cost and the next hops to every other router and network of its areas, and a
// route to a prefix is put together from those when it is asked for.
#pragma once

#include "jackal/limits.h"
#include "routing/protocol.h"

#include <algorithm>
#include <map>

namespace jackal::routing {

class OspfTables final : public ProtocolTables {
  public:
    /// No more than this is worked out, so that no plan exhausts the computer: machines on one
    /// segment that are looked at, pairs of neighbours, pairs of routers in one area, summaries and
    /// external routes.
    static constexpr std::size_t most_on_segment = limits::speakers_on_segment;
    static constexpr std::size_t most_pairs = limits::ospf_pairs;
    static constexpr std::size_t most_row_entries = limits::ospf_ways;
    static constexpr std::size_t most_adverts = limits::ospf_adverts;

    OspfTables(const lab::Lab& lab, const PrefixNumbers& numbers, net::Family family)
        : lab_(&lab), numbers_(&numbers), family_(family) {}

    /// Works everything out but external routes.
    void form(const Condition& condition, const lab::Wiring& wiring);
    /// The same under a condition in which no more works than in that of `form`. False, and no
    /// change, if more than point-to-point adjacencies have gone, if there are several areas, or if
    /// router ids or addresses may be repeated no more.
    bool reduce(const Condition& condition);
    Protocol protocol() const override { return Protocol::ospf; }
    bool serves(net::Family family) const override { return family == family_; }
    /// Routes from outside OSPF, which it announces as external.
    void settle(std::vector<Injection> externals, const Surroundings& surroundings) override;
    bool is_settled_alone() const override { return true; }
    std::unique_ptr<ProtocolTables> reduced(const Condition& condition) const override;

    /// True if the lab has more than is worked out; what is left out is missing in all tables.
    bool is_too_large() const override { return too_large_; }

    const std::vector<Gate>& gates() const override {
        return forwards_.empty() ? graph_->gates : gates_;
    }
    std::optional<Lesson> lesson(lab::MachineId machine, std::uint32_t prefix) const override;
    void add_traits(std::uint32_t prefix, std::vector<std::uint64_t>& into) const override;
    bool add_changes(const ProtocolTables& before, std::vector<LessonChange>& into) const override;
    std::vector<Offer> offers(lab::MachineId machine, std::uint32_t prefix) const override;
    /// What leads to the best lesson: who announced it, and in which area.
    struct Source {
        lab::MachineId origin;
        std::uint32_t area = 0;
    };
    Source source(lab::MachineId machine, std::uint32_t prefix) const;

    void add_neighbours(std::vector<Neighbour>& into) const override;
    bool add_lost_neighbours(const ProtocolTables& before,
                             std::vector<Neighbour>& into) const override;
    void add_link_states(lab::MachineId machine, std::vector<LinkState>& into) const override;

  private:
    static constexpr std::uint32_t nowhere = ~std::uint32_t{0}; // no node, or no way there
    static constexpr std::uint16_t no_set = 0xffff;

    struct Interface {
        const lab::Speaker* speaker = nullptr;
        const lab::OspfNic* told = nullptr;
        net::Address address; ///< that it sends from
        net::Prefix prefix;
        std::uint32_t domain = 0;
        std::uint32_t node = nowhere;
        bool transit = false; ///< joined to a network with a designated router, which announces it
    };
    struct Pair { ///< two interfaces that hear each other, or could
        std::uint32_t a = 0;
        std::uint32_t b = 0;
        NeighbourState state_a = NeighbourState::down; ///< of b, as a sees it
        NeighbourState state_b = NeighbourState::down;
        Discord discord = Discord::none;
        lab::FilterId filter;
        bool a_designated = false;
        bool b_designated = false;
    };
    /// A pair, as one of the two sees it.
    struct Sight {
        std::uint32_t pair = 0;
        bool back = false; ///< b sees a
    };
    /// A virtual link, as one of its ends has it.
    struct VirtualLink {
        const lab::Speaker* speaker = nullptr;
        const lab::OspfVirtualLink* told = nullptr;
        NeighbourState state = NeighbourState::down;
        Discord discord = Discord::none;
        lab::NicId nic; ///< the first in its area, here and there
        lab::NicId other_nic;
    };
    /// A router in an area, or a network with a designated router.
    struct Node {
        lab::MachineId machine; ///< none for a network
        std::uint32_t area = 0;
        std::uint32_t component = 0; ///< whoever has the same database
        std::uint32_t local = 0;     ///< its number in the component
        std::uint32_t first_edge = 0;
        std::uint32_t first_gate = 0;
        std::uint32_t gate_count = 0;
        const lab::Speaker* speaker = nullptr;
    };
    struct Edge {
        std::uint32_t to = 0;
        std::uint32_t cost = 0;
        std::uint32_t twin = 0; ///< the edge back
        /// The next hop; to a network: that to its first member, after which come those to the
        /// others, and for IPv6 a direct one.
        std::uint32_t gate = 0;
    };
    struct Advert {
        std::uint32_t prefix = 0;
        std::uint32_t node = 0;
        std::uint32_t cost = 0;   ///< from the node on
        std::uint32_t metric = 0; ///< of external 2: outside
        PathType type = PathType::intra_area;
        lab::MachineId origin; ///< of externals: who announces it
        lab::NicId nic;        ///< of intra-area: whose prefix it is, none for a network
        /// Of externals: the position of the forwarding address, or nowhere; `cost` then counts
        /// from that on.
        std::uint32_t forward = nowhere;

        friend bool operator==(const Advert&, const Advert&) = default;
    };
    struct Unheard { ///< a NIC that could have a neighbour which does not speak there
        lab::NicId nic;
        lab::NicId other;
    };
    /// What does not change when adjacencies go.
    struct Graph {
        explicit Graph(const Condition& made_under) : condition(made_under) {}

        Condition condition;
        std::vector<Interface> interfaces;
        std::vector<std::pair<lab::NicId, std::uint32_t>> interface_of; ///< by NIC
        std::vector<Pair> pairs;
        std::vector<Sight> sights; ///< by machine and NIC
        std::vector<Unheard> unheard;
        std::vector<Node> nodes; ///< and one more, for the end of the edges
        std::vector<Edge> edges; ///< by node
        std::vector<Gate> gates; ///< by node
        std::vector<std::vector<std::uint32_t>> nodes_of; ///< by machine
        std::vector<std::vector<std::uint32_t>> members;  ///< by component
        std::vector<Advert> intra;                        ///< by prefix
        std::vector<VirtualLink> virtual_links;
        std::vector<bool> transits;  ///< by component: virtual links go through; or empty
        bool has_dead_edges = false; ///< from the start: by repeated ids, or one way only
    };
    /// The ways of one router through its component.
    struct Row {
        std::vector<std::uint32_t> cost;                ///< by local number
        std::vector<std::uint16_t> set;                 ///< the same: of gates
        std::vector<std::vector<std::uint16_t>> merged; ///< sets of several, after the single ones
    };
    class ShortestPaths;

    void add_interfaces(const Condition& condition, const lab::Wiring& wiring);
    void add_pairs(const Condition& condition);
    void order_sights();
    Neighbour seen(const Sight& sight) const;
    /// True of a NIC whose prefixes are announced no more.
    bool is_dead(lab::NicId nic) const { return std::ranges::binary_search(dead_nics_, nic); }
    void part_crowds();
    bool is_own_address(const Condition& condition, const Interface& one,
                        const Interface& other) const;
    Pair judged(std::uint32_t a, std::uint32_t b, const Condition& condition) const;
    void add_unheard(const Condition& condition, const lab::Wiring& wiring);
    std::uint32_t add_node(const lab::Speaker& speaker, std::uint32_t area);
    void add_nodes();
    void join();
    void join_one_way();
    bool is_mixed(const Pair& pair) const;
    bool comes_before(std::uint32_t interface, std::uint32_t other) const;
    std::vector<std::uint32_t> heard_point_to_point() const;
    void elect(std::span<const std::uint32_t> group, const std::vector<std::uint32_t>& heard);
    std::vector<std::uint32_t> prefixes_of(const Interface& interface) const;
    std::vector<std::uint32_t> prefixes_of_network(std::uint32_t designated,
                                                   std::span<const std::uint32_t> tellers) const;
    bool is_local_address(std::uint32_t prefix) const;
    void lay_out();
    void lay_edges();
    void drop_repeated_ids();
    void number_components();
    void find_rows();
    void find_rows(std::uint32_t component);
    void add_intra();
    void judge_virtual_links(const Condition& condition);
    void add_virtual_links();
    void add_virtual_ends();
    bool leads_into(lab::MachineId machine, const Lesson& lesson, std::uint32_t area) const;
    void adjust_to_transit(lab::MachineId border, const Node& into,
                           std::map<std::uint32_t, std::uint32_t>& costs) const;
    std::uint32_t node_of_area(lab::MachineId machine, std::uint32_t area) const;
    bool is_transit(std::uint32_t component) const {
        return !graph_->transits.empty() && graph_->transits[component];
    }
    bool goes_through(std::uint32_t from, std::uint32_t to, std::uint32_t area) const;
    std::vector<Gate> gates_to(std::uint32_t from, std::uint32_t to) const;
    void add_inter();
    void add_stub_defaults(std::vector<Advert>& into) const;
    void add_externals();
    void sort_adverts();

    bool has_borders() const;
    static lab::AreaKind kind_of(const Node& router) {
        return router.speaker->ospf->kind_of(router.area);
    }
    const Edge* edge_onto(std::uint32_t router, std::uint32_t network) const;
    bool summarises(lab::MachineId machine, std::uint32_t prefix) const;
    bool has_prefix(std::uint32_t router, const Edge& onto, std::uint32_t prefix) const;
    std::uint32_t members_of(std::uint32_t network) const {
        return graph_->nodes[network + 1].first_edge - graph_->nodes[network].first_edge;
    }
    bool is_border(lab::MachineId machine) const;
    std::vector<lab::MachineId> border_routers() const;
    std::uint32_t node_in(lab::MachineId machine, std::uint32_t component) const;
    std::uint32_t cost_between(std::uint32_t from, std::uint32_t to) const;
    const Row& row(std::uint32_t node) const { return *rows_[node]; }
    struct MovedNode {
        std::uint32_t node = 0;
        bool has_other_gates = false; ///< or a way at all; else it costs something else
    };
    std::vector<std::uint32_t> lost_interfaces(const Condition& condition) const;
    std::vector<MovedNode> moved_nodes(std::uint32_t source, const OspfTables& before) const;
    std::uint32_t count_adverts(std::uint32_t prefix) const;
    void mark_changed(const OspfTables& before, std::vector<bool>& prefixes) const;
    class Choice;
    const Advert* best_inside(lab::MachineId machine, std::uint32_t prefix, Lesson& lesson) const;
    const Advert* best(lab::MachineId machine, std::uint32_t prefix, Lesson& lesson) const;
    /// A way inside OSPF to a forwarding address.
    struct Onward {
        Lesson lesson;
        std::uint32_t area = 0;
    };
    std::optional<Onward> way_to_forward(lab::MachineId machine, std::uint32_t forward) const;
    template <class Use>
    void each_advert(std::uint32_t prefix, Use use) const;
    template <class Use>
    void each_prefix_around(net::Address address, Use use) const;
    /// A route from outside, and who announces it.
    struct External {
        std::uint32_t prefix = 0;
        lab::MachineId origin;
        std::uint32_t metric = 0;
        std::uint8_t type = 2;
        std::optional<net::Address> forward;
        std::uint32_t nssa = nowhere; ///< the node that announces it into an NSSA, and nowhere else
        bool leaves_nssa = false;     ///< is to be translated (the P-bit of RFC 3101)
    };
    std::vector<External> brought_in() const;
    std::vector<External> translated(const std::vector<External>& externals) const;
    bool is_own_on_broadcast(lab::MachineId machine, net::Address address) const;
    lab::MachineId translator_of(std::uint32_t component) const;
    std::optional<net::Address> forward_of(const Injection& external) const;
    std::optional<net::Address> forward_in_nssa(const Node& router) const;
    void find_forwards(const std::vector<External>& externals);
    std::uint32_t number_of(const std::optional<net::Address>& forward) const;
    struct Way { ///< by which a component hears of a router, and how far that is from there
        std::uint32_t node = 0;
        std::uint32_t cost = 0;
    };
    std::vector<Way> ways_to(lab::MachineId machine,
                             const std::vector<lab::MachineId>& borders) const;

    const lab::Lab* lab_;
    const PrefixNumbers* numbers_;
    net::Family family_;
    std::shared_ptr<Graph> graph_;
    std::vector<bool> dead_;                       // by edge, in the end empty if none is
    std::vector<lab::NicId> dead_nics_;            // whose prefixes are announced no more, in order
    std::vector<std::shared_ptr<const Row>> rows_; // by node; null for networks
    std::vector<Advert> inter_;                    // summaries
    std::vector<Advert> external_;
    std::vector<std::uint32_t> first_intra_; // by prefix, in graph_->intra
    std::vector<std::uint32_t> first_other_; // by prefix, in other_
    std::vector<Advert> other_;              // summaries and externals, by prefix
    std::vector<Injection> externals_;       // by machine
    std::vector<net::Address> forwards_;     // forwarding addresses of externals, ascending
    std::vector<Gate> gates_; // those of graph_, then those straight to forwarding addresses
    struct StraightGate {
        lab::MachineId machine;
        std::uint32_t cost = 0; // of its NIC
        std::uint32_t gate = 0;
    };
    std::vector<std::vector<StraightGate>> straight_; // by forwarding address
    bool too_large_ = false;

    // Only while it forms.
    struct Joint {
        std::uint32_t from = 0;
        std::uint32_t to = 0;
        std::uint32_t cost = 0;
        std::uint32_t back_cost = 0;
        std::uint32_t from_interface = nowhere;
        std::uint32_t to_interface = nowhere;
        bool one_way = false;
        std::optional<Gate> gate; ///< of a virtual link
    };
    std::vector<Joint> joints_;
};

} // namespace jackal::routing
