// What routing protocols taught every machine, under one condition, once they have converged.
//
//     for (const routing::Neighbour& n : settled.lessons()->neighbours())
//         if (n.discord != routing::Discord::none) …
//
// Each protocol is worked out from what each machine would hear: OSPF (RFC 2328, RFC 5340) from the
// link states that adjacencies flood, RIP (RFC 2453, RFC 2080) and BGP (RFC 4271, RFC 4760) from
// what neighbours announce. Next hops of OSPF and RIP for IPv6 are link-local addresses, as the
// kernel makes them from MACs (net::link_local_address).
#pragma once

#include "jackal/api.h"
#include "jackal/lab/lab.h"
#include "jackal/routing/condition.h"

#include <array>
#include <memory>

namespace jackal::routing {

class PrefixNumbers;
class ProtocolTables;

/// Where a route comes from, those of the smallest distance first.
enum class RouteKind : std::uint8_t {
    local,        ///< an address of the machine itself
    broadcast,    ///< the broadcast address of a connected IPv4 prefix
    connected,    ///< the prefix of an address on a NIC that is up
    static_route, ///< from the plan
    bgp_outer,    ///< from a neighbour of another AS
    ospf,
    rip,
    bgp_inner, ///< from a neighbour of the same AS
};

/// "local", "broadcast", "connected", "static", "bgp", "ospf", "rip" or "bgp".
JACKAL_API std::string_view to_string(RouteKind kind);

/// What decides between routes to one prefix from different sources, the smallest wins: connected
/// 0, static 1, BGP from another AS 20, OSPF 110, RIP 120, BGP from the same AS 200.
JACKAL_API unsigned administrative_distance(RouteKind kind);

/// True for what protocols taught.
constexpr bool is_learned(RouteKind kind) {
    return kind >= RouteKind::bgp_outer;
}

/// How far two neighbours have got, in any protocol; what that protocol calls it: state_name().
enum class NeighbourState : std::uint8_t {
    down,     ///< nothing that counts is heard
    init,     ///< heard, but the other does not hear this one
    two_way,  ///< OSPF: both hear each other, and need exchange nothing
    exchange, ///< OSPF: the exchange of databases does not come to an end
    full,     ///< they exchange routes
};

/// Why two that could be neighbours are not.
enum class Discord : std::uint8_t {
    none,
    not_spoken,   ///< the other does not speak the protocol on that segment
    passive,      ///< one of the two is passive there
    filtered,     ///< a filter drops what one of them sends
    area,         ///< OSPF: two areas
    hello,        ///< OSPF: two hello intervals
    dead,         ///< OSPF: two dead intervals
    prefix,       ///< OSPF on a broadcast network: two masks, or addresses apart (IPv4)
    own_address,  ///< OSPF and RIP: the other's address is one of the machine's own too
    stub,         ///< OSPF: only one takes the area for a stub
    router_id,    ///< both have the same router id
    no_router_id, ///< one of them has none
    network_type, ///< OSPF: point-to-point here, broadcast there
    mac,          ///< one shares its MAC: OSPF loses what is sent to one alone, and RIP for IPv6
                  ///< takes the other for itself
    broadcast_address, ///< OSPF: the address of one is the broadcast address there
    mtu,               ///< OSPF: the databases are exchanged in packets that one side refuses
    no_designated,     ///< OSPF: nobody on the segment may be designated router
    as_number,         ///< BGP: one expects another AS than the other is in
    not_configured,    ///< BGP, virtual links: the other does not name this one as neighbour
    other_address,     ///< BGP: the other expects the session at another address
    not_adjacent,      ///< BGP: of another AS, and not on a shared subnet
    no_way,            ///< BGP: packets do not get from one to the other; virtual links: no path
    shut,              ///< BGP: one side is told to keep the session down
    cut,               ///< the condition cuts what the two tell each other
};

/// A stable slug: "area", "hello-interval", …; empty for none.
JACKAL_API std::string_view slug(Discord discord);

/// What one machine sees of another that it could exchange routes with, in one address family.
struct Neighbour {
    Protocol protocol = Protocol::ospf;
    net::Family family = net::Family::ipv4;
    NeighbourState state = NeighbourState::down;
    Discord discord = Discord::none;
    bool designated = false;      ///< OSPF: the neighbour is the designated router of the segment
    lab::MachineId machine;       ///< who sees
    lab::MachineId other;         ///< whom; none if nobody has the address (BGP)
    lab::NicId nic;               ///< OSPF and RIP
    lab::NicId other_nic;         ///< OSPF and RIP
    lab::FilterId filter;         ///< of filtered: which drops
    std::uint32_t configured = 0; ///< BGP: the position among the machine's neighbours
    /// OSPF: of a virtual link the area that it goes through; its NICs are the first there.
    std::optional<std::uint32_t> transit{};
};

/// Of OSPF the neighbour state (RFC 2328 section 10.1): "Down", "Init", "2-Way", "Exchange" or
/// "Full". Of BGP the session state (RFC 4271 section 8.2.2): "Established"; "Idle" where one side
/// keeps it down, or ends it as what the other says of itself is not as configured; "Active" where
/// no connection comes about. RIP has neither: "heard" or "not heard".
JACKAL_API std::string_view state_name(const Neighbour& neighbour);

/// A next hop.
struct Gate {
    lab::NicId out;
    net::Address via; ///< unspecified (RFC 4291 section 2.5.2): the destination itself is there

