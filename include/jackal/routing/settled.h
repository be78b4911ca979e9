// What each machine knows under one condition: its route table, ready to forward by.
//
//     routing::Settled settled = routing::settle(lab);              // as the plan says
//     routing::Condition cut(lab);
//     cut.cut(lab, "quay-r1/eth2");
//     routing::Settled without = routing::settle(lab, cut);
//
// A Settled refers to its Lab, which must outlive it. Building it is O(n log n) in the number of
// routes. It is made for asking the way of one destination of many machines in a row: aim() does
// one longest-prefix match over all prefixes that any machine has a route for, and hop() then costs
// an array access at a machine with a large table, and a short search at one with a small table.
// Route tables in words (routes(), route()) are worked out anew from the lab at each call.
#pragma once

#include "jackal/api.h"
#include "jackal/lab/lab.h"
#include "jackal/lab/wiring.h"
#include "jackal/net/prefix_table.h"

namespace jackal::routing {

/// What is off, down or cut, on top of what the plan itself says.
class JACKAL_API Condition {
  public:
    /// The condition that the plan describes.
    explicit Condition(const lab::Lab& lab);

    /// Cuts `MACHINE` (off), `MACHINE/NIC` (down) or `MACHINE--MACHINE` (every link between the
    /// two down, tunnels too) or `SITE--SITE` (their peering); with a switch for a machine the
    /// same, `SWITCH/PORT:VLAN` for one VLAN of a trunk, and `MACHINE/WIRE` for a wire of a bond.
    /// False, and no change, if the lab has no such thing.
    bool cut(const lab::Lab& lab, std::string_view what);

    bool machine_on(lab::MachineId id) const { return machine_on_[id.row]; }
    bool nic_up(lab::NicId id) const { return nic_up_[id.row]; }
    bool link_up(lab::LinkId id) const { return link_up_[id.row]; }
    const lab::WiringState& wiring() const { return wiring_; }
    /// True if the NIC is up and speaks the family: IPv6 needs an MTU of 1280 (RFC 8200 section 5).
    bool carries(const lab::Lab& lab, lab::NicId nic, net::Family family) const;

  private:
    bool cut_links(const lab::Lab& lab, std::string_view one, std::string_view other);
    bool cut_switch(const lab::Lab& lab, lab::SwitchId owner, std::string_view port);
    bool cut_wire(const lab::Lab& lab, lab::MachineId machine, std::string_view wire);

    std::vector<bool> machine_on_;
    std::vector<bool> nic_up_;
    std::vector<bool> link_up_;
    lab::WiringState wiring_;
};

enum class RouteKind : std::uint8_t {
    local,       ///< an address of the machine itself
    broadcast,   ///< the broadcast address of a connected IPv4 prefix
    connected,   ///< the prefix of an address on a NIC that is up
    static_route ///< from the plan
};

/// "local", "broadcast", "connected" or "static".
JACKAL_API std::string_view to_string(RouteKind kind);

struct Route {
    net::Prefix to;
    RouteKind kind = RouteKind::connected;
    lab::NicId out;        ///< the NIC packets leave by; for local routes the NIC with the address
    net::Address via;      ///< the next hop of a static route; elsewhere unused
    lab::AddressId source; ///< what the machine itself sends from by this route
    std::uint32_t metric = 0;
    lab::RouteId written; ///< the lab's static route, or none
};

/// Why a static route of the plan does not exist on a machine.
enum class Refusal : std::uint8_t {
    next_hop_off_link,     ///< the next hop is on no connected prefix of a NIC that is up
    next_hop_is_own,       ///< IPv6: the next hop is an address of the machine itself
    next_hop_is_routed,    ///< IPv6: an earlier static route covers the next hop more closely
    next_hop_is_broadcast, ///< the next hop is the broadcast address of a connected prefix
    repeated,              ///< an earlier or connected route has the same prefix and metric
};

struct RefusedRoute {
    lab::RouteId written;
    lab::MachineId machine;
    Refusal why = Refusal::next_hop_off_link;
};

/// Where one or more routes of a machine lead. 24 bytes, as there are several for each NIC.
struct Hop {
    lab::NicId out;
    lab::NicId neighbour;   ///< static: the NIC that answers for the next hop, if exactly one does
    lab::MachineId machine; ///< of the neighbour
    lab::AddressId source;  ///< what the machine itself sends from this way
    lab::RouteId written;   ///< static: the first route of the lab that leads this way
    std::uint16_t mtu_bytes = 0;           ///< of `out`
    RouteKind kind = RouteKind::connected; ///< static_route: to a next hop; connected: directly
    bool neighbour_takes_less : 1 = false; ///< the neighbour's MTU is smaller than that of `out`
    bool source_is_shared : 1 = false;     ///< another machine has the address of `source` too
    bool is_tunnel : 1 = false;            ///< `out` is the end of one
};

/// A destination, looked up once for all machines.
struct Aim {
    net::Address address;
    std::uint32_t prefix = net::PrefixTable::none; ///< the longest that any machine has a route for
    std::span<const lab::Owner> owners;            ///< who has the address
    bool is_broadcast = false; ///< the broadcast address of some IPv4 prefix in the lab
};

class JACKAL_API Settled {
  public:
    const lab::Lab& lab() const { return *lab_; }
    const Condition& condition() const { return condition_; }

    /// True if the machine is on and the NIC up.
    bool is_usable(lab::NicId nic) const {
        return condition_.nic_up(nic) && condition_.machine_on(lab_->nics[nic].machine);
    }

