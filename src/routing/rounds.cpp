#include "routing/rounds.h"

#include "jackal/limits.h"
#include "jackal/sorted.h"
#include "routing/bgp/policy.h"
#include "routing/neighbour.h"
#include "routing/route_list.h"

#include <algorithm>

namespace jackal::routing {

using lab::MachineId;
using lab::NicId;

std::pair<const ProtocolTables*, Lesson> best_lesson(const AllTables& tables, MachineId machine,
                                                     std::uint32_t prefix, net::Family family) {
    std::pair<const ProtocolTables*, Lesson> best{nullptr, {}};
    for (const auto& some : tables)
        if (some->serves(family))
            if (auto lesson = some->lesson(machine, prefix);
                lesson
                && (best.first == nullptr
                    || administrative_distance(lesson->kind)
                           < administrative_distance(best.second.kind)))
                best = {some.get(), *lesson};
    return best;
}

namespace {

using Injections = std::vector<std::vector<Injection>>; // by tables, each sorted

// What machines have by themselves, worked out when it is first asked for.
class OwnRoutes {
  public:
    OwnRoutes(const lab::Lab& lab, const Condition& condition)
        : lab_(lab), condition_(condition), own_(lab.machines.size()) {}

    const std::vector<Route>& all(MachineId machine) {
        auto& routes = own_[machine.row];
        if (!routes)
            routes = own_routes(lab_, condition_, machine, nullptr);
        return *routes;
    }

    // Its connected or static route to exactly the prefix, or null.
    const Route* to(MachineId machine, const net::Prefix& prefix) {
        const auto& routes = all(machine);
        auto found = std::ranges::lower_bound(routes, prefix, {}, &Route::to);
        for (; found != routes.end() && found->to == prefix; ++found)
            if (found->kind == RouteKind::connected || found->kind == RouteKind::static_route)
                return &*found;
        return nullptr;
    }

  private:
    const lab::Lab& lab_;
    const Condition& condition_;
    std::vector<std::optional<std::vector<Route>>> own_; // by machine
};

// What a machine hands from one protocol to another.
class Handover {
  public:
    Handover(const AllTables& tables, const lab::Lab& lab, const PrefixNumbers& numbers,
             const Condition& condition, OwnRoutes& own)
        : tables_(tables), lab_(lab), numbers_(numbers), condition_(condition), own_(own) {}

    // By tables, sorted: of all machines, or of one.
    Injections all() {
        Injections all(tables_.size());
        for (const lab::Speaker& speaker : lab_.speakers)
            hand_over(speaker, all);
        return sorted(std::move(all));
    }
    Injections of(MachineId machine) {
        Injections own(tables_.size());
        for (const lab::Speaker& speaker : lab_.speakers)
            if (speaker.machine == machine)
                hand_over(speaker, own);
        return sorted(std::move(own));
    }

    // By which of another machine this one goes, as things stand.
    std::optional<net::Address> next_hop(MachineId machine, std::uint32_t prefix) const {
        auto [tables, lesson] = best(machine, prefix);
        return tables == nullptr || own_.to(machine, numbers_[prefix]) != nullptr
                   ? std::nullopt
                   : std::optional(tables->gates()[lesson.gates[0]].via);
    }

  private:
    void hand_over(const lab::Speaker& speaker, Injections& all) {
        if (condition_.machine_on(speaker.machine))
            for (const SpokenProtocol* protocol : protocols())
                if (auto exports = protocol->exports(speaker))
                    hand_over(speaker.machine, *protocol, *exports, all);
    }

    static Injections sorted(Injections all) {
        for (std::vector<Injection>& some : all)
            sort_unique(some);
        return all;
    }

    std::pair<const ProtocolTables*, Lesson> best(MachineId machine, std::uint32_t prefix) const {
        return best_lesson(tables_, machine, prefix, numbers_[prefix].family());
    }

