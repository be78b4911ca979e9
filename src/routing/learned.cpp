#include "jackal/routing/learned.h"

#include "neighbour.h"
#include "route_list.h"
#include "routing/bgp/bgp.h"
#include "routing/ospf/ospf.h"
#include "routing/rip/rip.h"

#include <algorithm>

namespace jackal::routing {

using lab::MachineId;
using lab::NicId;

void Lesson::add_gate(std::uint32_t gate) {
    auto end = gates.begin() + gate_count;
    if (gate_count < most_gates && std::find(gates.begin(), end, gate) == end)
        gates.at(gate_count++) = gate;
}

Learned::Learned(Learned&&) noexcept = default;
Learned& Learned::operator=(Learned&&) noexcept = default;
Learned::~Learned() = default;

Learned::Learned(const lab::Lab& lab, const Condition& condition, const lab::Wiring& wiring,
                 std::shared_ptr<const PrefixNumbers> numbers)
    : lab_(&lab), numbers_(std::move(numbers)) {
    settle(condition, wiring);
}

Learned::Learned(const Learned& before, const Condition& known_under, const Condition& condition,
                 const lab::Wiring& wiring)
    : lab_(before.lab_), numbers_(before.numbers_) {
    if (condition.only_takes_from(known_under))
        for (std::size_t f : {0, 1}) {
            if (before.ospf_[f] == nullptr)
                continue;
            ospf_[f] = std::make_unique<OspfTables>(*before.ospf_[f]);
            if (!ospf_[f]->reduce(condition))
                ospf_[f].reset();
        }
    settle(condition, wiring);
}

std::optional<Lesson> Learned::lesson_of(Protocol protocol, MachineId machine,
                                         std::uint32_t prefix) const {
    switch (protocol) {
    case Protocol::ospf:
        if (const auto& tables = ospf_[(*numbers_)[prefix].family() == net::Family::ipv4 ? 0 : 1])
            return tables->lesson(machine, prefix);
        break;
    case Protocol::rip:
        if (rip_)
            return rip_->lesson(machine, prefix);
        break;
    case Protocol::bgp:
        if (bgp_)
            return bgp_->lesson(machine, prefix);
        break;
    }
    return std::nullopt;
}

std::uint32_t Learned::first_gate(Protocol protocol, net::Family family) const {
    auto count = [](const auto& tables) {
        return tables ? static_cast<std::uint32_t>(tables->gates().size()) : 0U;
    };
    switch (protocol) {
    case Protocol::ospf: return family == net::Family::ipv4 ? 0 : count(ospf_[0]);
    case Protocol::rip: return count(ospf_[0]) + count(ospf_[1]);
    case Protocol::bgp: break;
    }
    return count(ospf_[0]) + count(ospf_[1]) + count(rip_);
}

std::optional<Lesson> Learned::lesson(MachineId machine, std::uint32_t prefix) const {
    if (!teaches(machine))
        return std::nullopt;
    net::Family family = (*numbers_)[prefix].family();
    auto numbered = [&](Lesson lesson, Protocol protocol) {
        std::uint32_t first = first_gate(protocol, family);
        for (std::size_t i = 0; i < lesson.gate_count; ++i)
            lesson.gates.at(i) += first;
        return lesson;
    };
    std::optional<Lesson> outer = lesson_of(Protocol::bgp, machine, prefix);
    if (outer && outer->kind == RouteKind::bgp_outer)
        return numbered(*outer, Protocol::bgp);
    for (Protocol protocol : {Protocol::ospf, Protocol::rip})
        if (auto lesson = lesson_of(protocol, machine, prefix))
            return numbered(*lesson, protocol);
    if (outer)
        return numbered(*outer, Protocol::bgp);
    return std::nullopt;
}

// --- rounds ----------------------------------------------------------------------------------

// Protocols hand routes to each other, and sessions of BGP need the others to get anywhere: all are
// worked out again until what is handed over stays the same.
class Learned::Rounds {
  public:
    Rounds(Learned& learned, const Condition& condition, const lab::Wiring& wiring)
        : learned_(learned), lab_(*learned.lab_), numbers_(*learned.numbers_),
          condition_(condition), wiring_(wiring), own_(lab_.machines.size()) {}

