// What each machine knows under one condition: its route table, ready to forward by.
//
//     routing::Settled settled = routing::settle(lab);              // as the plan says
//     routing::Condition cut(lab);
//     cut.cut(lab, "quay-r1/eth2");
//     routing::Settled without = routing::settle(lab, cut);
//
// A Settled refers to its Lab, which must outlive it; a Lab that would not is refused by the
// compiler. It never changes, so threads may share one. Building it is O(n log n) in the number of
// routes. It is made for asking the way of one destination of many machines in a row: aim() does
// one longest-prefix match over all prefixes that any machine has a route for, and hop() then costs
// an array access at a machine with a large table, and a short search at one with a small table.
// Route tables in words (routes(), route()) are worked out anew from the lab at each call.
#pragma once

#include "jackal/api.h"
#include "jackal/lab/lab.h"
#include "jackal/routing/condition.h"
#include "jackal/routing/learned.h"

namespace jackal::routing {

/// A route of a machine. One that protocols taught stands once for each of its next hops.
struct Route {
    net::Prefix to;
    RouteKind kind = RouteKind::connected;
    lab::NicId out;        ///< the NIC packets leave by; for local routes the NIC with the address
    net::Address via;      ///< the next hop of a static or learned route; elsewhere unused
    lab::AddressId source; ///< what the machine itself sends from by this route
    std::uint32_t metric = 0;
    lab::RouteId written; ///< the lab's static route, or none

    /// False if packets go to their destination itself: of what is connected or local, and see
    /// Gate::is_direct.
    bool has_next_hop() const {
        return kind >= RouteKind::static_route && !(is_learned(kind) && Gate{out, via}.is_direct());
    }
};

/// Why a static route of the plan does not exist on a machine.
enum class Refusal : std::uint8_t {
    next_hop_off_link,     ///< the next hop is on no connected prefix of a NIC that is up
    next_hop_is_own,       ///< IPv6: the next hop is an address of the machine itself
    next_hop_is_routed,    ///< IPv6: an earlier static route covers the next hop more closely
    next_hop_is_broadcast, ///< the next hop is the broadcast address of a connected prefix
    repeated,              ///< an earlier or connected route has the same prefix and metric
};

/// "the next hop is on no subnet that is up", …
JACKAL_API std::string_view to_string(Refusal why);

struct RefusedRoute {
    lab::RouteId written;
    lab::MachineId machine;
    Refusal why = Refusal::next_hop_off_link;
};

/// Where one or more routes of a machine lead. 24 bytes, as there are several for each NIC.
struct Hop {
    lab::NicId out;
    lab::NicId neighbour;   ///< the NIC that answers for the next hop, if exactly one does
    lab::MachineId machine; ///< of the neighbour
    lab::AddressId source;  ///< what the machine itself sends from this way
    /// Static: the row of the first route of the lab that leads this way. Learned: a number.
    std::uint32_t row = lab::RouteId::no_row;
    std::uint16_t mtu_bytes = 0;           ///< of `out`
    RouteKind kind = RouteKind::connected; ///< connected: directly; else to a next hop
    bool neighbour_takes_less : 1 = false; ///< the neighbour's MTU is smaller than that of `out`
    bool source_is_shared : 1 = false;     ///< another machine has the address of `source` too
    bool is_tunnel : 1 = false;            ///< `out` is the end of one
};

/// A destination, looked up once for all machines.
struct Aim {
    static constexpr std::uint32_t no_prefix = ~std::uint32_t{0};

    net::Address address;
    std::uint32_t prefix = no_prefix;   ///< the longest that any machine may have a route for
    std::span<const lab::Owner> owners; ///< who has the address
    bool is_broadcast = false;          ///< the broadcast address of some IPv4 prefix in the lab
};

/// Prefixes that have something in common, by their numbers (Aim::prefix).
struct AlikePrefixes {
    /// Those of one group have the same next hops at all machines that are not on link.
    std::vector<std::uint32_t> group;
    /// Which machines take it, or a prefix around it, for a segment that they are on: ascending.
    std::vector<std::vector<lab::MachineId>> on_link;
};

/// See above.
class JACKAL_API Settled {
  public:
    const lab::Lab& lab() const { return *lab_; }
    const Condition& condition() const { return condition_; }