    // The prefix of a loopback, or of an address of full length, is the address itself.
    bool is_host_prefix(const Route& route) const {
        return route.kind == RouteKind::local
               && is_live(lab_, condition_, route.out, route.to.family())
               && std::ranges::any_of(lab_.addresses_of(route.out), [&](lab::AddressId id) {
                      const lab::InterfaceAddress& own = lab_.addresses[id];
                      return own.address == route.to.first()
                             && announced_prefix(lab_, own) == route.to;
                  });
    }

    // A NIC whose link is down keeps its route in the machine's table, but nobody is told of it.
    bool is_announced(const Route& route) const {
        return route.kind != RouteKind::connected
               || is_live(lab_, condition_, route.out, route.to.family());
    }

    // The route that the machine uses for exactly the prefix. Its gate is one that others can be
    // told of: the only one, and no link-local address, as those of OSPF and RIP for IPv6 are.
    struct Used {
        RouteKind kind = RouteKind::connected;
        Gate gate{};
    };
    std::optional<Used> used(MachineId machine, std::uint32_t prefix) {
        const Route* route = own_.to(machine, numbers_[prefix]);
        if (route != nullptr && !is_announced(*route))
            return std::nullopt;
        if (route != nullptr)
            return Used{route->kind, route->kind == RouteKind::static_route
                                         ? Gate{route->out, route->via}
                                         : Gate{}};
        auto [tables, lesson] = best(machine, prefix);
        if (tables == nullptr)
            return std::nullopt;
        const bool can_be_told =
            lesson.gate_count == 1 && numbers_[prefix].family() == net::Family::ipv4;
        return Used{lesson.kind, can_be_told ? tables->gates()[lesson.gates[0]] : Gate{}};
    }

    // The prefixes of a source, default routes left out: those have a key of their own.
    std::vector<std::uint32_t> prefixes_from(MachineId machine, plan::RouteSource source) {
        std::vector<std::uint32_t> found;
        for (const Route& route : own_.all(machine)) {
            if (route.to.length() != 0 && is_announced(route)
                && (is_from(route.kind, source)
                    || (source == plan::RouteSource::connected && is_host_prefix(route))))
                if (std::uint32_t number = numbers_.number(route.to); number != numbers_.none)
                    found.push_back(number);
        }
        lessons_ += source >= plan::RouteSource::ospf ? numbers_.size() : 0;
        if (source >= plan::RouteSource::ospf && lessons_ < most_lessons)
            for (std::uint32_t p = 0; p < numbers_.size(); ++p)
                if (numbers_[p].length() != 0)
                    if (auto [tables, lesson] = best(machine, p);
                        tables != nullptr && is_from(lesson.kind, source)
                        && own_.to(machine, numbers_[p]) == nullptr)
                        found.push_back(p);
        return found;
    }

    // Calls use(prefix, metric) for what the machine redistributes into a protocol.
    template <class Use>
    void each_redistributed(MachineId machine, const std::vector<lab::Redistribution>& entries,
                            std::uint32_t default_metric, Use use) {
        for (const lab::Redistribution& entry : entries)
            for (std::uint32_t prefix : prefixes_from(machine, entry.from)) {
                Path path;
                path.med = entry.metric.value_or(default_metric);
                if (apply(lab_, entry.policy, numbers_[prefix], path, 0))
                    use(prefix, path.med, entry.type);
            }
    }

    // True if the machine announces the default route of that family by the protocol.
    bool gives_default(MachineId machine, plan::DefaultRoute how, net::Family family,
                       plan::RouteSource source) {
        if (how == plan::DefaultRoute::none)
            return false;
        auto route = used(machine, numbers_.find(net::Prefix::everything(family)));
        return how == plan::DefaultRoute::always || (route && !is_from(route->kind, source));
    }