    void run() {
        constexpr int most_rounds = 16;
        for (int round = 0; round < most_rounds; ++round) {
            Handed next = handed();
            if (round > 0 && next == last_)
                return;
            if (round + 1 == most_rounds)
                return report(next);
            last_ = std::move(next);
            for (std::size_t f : {0, 1})
                if (learned_.ospf_[f])
                    learned_.ospf_[f]->set_externals(last_.ospf[f]);
            if (learned_.rip_)
                learned_.rip_->settle(last_.rip);
            if (learned_.bgp_)
                learned_.bgp_->settle(last_.bgp, ground());
        }
    }

  private:
    struct Handed {
        std::vector<OspfExternal> ospf[2];
        std::vector<RipOrigin> rip;
        std::vector<BgpOrigin> bgp;

        friend bool operator==(const Handed&, const Handed&) = default;
    };

    // --- what a machine has by itself

    const std::vector<Route>& own(MachineId machine) {
        auto& routes = own_[machine.row];
        if (!routes)
            routes = own_routes(lab_, condition_, machine, nullptr);
        return *routes;
    }

    // Its own connected or static route to exactly the prefix, or null.
    const Route* own_route(MachineId machine, const net::Prefix& prefix) {
        const auto& routes = own(machine);
        auto found = std::ranges::lower_bound(routes, prefix, {}, &Route::to);
        for (; found != routes.end() && found->to == prefix; ++found)
            if (found->kind == RouteKind::connected || found->kind == RouteKind::static_route)
                return &*found;
        return nullptr;
    }

    // Where the route comes from that the machine uses for exactly the prefix, or nothing.
    std::optional<RouteKind> winner(MachineId machine, std::uint32_t prefix) {
        if (const Route* route = own_route(machine, numbers_[prefix]))
            return route->kind;
        if (auto lesson = learned_.lesson(machine, prefix))
            return lesson->kind;
        return std::nullopt;
    }

    // --- what is handed from one protocol to another

    static bool is_from(RouteKind kind, plan::RouteSource source) {
        switch (source) {
        case plan::RouteSource::connected: return kind == RouteKind::connected;
        case plan::RouteSource::static_routes: return kind == RouteKind::static_route;
        case plan::RouteSource::ospf: return kind == RouteKind::ospf;
        case plan::RouteSource::rip: return kind == RouteKind::rip;
        case plan::RouteSource::bgp: break;
        }
        return kind == RouteKind::bgp_outer || kind == RouteKind::bgp_inner;
    }

    // The prefixes of a source, default routes left out: those have a key of their own.
    std::vector<std::uint32_t> prefixes_from(MachineId machine, plan::RouteSource source) {
        std::vector<std::uint32_t> found;
        for (const Route& route : own(machine)) {
            bool loopback = route.kind == RouteKind::local && lab_.nics[route.out].is_loopback();
            if (route.to.length() != 0
                && (is_from(route.kind, source)
                    || (loopback && source == plan::RouteSource::connected)))
                if (std::uint32_t number = numbers_.number(route.to); number != numbers_.none)
                    found.push_back(number);
        }
        lessons_ += source >= plan::RouteSource::ospf ? numbers_.size() : 0;
        if (source >= plan::RouteSource::ospf && lessons_ < most_lessons)
            for (std::uint32_t p = 0; p < numbers_.size(); ++p)
                if (numbers_[p].length() != 0)
                    if (auto lesson = learned_.lesson(machine, p);
                        lesson && is_from(lesson->kind, source)
                        && own_route(machine, numbers_[p]) == nullptr)
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
                       std::initializer_list<plan::RouteSource> not_from) {
        if (how == plan::DefaultRoute::none)
            return false;
        auto kind = winner(machine, numbers_.find(net::Prefix::everything(family)));
        return how == plan::DefaultRoute::always
               || (kind && std::ranges::none_of(not_from, [&](plan::RouteSource source) {
                       return is_from(*kind, source);
                   }));
    }

    template <class Row>
    static void tidy(std::vector<Row>& rows) {
        std::ranges::sort(rows);
        auto repeated = std::ranges::unique(rows);
        rows.erase(repeated.begin(), repeated.end());
    }

    Handed handed() {
        Handed all;
        for (const lab::Speaker& speaker : lab_.speakers) {
            if (!condition_.machine_on(speaker.machine))
                continue;
            if (speaker.ospf)
                hand_to_ospf(speaker, all);
            if (speaker.rip)
                hand_to_rip(speaker, all);
            if (speaker.bgp)
                hand_to_bgp(speaker, all);
        }
        tidy(all.ospf[0]);
        tidy(all.ospf[1]);
        tidy(all.rip);
        tidy(all.bgp);
        return all;
    }