    /// What protocols taught all machines, for settle_mixed.
    std::shared_ptr<const Learned> lessons() const { return epochs_.front().learned; }

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

    /// What routing protocols taught the machine.
    const Learned& learned(lab::MachineId machine) const { return *epoch_of(machine).learned; }

    /// The prefixes, by number and ascending, for which the machine has routes that no protocol
    /// taught it; nothing if they are many.
    std::optional<std::vector<std::uint32_t>> own_prefixes(lab::MachineId machine) const;
    /// True if the machine finds a next hop that protocols taught it otherwise than `before`, where
    /// they taught it the same next hops.
    bool finds_otherwise(lab::MachineId machine, const Settled& before) const;

    /// Static routes that the plan gives but that do not exist under this condition, by machine.
    std::span<const RefusedRoute> refused() const { return refused_; }

    Aim aim(net::Address destination) const;

    /// Which prefixes are alike to the machines that are `counted`, by their rows.
    AlikePrefixes alike(const std::vector<bool>& counted) const;

    /// Where the machine sends packets for the destination, or null for no route. Local addresses
    /// and broadcast addresses come before it: ask is_local and is_broadcast first. Of several
    /// equal next hops that of number `share`, counted round and round.
    const Hop* hop(lab::MachineId machine, const Aim& aim, std::uint32_t share = 0) const {
        return choice(machine, aim, share).hop;
    }
    /// The same with the number of equal next hops that the machine has.
    struct Choice {
        const Hop* hop = nullptr;
        std::uint32_t ways = 1;
    };
    Choice choice(lab::MachineId machine, const Aim& aim, std::uint32_t share = 0) const {
        const Forwarding& table = forwarding_[machine.row];
        if (!table.large)
            return table.learns ? learned_choice(machine, aim, share)
                                : Choice{small_hop(table, aim.prefix)};
        std::uint8_t hop = aim.prefix == Aim::no_prefix
                               ? no_large_hop
                               : large_[std::size_t{aim.prefix} * large_count_ + table.first];
        return {hop == no_large_hop ? nullptr : &hops_[table.first_hop + hop]};
    }
    /// The address that a hop leads to, unless its kind is connected.
    net::Address next_hop(const Hop& hop) const {
        return is_learned(hop.kind) ? vias_[hop.row] : lab_->routes[lab::RouteId{hop.row}].via;
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
    friend JACKAL_API Settled settle(const lab::Lab& lab, Condition condition);
    friend JACKAL_API Settled resettle(const Settled& before, Condition condition);
    friend JACKAL_API Settled settle_mixed(const lab::Lab& lab, Condition condition,
                                           std::vector<std::shared_ptr<const Learned>> epochs,
                                           std::vector<std::uint32_t> knows);

    // The forwarding table of one machine. Small: pairs of prefix and hop, sorted by prefix. Large:
    // a hop for every prefix of the lab, so that a lookup need not climb to shorter prefixes. The
    // large tables of all machines stand side by side, one row a prefix, so that a packet finds its
    // whole way in one row.
    struct Forwarding {
        std::size_t first = 0; // in small_, or the column in large_
        std::uint32_t first_hop = 0;
        std::uint32_t count = 0; // of entries in small_
        bool large = false;
        bool learns = false; // has lessons of protocols besides; never large
    };
    // What was known at one time.
    struct Epoch {
        std::shared_ptr<const Learned> learned;
        std::uint32_t first_hop = 0; // of its gates, in learned_hops_
    };
    const Epoch& epoch_of(lab::MachineId machine) const {
        return epochs_[knows_.empty() ? 0 : knows_[machine.row]];
    }
    static constexpr std::uint8_t no_large_hop = 0xff;
    struct Entry {
        std::uint32_t prefix;
        std::uint32_t hop; // counted from the machine's first hop
    };

    Settled(const lab::Lab& lab, Condition condition)
        : lab_(&lab), condition_(std::move(condition)), wiring_(lab, condition_.wiring()) {}

    void fill();
    void fill_from(const Settled& before);
    const Hop* small_hop(const Forwarding& table, std::uint32_t prefix) const;
    const Hop* exact_hop(const Forwarding& table, std::uint32_t prefix) const;
    Choice learned_choice(lab::MachineId machine, const Aim& aim, std::uint32_t share) const;
    std::optional<Lesson> usable_lesson(lab::MachineId machine, std::uint32_t prefix) const;
    Hop hop_to(lab::NicId out, net::Address via, lab::AddressId source, RouteKind kind) const;
    void add_learned_hops(Epoch& epoch);
    void make_room_for_hops(std::size_t count);
    void set_learned_hop(std::uint32_t number, const Gate& gate);
    void collect_broadcasts();
    std::vector<Entry> settle_machine(lab::MachineId id, Forwarding& table);
    bool may_be_large(const Forwarding& table) const;
    void make_small(Forwarding& table, const std::vector<Entry>& entries);
    // True for a static IPv4 route by way of an address of the machine itself: Linux takes all that
    // it covers for neighbours on the NIC's segment.
    bool is_direct(const Route& route) const;
    bool is_local_first(lab::MachineId machine, const Aim& aim) const;
    bool was_broadcast(lab::MachineId machine, net::Address address) const;
    std::uint32_t hop_number(const Route& route, std::uint32_t first_hop);
    void turn_large();
    std::vector<std::uint8_t> spread(const std::vector<Entry>& entries) const;

    void add_lesson(const Lesson& lesson, lab::MachineId machine, const net::Prefix& to,
                    std::vector<Route>& into) const;

    const lab::Lab* lab_;
    Condition condition_;
    lab::Wiring wiring_;
    std::shared_ptr<const PrefixNumbers> numbers_;
    std::vector<net::Address> broadcasts_; // sorted
    std::vector<Forwarding> forwarding_;   // by machine
    std::vector<Hop> hops_;
    std::vector<Entry> small_;
    std::vector<std::uint8_t> large_; // large_count_ columns, one row for each prefix
    std::size_t large_count_ = 0;
    std::vector<RefusedRoute> refused_;
    std::vector<Epoch> epochs_;
    std::vector<std::uint32_t> knows_; // by machine: its epoch; empty if all know the first
    std::vector<Hop> learned_hops_;    // one for each gate of each epoch
    std::vector<net::Address> vias_;   // by learned hop
    std::vector<bool> is_refused_hop_; // by learned hop: no machine takes it
    bool has_refused_hops_ = false;
};

/// Why a machine does not use what a protocol has for it.
struct Loss {
    Decision decision =
        Decision::best;          ///< inside its protocol; best: to a route of a smaller distance
    std::optional<RouteKind> to; ///< that route's kind
};

/// The loss of an offer (see Learned::offers) among the routes of its machine, or nothing if it is
/// used.
JACKAL_API std::optional<Loss> loss_of(const Offer& offer, const std::vector<Route>& routes);

/// What a machine sends to `destination` from when the packet leaves by `out`. IPv6: the best of
/// the NIC's addresses by RFC 6724 section 5; among equals the last one, as on Linux. IPv4: the
/// first address whose prefix holds `next_hop`. Nothing if there is none.
JACKAL_API std::optional<lab::AddressId> source_on(const lab::Lab& lab, lab::NicId out,
                                                   net::Address next_hop, net::Address destination);

/// What every machine of the lab knows under `condition`.
JACKAL_API Settled settle(const lab::Lab& lab, Condition condition);
JACKAL_API Settled settle(const lab::Lab& lab);
Settled settle(const lab::Lab&& lab, Condition condition) = delete;
Settled settle(const lab::Lab&& lab) = delete;

/// The same under another condition, quicker where it differs in little.
JACKAL_API Settled resettle(const Settled& before, Condition condition);

/// What every machine knows while protocols have not converged: machine number i what `knows[i]`
/// of the `epochs` taught it, though `condition` holds already.
JACKAL_API Settled settle_mixed(const lab::Lab& lab, Condition condition,
                                std::vector<std::shared_ptr<const Learned>> epochs,
                                std::vector<std::uint32_t> knows);
Settled settle_mixed(const lab::Lab&& lab, Condition condition,
                     std::vector<std::shared_ptr<const Learned>> epochs,
                     std::vector<std::uint32_t> knows) = delete;

} // namespace jackal::routing