    void hand_over(MachineId machine, const SpokenProtocol& protocol, const Exports& exports,
                   std::vector<std::vector<Injection>>& all) {
        auto inject = [&](const Injection& injection) {
            net::Family family = numbers_[injection.prefix].family();
            for (std::size_t i = 0; i < tables_.size(); ++i)
                if (tables_[i]->protocol() == protocol.protocol() && tables_[i]->serves(family))
                    all[i].push_back(injection);
        };
        // What some have to know of the machine's own route besides.
        auto with_route = [&](Injection injection) {
            if (auto route = used(machine, injection.prefix)) {
                if (!protocol.is_interior())
                    injection.distance = administrative_distance(route->kind);
                injection.gate = route->gate;
            }
            return injection;
        };
        for (const net::Prefix& network : exports.networks) {
            std::uint32_t prefix = numbers_.find(network);
            if (auto route = used(machine, prefix);
                route && !is_from(route->kind, protocol.source()))
                inject(with_route({.prefix = prefix, .machine = machine}));
        }
        each_redistributed(
            machine, exports.redistribute, exports.metric,
            [&](std::uint32_t prefix, std::uint32_t metric, std::uint8_t type) {
                inject(with_route({.prefix = prefix,
                                   .machine = machine,
                                   .metric = metric,
                                   .type = type,
                                   .redistributed = true,
                                   .is_own = own_.to(machine, numbers_[prefix]) != nullptr}));
            });
        for (net::Family family : net::both_families)
            if (gives_default(machine, exports.default_route, family, protocol.source())) {
                const Injection injection{.prefix = numbers_.find(net::Prefix::everything(family)),
                                          .machine = machine,
                                          .metric = exports.default_metric};
                inject(exports.default_route == plan::DefaultRoute::always ? injection
                                                                           : with_route(injection));
            }
    }

    const AllTables& tables_;
    const lab::Lab& lab_;
    const PrefixNumbers& numbers_;
    const Condition& condition_;
    OwnRoutes& own_;
    static constexpr std::size_t most_lessons = limits::redistributed;
    std::size_t lessons_ = 0; // looked through so far, for what is redistributed
};

// How packets of protocols get from one machine to another.
class Ground {
  public:
    Ground(const AllTables& tables, const lab::Lab& lab, const PrefixNumbers& numbers,
           const Condition& condition, const lab::Wiring& wiring, OwnRoutes& own)
        : tables_(tables), lab_(lab), numbers_(numbers), condition_(condition), wiring_(wiring),
          own_(own) {}

    Surroundings surroundings() {
        return {[this](MachineId machine, net::Address to) { return way(machine, to); },
                [this](MachineId from, MachineId to, const net::Flow& flow, lab::FilterId& filter) {
                    return reach(from, to, flow, filter);
                },
                [this](const lab::BgpEnds& ends) { return is_adjacent(ends); },
                [this](Protocol protocol, MachineId one, MachineId other) {
                    return condition_.is_silenced(protocol, one, other);
                }};
    }

  private:
    // The NIC that has the address, works and hears the other one, or none; of several that of the
    // machine that is meant, if it is among them.
    NicId heard_nic(net::Address address, NicId by, MachineId meant = {}) const {
        NicId found;
        for (const lab::Owner& owner : lab_.owners_of(address))
            if (is_live(lab_, condition_, owner.nic, address.family())
                && wiring_.domain(lab_, owner.nic) == wiring_.domain(lab_, by)
                && (!found || owner.machine == meant))
                found = owner.nic;
        return found;
    }

    bool is_adjacent(const lab::BgpEnds& ends) const {
        return std::ranges::any_of(lab_.owners_of(ends.own), [&](const lab::Owner& own) {
            if (!is_live(lab_, condition_, own.nic, ends.own.family())
                || lab_.nics[own.nic].is_loopback())
                return false;
            NicId peer = heard_nic(ends.peer, own.nic);
            return peer && !lab_.nics[peer].is_loopback()
                   && std::ranges::any_of(lab_.addresses_of(own.nic), [&](lab::AddressId id) {
                          return is_host_on(lab_.addresses[id].prefix(), ends.peer);
                      });
        });
    }

