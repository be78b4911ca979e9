#include "route_list.h"

#include <algorithm>
#include <map>
#include <set>

namespace jackal::routing {

using lab::Lab;
using lab::MachineId;
using lab::NicId;

namespace {

class RouteList {
  public:
    RouteList(const Lab& lab, const Condition& condition, MachineId machine,
              std::vector<RefusedRoute>* refused)
        : lab_(lab), condition_(condition), machine_(machine), refused_(refused) {}

    std::vector<Route> run() {
        if (!condition_.machine_on(machine_))
            return {};
        for (NicId nic : lab_.nics_of(machine_))
            add_nic_routes(nic);
        own_count_ = routes_.size();
        for (lab::RouteId route : lab_.routes_of(machine_))
            add_static_route(route);
        sort();
        return std::move(routes_);
    }

  private:
    void refuse(lab::RouteId written, Refusal why) {
        if (refused_ != nullptr)
            refused_->push_back({written, machine_, why});
    }

    void add_nic_routes(NicId nic) {
        bool up = condition_.nic_up(nic);
        for (lab::AddressId id : lab_.addresses_of(nic)) {
            const lab::InterfaceAddress& row = lab_.addresses[id];
            net::Family family = row.address.family();
            if (family == net::Family::ipv6 && !condition_.carries(lab_, nic, family))
                continue;
            auto add = [&](const net::Prefix& to, RouteKind kind) {
                std::uint32_t metric =
                    kind == RouteKind::connected ? lab::connected_metric(family) : 0;
                routes_.push_back({to, kind, nic, {}, id, metric, {}});
            };
            bool was_broadcast = family == net::Family::ipv4 && is_broadcast(row.address);
            add({row.address, net::address_bits(family)}, RouteKind::local);
            // The kernel takes no routes for an address that means all of a segment already.
            if (!up || was_broadcast)
                continue;
            net::Prefix prefix = row.prefix();
            if (family == net::Family::ipv4 && prefix.host_bits() > 1)
                add({prefix.last(), 32}, RouteKind::broadcast);
            if (prefix.host_bits() > 0)
                add(prefix, RouteKind::connected);
        }
    }

    // The broadcast address of a prefix that was there before.
    bool is_broadcast(net::Address address) const {
        return std::ranges::any_of(routes_, [&](const Route& route) {
            return route.kind == RouteKind::broadcast && route.to.first() == address;
        });
    }

    void add_static_route(lab::RouteId written) {
        const lab::StaticRoute& row = lab_.routes[written];
        const Route* towards = nullptr; // the connected prefix that the next hop is on
        for (const Route& route : std::span(routes_).first(own_count_)) {
            bool is_via = route.to.first() == row.via;
            if (route.kind == RouteKind::local && is_via) {
                if (row.via.family() == net::Family::ipv6)
                    return refuse(written, Refusal::next_hop_is_own);
                towards = condition_.nic_up(route.out) ? &route : nullptr;
                break;
            }
            if (route.kind == RouteKind::broadcast && is_via)
                return refuse(written, Refusal::next_hop_is_broadcast);
            if (route.kind == RouteKind::connected && route.to.contains(row.via)
                && (towards == nullptr || route.to.length() > towards->to.length()))
                towards = &route;
        }
        if (towards == nullptr)
            return refuse(written, Refusal::next_hop_off_link);
        if (is_routed(row.via, *towards))
            return refuse(written, Refusal::next_hop_is_routed);
        lab::AddressId source = *source_on(lab_, towards->out, row.via, row.to.first());
        routes_.push_back(
            {row.to, RouteKind::static_route, towards->out, row.via, source, row.metric, written});
        if (row.to.family() == net::Family::ipv6)
            add_static_ipv6(row.to, row.metric);
    }

    // In IPv6 the kernel looks a next hop up in the table as it stands: a route by way of another
    // machine must not be the best one for it. In IPv4 it looks at connected prefixes only.
    bool is_routed(net::Address next_hop, const Route& towards) const {
        if (next_hop.family() == net::Family::ipv4)
            return false;
        for (auto length = static_ipv6_lengths_.lower_bound(towards.to.length());
             length != static_ipv6_lengths_.end(); ++length)
            if (auto found = static_ipv6_.find(net::Prefix(next_hop, *length));
                found != static_ipv6_.end()
                && (*length > towards.to.length() || found->second < towards.metric))
                return true;
        return false;
    }

    void add_static_ipv6(const net::Prefix& to, std::uint32_t metric) {
        auto [known, is_new] = static_ipv6_.emplace(to, metric);
        known->second = std::min(known->second, metric);
        static_ipv6_lengths_.insert(to.length());
    }

    void sort() {
        // Addresses of the machine's own come before all others, as in the kernel's local table.
        auto rank = [](const Route& route) {
            bool is_own = route.kind == RouteKind::local || route.kind == RouteKind::broadcast;
            return std::tuple(route.to, is_own ? RouteKind::local : RouteKind::connected,
                              route.metric);
        };
        std::ranges::stable_sort(routes_, {}, rank);
        auto is_repeated = [&](const Route& a, const Route& b) {
            return b.kind == RouteKind::static_route && rank(a) == rank(b);
        };
        for (std::size_t i = 1; i < routes_.size(); ++i)
            if (is_repeated(routes_[i - 1], routes_[i]))
                refuse(routes_[i].written, Refusal::repeated);
        auto repeated = std::ranges::unique(routes_, is_repeated);
        routes_.erase(repeated.begin(), repeated.end());
    }

    const Lab& lab_;
    const Condition& condition_;
    MachineId machine_;
    std::vector<RefusedRoute>* refused_;
    std::vector<Route> routes_;
    std::map<net::Prefix, std::uint32_t>
        static_ipv6_;                   // static IPv6 routes so far, with the best metric
    std::set<int> static_ipv6_lengths_; // of their prefixes
    std::size_t own_count_ = 0;         // the first so many routes are those that the NICs gave
};

} // namespace

std::vector<Route> own_routes(const Lab& lab, const Condition& condition, MachineId machine,
                              std::vector<RefusedRoute>* refused) {
    return RouteList(lab, condition, machine, refused).run();
}

} // namespace jackal::routing