    /// True if packets go to their destination directly, as to a connected prefix: one that others
    /// on the segment have, and the NIC has not (OSPF for IPv6).
    bool is_direct() const { return via == net::Prefix::everything(via.family()).first(); }

    friend auto operator<=>(const Gate&, const Gate&) = default;
};

/// How OSPF came to a route, the preferred first (RFC 2328 section 11).
enum class PathType : std::uint8_t { none, intra_area, inter_area, external_1, external_2 };

/// "intra-area", "inter-area", "external 1" or "external 2"; empty for none.
JACKAL_API std::string_view to_string(PathType type);

/// A path as BGP announces it (RFC 4271 section 4.3).
struct Path {
    std::vector<std::uint32_t> as_path; ///< the nearest first
    net::Address next_hop;
    bool is_linked = false; ///< a link-local address is told with it (RFC 2545 section 3)
    std::uint32_t local_preference = 100;
    std::uint32_t med = 0;
    bool incomplete = false;                  ///< origin: redistributed (true) or of `networks`
    std::vector<plan::Community> communities; ///< ascending
    /// Of one that was reflected (RFC 4456): the router id of who brought it into the AS, and the
    /// cluster ids of those who reflected it, the nearest first.
    std::optional<net::Address> originator;
    std::vector<net::Address> clusters;

    friend bool operator==(const Path&, const Path&) = default;
};

/// Which step of the decision process set a path apart from the best one (RFC 4271 section 9.1).
enum class Decision : std::uint8_t {
    best,
    unreachable, ///< no way to its next hop
    own,         ///< the machine's own, which its table uses, comes first (RFC 4271 section 9.1.3)
    local_preference,
    as_path_length,
    origin,
    med,
    outer, ///< from another AS before from the same
    next_hop_cost,
    router_id,
    cluster_list, ///< reflected less often (RFC 4456 section 9)
    peer_address,
};

/// "best", "no way to the next hop", "lower local preference", …
JACKAL_API std::string_view to_string(Decision decision);

/// A route that a protocol has for a machine, whether or not the machine uses it.
struct Offer {
    net::Prefix to;
    RouteKind kind = RouteKind::ospf;
    std::uint32_t metric = 0; ///< OSPF: cost (of external 2 that outside); RIP: hops; BGP: MED
    std::vector<Gate> gates;  ///< its next hops; none for a path of BGP that leads nowhere
    PathType type = PathType::none; ///< OSPF
    std::uint32_t area = 0;         ///< OSPF
    lab::MachineId from; ///< who announced it: OSPF the origin, RIP and BGP the neighbour
    Path path;           ///< BGP
    Decision lost_by = Decision::best; ///< BGP
};

/// One announcement of a link-state database (RFC 2328 section 12).
struct LinkState {
    enum class Kind : std::uint8_t { router, network, summary, external, nssa };
    Kind kind = Kind::router;
    net::Family family = net::Family::ipv4;
    std::uint32_t area = 0;
    lab::MachineId origin;
    net::Prefix to;           ///< of network, summary and external; and of router with `stub`
    lab::MachineId neighbour; ///< of router: who it leads to; none for its own prefixes
    std::uint32_t cost = 0;
    std::uint8_t type = 0; ///< of external: 1 or 2
    /// Of external: the forwarding address, by which others go there rather than by the origin.
    std::optional<net::Address> forward;
};

/// "router", "network", "summary", "external" or "nssa" (type 7, RFC 3101).
JACKAL_API std::string_view to_string(LinkState::Kind kind);

/// Routers whose choices do not settle, or not always in the same way.
struct Dispute {
    enum class Kind : std::uint8_t {
        endless,   ///< they change for ever: each choice makes another one better
        by_turns,  ///< they settle if they take turns, the first of them first; who came first is
                   ///< luck
        by_policy, ///< the same, as their policies prefer each other's paths of BGP
        /// What the first hears of by BGP leads what it sends to the others elsewhere; those are
        /// its neighbours on one segment, so the sessions with them come and go.
        takes_sessions,
        too_large, ///< there are so many speakers that nothing was settled to the end
    };
    Kind kind = Kind::endless;
    net::Prefix to;
    std::vector<lab::MachineId> machines; ///< in the order that they change
    /// Where chance decides: the next hop by which each of them goes in the state that is taken,
    /// and in the one that stays as well; unset: by no other machine.
    struct Standing {
        lab::MachineId machine;
        std::optional<net::Address> taken;
        std::optional<net::Address> other;
    };
    std::vector<Standing> standings; ///< of those that differ; empty if no other state was found
};

/// At most so many equal-cost next hops are used together.
constexpr std::size_t most_gates = 16;

/// What a machine learned for a prefix.
struct Lesson {
    RouteKind kind = RouteKind::ospf;
    PathType type = PathType::none;
    std::uint32_t metric = 0;
    std::uint32_t inner_cost = 0; ///< of external 2: the cost to who announced it
    std::uint8_t gate_count = 0;
    std::array<std::uint32_t, most_gates> gates{}; ///< positions in Learned::gates

