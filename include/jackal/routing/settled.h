// What each machine knows under one condition: its route table, ready to forward by.
//
//     routing::Settled settled = routing::settle(lab);              // as the plan says
//     routing::Condition cut(lab);
//     cut.cut(lab, "quay-r1/eth2");
//     routing::Settled without = routing::settle(lab, cut);
//
// A Settled refers to its Lab, which must outlive it. Building it is O(n log n) in the number of
// routes; asking a route table is one longest-prefix match.
#pragma once

#include "jackal/lab/lab.h"
#include "jackal/net/prefix_table.h"

namespace jackal::routing {

/// What is off, down or cut, on top of what the plan itself says.
class Condition {
  public:
    /// The condition that the plan describes.
    explicit Condition(const lab::Lab& lab);

    /// Cuts `MACHINE` (off), `MACHINE/NIC` (down) or `MACHINE--MACHINE` (every link between the
    /// two down). False, and no change, if the lab has no such thing.
    bool cut(const lab::Lab& lab, std::string_view what);

    bool machine_on(lab::MachineId id) const { return machine_on_[id.row]; }
    bool nic_up(lab::NicId id) const { return nic_up_[id.row]; }
    bool link_up(lab::LinkId id) const { return link_up_[id.row]; }

  private:
    std::vector<bool> machine_on_;
    std::vector<bool> nic_up_;
    std::vector<bool> link_up_;
};

enum class RouteKind : std::uint8_t {
    local,       ///< an address of the machine itself
    broadcast,   ///< the broadcast address of a connected IPv4 prefix
    connected,   ///< the prefix of an address on a NIC that is up
    static_route ///< from the plan
};

/// "local", "broadcast", "connected" or "static".
std::string_view to_string(RouteKind kind);

struct Route {
    net::Prefix to;
    RouteKind kind = RouteKind::connected;
    lab::NicId out;      ///< the NIC packets leave by; for local routes the NIC with the address
    net::Address via;    ///< the next hop of a static route; elsewhere unused
    net::Address source; ///< what the machine itself sends from by this route
    std::uint32_t metric = 0;
    lab::RouteId written; ///< the lab's static route, or none
};

/// Why a static route of the plan does not exist on a machine.
enum class Refusal : std::uint8_t {
    next_hop_off_link, ///< the next hop is on no connected prefix of a NIC that is up
    next_hop_is_own,   ///< the next hop is an address of the machine itself
    repeated,          ///< an earlier route has the same prefix and metric
};

struct RefusedRoute {
    lab::RouteId written;
    lab::MachineId machine;
    Refusal why = Refusal::next_hop_off_link;
};

class Settled {
  public:
    const lab::Lab& lab() const { return *lab_; }
    const Condition& condition() const { return condition_; }

    /// True if the machine is on and the NIC up.
    bool is_usable(lab::NicId nic) const {
        return condition_.nic_up(nic) && condition_.machine_on(lab_->nics[nic].machine);
    }

    /// All routes of a machine, best first where they cover the same prefix.
    std::span<const Route> routes(lab::MachineId machine) const;

    /// The route that the machine uses for `destination`, or null.
    const Route* route(lab::MachineId machine, net::Address destination) const {
        std::uint32_t found = tables_[machine.row].lookup(destination);
        return found == net::PrefixTable::none ? nullptr : &routes_[found];
    }

    /// Static routes that the plan gives but that do not exist under this condition, by machine.
    std::span<const RefusedRoute> refused() const { return refused_; }

    /// The NICs that answer when a machine asks for `address` on a segment (ARP, RFC 826; ND,
    /// RFC 4861), `asking` left out. In IPv4 a machine answers for all its addresses on every
    /// NIC that is up, in IPv6 for the addresses of that NIC only.
    void answering(lab::NicId asking, net::Address address, std::vector<lab::NicId>& into) const;

  private:
    friend Settled settle(const lab::Lab& lab, Condition condition);
    Settled(const lab::Lab& lab, Condition condition)
        : lab_(&lab), condition_(std::move(condition)) {}

    void settle_machine(lab::MachineId id);
    void add_nic_routes(lab::NicId nic);
    void add_static_route(lab::MachineId id, lab::RouteId route, std::size_t first,
                          std::size_t own_count);
    void sort_routes(lab::MachineId id, std::size_t first);

    const lab::Lab* lab_;
    Condition condition_;
    std::vector<Route> routes_;              // contiguous for each machine
    std::vector<std::uint32_t> first_route_; // by machine, and one past the last
    std::vector<net::PrefixTable> tables_;   // by machine; values are positions in routes_
    std::vector<RefusedRoute> refused_;
};

/// What every machine of the lab knows under `condition`.
Settled settle(const lab::Lab& lab, Condition condition);
Settled settle(const lab::Lab& lab);

} // namespace jackal::routing