    // By routes of the machine's own, and interior protocols.
    std::optional<InteriorWay> way(MachineId machine, net::Address to) {
        if (is_own(lab_, condition_, machine, to))
            return InteriorWay{};
        for (std::uint32_t p = numbers_.lookup(to); p != numbers_.none; p = numbers_.around(p)) {
            if (const Route* route = own_.to(machine, numbers_[p])) {
                bool direct = route->kind == RouteKind::connected;
                return InteriorWay{0, {{route->out, direct ? to : route->via}}, route->to.length()};
            }
            for (const auto& tables : tables_)
                if (spoken(tables->protocol()).is_interior() && tables->serves(to.family()))
                    if (auto lesson = tables->lesson(machine, p)) {
                        InteriorWay found{lesson->metric, {}, numbers_[p].length()};
                        for (std::size_t i = 0; i < lesson->gate_count; ++i)
                            found.gates.push_back(tables->gates()[lesson->gates.at(i)]);
                        return found;
                    }
        }
        return std::nullopt;
    }

    // What a machine sends there goes to all on a segment, and a connection to none of them.
    bool is_broadcast(MachineId machine, net::Address address) const {
        auto has = [&](lab::AddressId id) {
            return lab_.addresses[id].prefix().is_broadcast_address(address);
        };
        return std::ranges::any_of(lab_.nics_of(machine), [&](NicId nic) {
            return is_live(lab_, condition_, nic, address.family())
                   && std::ranges::any_of(lab_.addresses_of(nic), has);
        });
    }

    Discord reach(MachineId from, MachineId to, const net::Flow& flow, lab::FilterId& filter) {
        constexpr int most_hops = 64;
        MachineId at = from;
        NicId in;
        for (int hop = 0; hop < most_hops; ++hop) {
            if (!condition_.machine_on(at))
                return Discord::no_way;
            if (is_own(lab_, condition_, at, flow.destination)) {
                if (at == from)
                    return Discord::own_address;
                if (at != to) // another one has the address, too
                    return Discord::no_way;
                filter = in ? dropped_at(lab_, in, plan::Way::in, flow) : lab::FilterId{};
                return filter ? Discord::filtered : Discord::none;
            }
            if ((in && !lab_.machines[at].forwards[flow.destination.family()])
                || is_broadcast(at, flow.destination))
                return Discord::no_way;
            auto next = way(at, flow.destination);
            if (!next || next->gates.empty())
                return Discord::no_way;
            const Gate& gate = next->gates.front();
            if (!is_live(lab_, condition_, gate.out, flow.destination.family()))
                return Discord::no_way;
            filter = in ? dropped_between(lab_, in, gate.out, flow)
                        : dropped_at(lab_, gate.out, plan::Way::out, flow);
            if (filter)
                return Discord::filtered;
            NicId there = heard_nic(gate.via, gate.out, to);
            if (!there || is_one_to_switches(lab_, gate.out, there))
                return Discord::no_way;
            at = lab_.nics[there].machine;
            in = there;
        }
        return Discord::no_way;
    }

    const AllTables& tables_;
    const lab::Lab& lab_;
    const PrefixNumbers& numbers_;
    const Condition& condition_;
    const lab::Wiring& wiring_;
    OwnRoutes& own_;
};

// The rows that one has and the other has not.
std::vector<Injection> difference(const Injections& one, const Injections& other) {
    std::vector<Injection> rows;
    for (std::size_t i = 0; i < one.size(); ++i)
        std::ranges::set_symmetric_difference(one[i], other[i], std::back_inserter(rows));
    return rows;
}

// The rounds of handing over, all machines at once, until nothing changes. Where that goes on for
// ever, those that change take turns, as real ones do: then they settle, and who came first
// matters, or they do not.
class Rounds {
  public:
    Rounds(const AllTables& tables, Handover& handover, Ground& ground)
        : tables_(tables), handover_(handover), ground_(ground), now_(tables.size()) {}