    void add_gate(std::uint32_t gate);
};

/// A machine and a prefix for which lessons may differ.
struct LessonChange {
    lab::MachineId machine;
    std::uint32_t prefix = 0; ///< its number
    /// It learns the same for all prefixes that had the same traits (Learned::add_traits) before,
    /// and for which the same is told.
    bool is_alike = false;
};

/// What protocols taught. Refers to its lab, which must outlive it. It never changes, so threads
/// may share one.
class JACKAL_API Learned {
  public:
    /// From nothing. `numbers` are those of the same lab.
    Learned(const lab::Lab& lab, const Condition& condition, const lab::Wiring& wiring,
            std::shared_ptr<const PrefixNumbers> numbers);
    Learned(const lab::Lab&& lab, const Condition& condition, const lab::Wiring& wiring,
            std::shared_ptr<const PrefixNumbers> numbers) = delete;
    /// From what was known before, under a condition that differs: only what that changes is worked
    /// out anew. The result is the same as from nothing.
    Learned(const Learned& before, const Condition& known_under, const Condition& condition,
            const lab::Wiring& wiring);
    Learned(Learned&&) noexcept;
    Learned& operator=(Learned&&) noexcept;
    ~Learned();

    /// True if any protocol may teach the machine something.
    bool teaches(lab::MachineId machine) const {
        return machine.row < teaches_.size() && teaches_[machine.row];
    }
    /// The best that protocols have for exactly the prefix of that number.
    std::optional<Lesson> lesson(lab::MachineId machine, std::uint32_t prefix) const;
    /// What tells the prefix of that number from others for which a machine has other gates.
    void add_traits(std::uint32_t prefix, std::vector<std::uint64_t>& into) const;
    /// Where lessons may differ from those `before`, by another condition of the same lab; nothing
    /// if that is not known, and any may.
    std::optional<std::vector<LessonChange>> changes(const Learned& before) const;
    /// The prefixes by number.
    const std::shared_ptr<const PrefixNumbers>& numbers() const { return numbers_; }
    /// All next hops of all lessons.
    const std::vector<Gate>& gates() const { return gates_; }

    /// All that protocols have for a machine, by prefix, then by distance, the best first.
    std::vector<Offer> offers(lab::MachineId machine) const;
    /// Of the machine's link-state databases, or of all machines that have one.
    std::vector<LinkState> link_states(lab::MachineId machine) const;
    /// What the machine announces to the neighbour, by prefix: RIP with its hops, BGP with paths.
    std::vector<Offer> announced(const Neighbour& neighbour) const;

    /// By protocol, machine, family and NIC.
    std::vector<Neighbour> neighbours() const;
    /// Those that are none any more, if nobody has others than before; nothing if that would have
    /// to be found by comparing all.
    std::optional<std::vector<Neighbour>> lost_neighbours(const Learned& before) const;
    /// Protocols that do not come to rest.
    const std::vector<Dispute>& disputes() const { return disputes_; }

  private:
    void settle(const Condition& condition, const lab::Wiring& wiring);

    const lab::Lab* lab_;
    std::shared_ptr<const PrefixNumbers> numbers_;
    std::vector<bool> teaches_;                           // by machine; empty if nobody speaks
    std::vector<Gate> gates_;                             // those of the tables, one after another
    std::vector<std::unique_ptr<ProtocolTables>> tables_; // by protocol; OSPF has two, by family
    std::vector<Dispute> disputes_;
};

/// Works out what protocols teach the machines of one lab, under one condition after another.
/// Refers to the lab, which must outlive it. Threads may share one.
class JACKAL_API Tables {
  public:
    explicit Tables(const lab::Lab& lab);
    explicit Tables(const lab::Lab&& lab) = delete;

    std::shared_ptr<const Learned> learn(const Condition& condition) const;
    /// The same, from what was known under another condition: see Learned.
    std::shared_ptr<const Learned> learn_again(const Learned& before, const Condition& known_under,
                                               const Condition& condition) const;

  private:
    const lab::Lab* lab_;
    std::shared_ptr<const PrefixNumbers> numbers_;
};

} // namespace jackal::routing