    void hand_to_ospf(const lab::Speaker& speaker, Handed& all) {
        constexpr std::uint32_t default_metric = 20;
        MachineId machine = speaker.machine;
        each_redistributed(machine, speaker.ospf->redistribute, default_metric,
                           [&](std::uint32_t prefix, std::uint32_t metric, std::uint8_t type) {
                               bool ipv4 = numbers_[prefix].family() == net::Family::ipv4;
                               all.ospf[ipv4 ? 0 : 1].push_back({machine, prefix, metric, type});
                           });
        for (net::Family family : net::both_families)
            if (gives_default(machine, speaker.ospf->default_route, family,
                              {plan::RouteSource::ospf}))
                all.ospf[family == net::Family::ipv4 ? 0 : 1].push_back(
                    {machine, numbers_.find(net::Prefix::everything(family)), 1, 2});
    }

    void hand_to_rip(const lab::Speaker& speaker, Handed& all) {
        MachineId machine = speaker.machine;
        each_redistributed(machine, speaker.rip->redistribute, 1,
                           [&](std::uint32_t prefix, std::uint32_t metric, std::uint8_t) {
                               all.rip.push_back({prefix, machine, metric});
                           });
        for (net::Family family : net::both_families)
            if (gives_default(machine, speaker.rip->default_route, family,
                              {plan::RouteSource::rip}))
                all.rip.push_back({numbers_.find(net::Prefix::everything(family)), machine, 1});
    }

    void hand_to_bgp(const lab::Speaker& speaker, Handed& all) {
        MachineId machine = speaker.machine;
        for (const net::Prefix& network : speaker.bgp->networks) {
            std::uint32_t prefix = numbers_.find(network);
            if (auto kind = winner(machine, prefix);
                kind && !is_from(*kind, plan::RouteSource::bgp))
                all.bgp.push_back({prefix, machine, 0, false});
        }
        each_redistributed(machine, speaker.bgp->redistribute, 0,
                           [&](std::uint32_t prefix, std::uint32_t metric, std::uint8_t) {
                               all.bgp.push_back({prefix, machine, metric, true});
                           });
        for (net::Family family : net::both_families)
            if (gives_default(machine, speaker.bgp->default_route, family,
                              {plan::RouteSource::bgp}))
                all.bgp.push_back(
                    {numbers_.find(net::Prefix::everything(family)), machine, 0, false});
    }

    // --- what BGP asks

    BgpGround ground() {
        return {[this](MachineId machine, net::Address to) { return way(machine, to); },
                [this](MachineId machine, const net::Flow& flow, lab::FilterId& filter) {
                    return reach(machine, flow, filter);
                },
                [this](const lab::BgpEnds& ends) { return is_adjacent(ends); },
                [this](MachineId one, MachineId other) {
                    return condition_.is_silenced(Protocol::bgp, one, other);
                }};
    }

    // The NIC that has the address and works, or none.
    NicId live_nic(net::Address address) const {
        for (const lab::Owner& owner : lab_.owners_of(address))
            if (is_live(lab_, condition_, owner.nic, address.family()))
                return owner.nic;
        return {};
    }

    bool is_adjacent(const lab::BgpEnds& ends) const {
        NicId own = live_nic(ends.own);
        NicId peer = live_nic(ends.peer);
        if (!own || !peer || lab_.nics[own].is_loopback() || lab_.nics[peer].is_loopback()
            || wiring_.domain(lab_, own) != wiring_.domain(lab_, peer))
            return false;
        for (lab::AddressId id : lab_.addresses_of(own))
            if (lab_.addresses[id].prefix().contains(ends.peer))
                return true;
        return false;
    }

    // By routes of the machine's own, OSPF and RIP; not by way of what BGP itself teaches.
    std::optional<BgpWay> way(MachineId machine, net::Address to) {
        if (is_own(lab_, condition_, machine, to))
            return BgpWay{};
        for (std::uint32_t p = numbers_.lookup(to); p != numbers_.none; p = numbers_.around(p)) {
            if (const Route* route = own_route(machine, numbers_[p])) {
                bool direct = route->kind == RouteKind::connected;
                return BgpWay{0, {{route->out, direct ? to : route->via}}};
            }
            for (Protocol protocol : {Protocol::ospf, Protocol::rip})
                if (auto lesson = learned_.lesson_of(protocol, machine, p)) {
                    BgpWay found{lesson->metric, {}};
                    const auto& gates =
                        protocol == Protocol::rip
                            ? learned_.rip_->gates()
                            : learned_.ospf_[to.family() == net::Family::ipv4 ? 0 : 1]->gates();
                    for (std::size_t i = 0; i < lesson->gate_count; ++i)
                        found.gates.push_back(gates[lesson->gates.at(i)]);
                    return found;
                }
        }
        return std::nullopt;
    }