    // What the machines argue about, if they do.
    std::optional<Dispute> run(const PrefixNumbers& numbers) {
        if (all_at_once())
            return std::nullopt;
        std::vector<MachineId> machines;
        for (const Injection& row : restless_)
            machines.push_back(row.machine);
        sort_unique(machines);
        const std::uint32_t prefix = restless_.front().prefix;
        Dispute dispute{.to = numbers[prefix], .machines = machines, .standings = {}};
        if (machines.size() > most_by_turns)
            return dispute;
        // Also in the other order, of which another state may come.
        std::vector<MachineId> backwards(machines.rbegin(), machines.rend());
        if (by_turns(backwards))
            for (MachineId machine : machines)
                dispute.standings.push_back(
                    {machine, std::nullopt, handover_.next_hop(machine, prefix)});
        if (by_turns(machines))
            dispute.kind = Dispute::Kind::by_turns;
        for (Dispute::Standing& standing : dispute.standings)
            standing.taken = handover_.next_hop(standing.machine, prefix);
        std::erase_if(dispute.standings,
                      [](const Dispute::Standing& s) { return s.taken == s.other; });
        return dispute;
    }

  private:
    static constexpr int most_rounds = limits::handover_rounds;
    static constexpr std::size_t most_by_turns = 64; // machines

    void settle() {
        for (std::size_t i = 0; i < tables_.size(); ++i)
            tables_[i]->settle(now_[i], ground_.surroundings());
    }

    bool all_at_once() {
        for (int round = 0; round < most_rounds; ++round) {
            Injections next = handover_.all();
            if (round > 0 && next == now_)
                return true;
            if (round + most_restless >= most_rounds) {
                auto changed = difference(now_, next);
                restless_.insert(restless_.end(), changed.begin(), changed.end());
            }
            now_ = std::move(next);
            settle();
        }
        return false;
    }

    bool by_turns(const std::vector<MachineId>& machines) {
        for (std::vector<Injection>& some : now_)
            std::erase_if(some, [&](const Injection& row) {
                return std::ranges::find(machines, row.machine) != machines.end();
            });
        settle();
        for (int round = 0; round < most_rounds; ++round) {
            bool changed = false;
            for (MachineId machine : machines)
                changed |= take_turn(machine);
            if (!changed)
                return true;
        }
        return false;
    }

    // True if the machine hands over something else than before.
    bool take_turn(MachineId machine) {
        Injections own = handover_.of(machine);
        Injections next = now_;
        for (std::size_t i = 0; i < next.size(); ++i) {
            std::erase_if(next[i], [&](const Injection& row) { return row.machine == machine; });
            next[i].insert(next[i].end(), own[i].begin(), own[i].end());
            std::ranges::sort(next[i]);
        }
        if (next == now_)
            return false;
        now_ = std::move(next);
        settle();
        return true;
    }

    static constexpr int most_restless = 4; // last rounds whose changes count

    const AllTables& tables_;
    Handover& handover_;
    Ground& ground_;
    Injections now_;
    std::vector<Injection> restless_; // rows that still come and go
};

} // namespace

void settle_together(const AllTables& tables, const lab::Lab& lab, const PrefixNumbers& numbers,
                     const Condition& condition, const lab::Wiring& wiring,
                     std::vector<Dispute>& disputes) {
    OwnRoutes own(lab, condition);
    Handover handover(tables, lab, numbers, condition, own);
    Ground ground(tables, lab, numbers, condition, wiring, own);
    if (auto dispute = Rounds(tables, handover, ground).run(numbers))
        disputes.push_back(*std::move(dispute));
}

} // namespace jackal::routing