    /// Who hears whom.
    const lab::Wiring& wiring() const { return wiring_; }
    /// True if two NICs hear each other when both are up.
    bool hears(lab::NicId one, lab::NicId other) const {
        return wiring_.domain(*lab_, one) == wiring_.domain(*lab_, other);
    }

    /// All routes of a machine by prefix, best first where they cover the same one.
    std::vector<Route> routes(lab::MachineId machine) const;

    /// The route that the machine uses for `destination`, or nothing.
    std::optional<Route> route(lab::MachineId machine, net::Address destination) const;

    /// Static routes that the plan gives but that do not exist under this condition, by machine.
    std::span<const RefusedRoute> refused() const { return refused_; }

    Aim aim(net::Address destination) const;

    /// Where the machine sends packets for the destination, or null for no route. Local addresses
    /// and broadcast addresses come before it: ask is_local and is_broadcast first.
    const Hop* hop(lab::MachineId machine, const Aim& aim) const {
        const Forwarding& table = forwarding_[machine.row];
        if (!table.large)
            return small_hop(table, aim.prefix);
        std::uint8_t hop = aim.prefix == net::PrefixTable::none
                               ? no_large_hop
                               : large_[std::size_t{aim.prefix} * large_count_ + table.first];
        return hop == no_large_hop ? nullptr : &hops_[table.first_hop + hop];
    }

    /// True if the destination is an address of the machine itself. A NIC that is down keeps its
    /// IPv4 addresses and loses its IPv6 addresses.
    bool is_local(lab::MachineId machine, const Aim& aim) const {
        for (const lab::Owner& owner : aim.owners)
            if (owner.machine == machine
                && (aim.address.family() == net::Family::ipv4
                    || condition_.carries(*lab_, owner.nic, net::Family::ipv6)))
                return !aim.is_broadcast || is_local_first(machine, aim);
        return false;
    }

    /// True if the destination is the broadcast address of a connected IPv4 prefix.
    bool is_broadcast(lab::MachineId machine, const Aim& aim) const;

    /// The NICs that answer when a machine asks by its NIC `asking` for an address that `owners`
    /// have (Lab::owners_of), `asking` left out (ARP, RFC 826; ND, RFC 4861). In IPv4 a machine
    /// answers for all its addresses on every NIC that is up, in IPv6 for the addresses of that NIC
    /// only. A machine does not answer itself. Where frames of question or answer may go to another
    /// NIC of the same MAC, the NICs that share it.
    void answering(lab::NicId asking, std::span<const lab::Owner> owners,
                   std::vector<lab::NicId>& into) const;

  private:
    void add_clones(lab::NicId meant, std::vector<lab::NicId>& into) const;
    friend Settled settle(const lab::Lab& lab, Condition condition);

    // The forwarding table of one machine. Small: pairs of prefix and hop, sorted by prefix. Large:
    // a hop for every prefix of the lab, so that a lookup need not climb to shorter prefixes. The
    // large tables of all machines stand side by side, one row a prefix, so that a packet finds its
    // whole way in one row.
    struct Forwarding {
        std::size_t first = 0; // in small_, or the column in large_
        std::uint32_t first_hop = 0;
        std::uint32_t count = 0; // of entries in small_
        bool large = false;
    };
    static constexpr std::uint8_t no_large_hop = 0xff;
    struct Entry {
        std::uint32_t prefix;
        std::uint32_t hop; // counted from the machine's first hop
    };

    Settled(const lab::Lab& lab, Condition condition)
        : lab_(&lab), condition_(std::move(condition)), wiring_(lab, condition_.wiring()) {}

    const Hop* small_hop(const Forwarding& table, std::uint32_t prefix) const;
    void number_prefixes();
    void collect_broadcasts();
    void settle_machine(lab::MachineId id);
    // True for a static IPv4 route by way of an address of the machine itself: Linux takes all that
    // it covers for neighbours on the NIC's segment.
    bool is_direct(const Route& route) const;
    bool is_local_first(lab::MachineId machine, const Aim& aim) const;
    std::uint32_t hop_number(const Route& route, std::uint32_t first_hop);
    void turn_large();
    void spread(Forwarding& table, const std::vector<Entry>& entries);

    std::vector<Route> routes(lab::MachineId machine, std::vector<RefusedRoute>* refused) const;

    const lab::Lab* lab_;
    Condition condition_;
    lab::Wiring wiring_;
    std::vector<net::Prefix> prefixes_;    // all that some machine may have a route for, sorted
    std::vector<std::uint32_t> shorter_;   // by prefix: the next one that holds it, or none
    net::PrefixTable prefix_table_;        // values are positions in prefixes_
    std::vector<net::Address> broadcasts_; // sorted
    std::vector<Forwarding> forwarding_;   // by machine
    std::vector<Hop> hops_;
    std::vector<Entry> small_;
    std::vector<std::uint8_t> large_; // large_count_ columns, one row for each prefix
    std::size_t large_count_ = 0;
    std::vector<RefusedRoute> refused_;
};

/// What a machine sends to `destination` from when the packet leaves by `out`. IPv6: the best of
/// the NIC's addresses by RFC 6724 section 5; among equals the last one, as on Linux. IPv4: the
/// first address whose prefix holds `next_hop`. Nothing if there is none.
JACKAL_API std::optional<lab::AddressId> source_on(const lab::Lab& lab, lab::NicId out,
                                                   net::Address next_hop, net::Address destination);

/// What every machine of the lab knows under `condition`.
JACKAL_API Settled settle(const lab::Lab& lab, Condition condition);
JACKAL_API Settled settle(const lab::Lab& lab);

} // namespace jackal::routing