    Discord reach(MachineId from, const net::Flow& flow, lab::FilterId& filter) {
        constexpr int most_hops = 64;
        MachineId at = from;
        NicId in;
        for (int hop = 0; hop < most_hops; ++hop) {
            if (!condition_.machine_on(at))
                return Discord::no_way;
            if (is_own(lab_, condition_, at, flow.destination)) {
                filter = in ? dropped_at(lab_, in, plan::Way::in, flow) : lab::FilterId{};
                return filter ? Discord::filtered : Discord::none;
            }
            if (in && !lab_.machines[at].forwards)
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
            NicId there = live_nic(gate.via);
            if (!there || wiring_.domain(lab_, there) != wiring_.domain(lab_, gate.out))
                return Discord::no_way;
            at = lab_.nics[there].machine;
            in = there;
        }
        return Discord::no_way;
    }

    // What is handed over changes for ever.
    void report(const Handed& next) {
        Dispute dispute;
        auto compare = [&](const auto& before, const auto& after) {
            for (const auto& row : after)
                if (!std::ranges::binary_search(before, row)) {
                    dispute.to = numbers_[row.prefix];
                    dispute.machines.push_back(row.machine);
                }
        };
        compare(last_.ospf[0], next.ospf[0]);
        compare(last_.ospf[1], next.ospf[1]);
        compare(last_.rip, next.rip);
        compare(last_.bgp, next.bgp);
        std::ranges::sort(dispute.machines);
        auto repeated = std::ranges::unique(dispute.machines);
        dispute.machines.erase(repeated.begin(), repeated.end());
        if (!dispute.machines.empty())
            learned_.disputes_.push_back(std::move(dispute));
    }

    Learned& learned_;
    const lab::Lab& lab_;
    const PrefixNumbers& numbers_;
    const Condition& condition_;
    const lab::Wiring& wiring_;
    std::vector<std::optional<std::vector<Route>>> own_; // by machine
    Handed last_;
    static constexpr std::size_t most_lessons = 50'000'000;
    std::size_t lessons_ = 0; // looked through so far, for what is redistributed
};

void Learned::settle(const Condition& condition, const lab::Wiring& wiring) {
    bool speaks[3] = {false, false, false};
    bool hands_over = false;
    for (const lab::Speaker& speaker : lab_->speakers) {
        auto hands = [&](const auto& told) {
            return told
                   && (!told->redistribute.empty()
                       || told->default_route != plan::DefaultRoute::none);
        };
        speaks[0] = speaks[0] || speaker.ospf;
        speaks[1] = speaks[1] || speaker.rip;
        speaks[2] = speaks[2] || speaker.bgp;
        hands_over = hands_over || hands(speaker.ospf) || hands(speaker.rip);
        if (teaches_.empty())
            teaches_.resize(lab_->machines.size());
        teaches_[speaker.machine.row] = condition.machine_on(speaker.machine);
    }
    for (net::Family family : net::both_families)
        if (auto& tables = ospf_[family == net::Family::ipv4 ? 0 : 1]; speaks[0] && !tables) {
            tables = std::make_unique<OspfTables>(*lab_, *numbers_, family);
            tables->form(condition, wiring);
        }
    if (speaks[1])
        rip_ = std::make_unique<RipTables>(*lab_, *numbers_, condition, wiring);
    if (speaks[2])
        bgp_ = std::make_unique<BgpTables>(*lab_, *numbers_);
    if (hands_over || rip_ || bgp_)
        Rounds(*this, condition, wiring).run();
    if (bgp_)
        disputes_.insert(disputes_.end(), bgp_->disputes().begin(), bgp_->disputes().end());
    auto is_too_large = [](const auto& tables) { return tables && tables->is_too_large(); };
    if (is_too_large(ospf_[0]) || is_too_large(ospf_[1]) || is_too_large(rip_)
        || is_too_large(bgp_))
        disputes_.emplace_back();
    collect_gates();
}

void Learned::collect_gates() {
    auto add = [&](const auto& tables) {
        if (tables)
            gates_.insert(gates_.end(), tables->gates().begin(), tables->gates().end());
    };
    add(ospf_[0]);
    add(ospf_[1]);
    add(rip_);
    add(bgp_);
}

Tables::Tables(const lab::Lab& lab)
    : lab_(&lab), numbers_(std::make_shared<const PrefixNumbers>(lab)) {}

std::shared_ptr<const Learned> Tables::learn(const Condition& condition) const {
    return std::make_shared<const Learned>(*lab_, condition, lab::Wiring(*lab_, condition.wiring()),
                                           numbers_);
}

std::shared_ptr<const Learned> Tables::learn_again(const Learned& before,
                                                   const Condition& known_under,
                                                   const Condition& condition) const {
    return std::make_shared<const Learned>(before, known_under, condition,
                                           lab::Wiring(*lab_, condition.wiring()));
}

// --- tables for people -----------------------------------------------------------------------

std::vector<Neighbour> Learned::neighbours() const {
    std::vector<Neighbour> all;
    for (const auto& tables : ospf_)
        if (tables)
            tables->add_neighbours(all);
    if (rip_)
        all.insert(all.end(), rip_->neighbours().begin(), rip_->neighbours().end());
    if (bgp_)
        all.insert(all.end(), bgp_->neighbours().begin(), bgp_->neighbours().end());
    std::ranges::stable_sort(all, {}, [](const Neighbour& n) {
        return std::tuple(n.protocol, n.machine, n.family, n.nic);
    });
    return all;
}

std::vector<Offer> Learned::offers(MachineId machine) const {
    std::vector<Offer> all;
    for (std::uint32_t p = 0; teaches(machine) && p < numbers_->size(); ++p) {
        std::size_t first = all.size();
        net::Family family = (*numbers_)[p].family();
        auto add = [&](Protocol protocol, auto source) {
            auto lesson = lesson_of(protocol, machine, p);
            if (!lesson)
                return;
            Offer offer{.to = (*numbers_)[p],
                        .kind = lesson->kind,
                        .metric = lesson->metric,
                        .gates = {},
                        .type = lesson->type,
                        .from = {},
                        .path = {}};
            for (std::size_t i = 0; i < lesson->gate_count; ++i)
                offer.gates.push_back(gates_[first_gate(protocol, family) + lesson->gates.at(i)]);
            source(offer);
            all.push_back(std::move(offer));
        };
        add(Protocol::ospf, [&](Offer& offer) {
            const auto& tables = ospf_[family == net::Family::ipv4 ? 0 : 1];
            auto source = tables->source(machine, p);
            offer.from = source.origin;
            offer.area = source.area;
        });
        add(Protocol::rip, [&](Offer& offer) { offer.from = rip_->source(machine, p); });
        if (bgp_)
            for (Offer& offer : bgp_->paths(machine, p))
                if (offer.from != machine)
                    all.push_back(std::move(offer));
        std::stable_sort(all.begin() + static_cast<std::ptrdiff_t>(first), all.end(),
                         [](const Offer& a, const Offer& b) {
                             auto rank = [](const Offer& o) {
                                 return std::pair(o.lost_by != Decision::best, preference(o.kind));
                             };
                             return rank(a) < rank(b);
                         });
    }
    return all;
}

std::vector<LinkState> Learned::link_states(MachineId machine) const {
    std::vector<LinkState> all;
    for (const auto& tables : ospf_)
        if (tables && teaches(machine))
            tables->add_link_states(machine, all);
    std::ranges::stable_sort(
        all, {}, [](const LinkState& s) { return std::tuple(s.family, s.area, s.kind, s.origin); });
    return all;
}

std::vector<Offer> Learned::announced(const Neighbour& neighbour) const {
    if (neighbour.protocol == Protocol::bgp && bgp_)
        return bgp_->announced(neighbour.machine, neighbour.configured, neighbour.family);
    std::vector<Offer> all;
    if (neighbour.protocol == Protocol::rip && rip_)
        for (auto [prefix, metric] : rip_->announced(neighbour.machine, neighbour.nic))
            if ((*numbers_)[prefix].family() == neighbour.family)
                all.push_back({.to = (*numbers_)[prefix],
                               .kind = RouteKind::rip,
                               .metric = metric,
                               .gates = {},
                               .from = neighbour.machine,
                               .path = {}});
    return all;
}

} // namespace jackal::routing
