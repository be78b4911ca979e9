#include "jackal/routing/learned.h"

#include "routing/protocol.h"
#include "routing/rounds.h"

#include <algorithm>

namespace jackal::routing {

using lab::MachineId;
using lab::NicId;

// --- words -----------------------------------------------------------------------------------

std::string_view to_string(RouteKind kind) {
    switch (kind) {
    case RouteKind::local: return "local";
    case RouteKind::broadcast: return "broadcast";
    case RouteKind::connected: return "connected";
    case RouteKind::static_route: return "static";
    case RouteKind::ospf: return "ospf";
    case RouteKind::rip: return "rip";
    case RouteKind::bgp_outer:
    case RouteKind::bgp_inner: break;
    }
    return "bgp";
}

unsigned administrative_distance(RouteKind kind) {
    switch (kind) {
    case RouteKind::static_route: return 1;
    case RouteKind::bgp_outer: return 20;
    case RouteKind::ospf: return 110;
    case RouteKind::rip: return 120;
    case RouteKind::bgp_inner: return 200;
    default: return 0;
    }
}

std::string_view state_name(const Neighbour& neighbour) {
    return spoken(neighbour.protocol).state_name(neighbour);
}

std::string_view slug(Discord discord) {
    switch (discord) {
    case Discord::none: break;
    case Discord::not_spoken: return "not-spoken";
    case Discord::passive: return "passive";
    case Discord::filtered: return "filtered";
    case Discord::area: return "area";
    case Discord::hello: return "hello-interval";
    case Discord::dead: return "dead-interval";
    case Discord::prefix: return "prefix";
    case Discord::own_address: return "own-address";
    case Discord::stub: return "stub-area";
    case Discord::router_id: return "router-id";
    case Discord::no_router_id: return "no-router-id";
    case Discord::network_type: return "network-type";
    case Discord::mac: return "mac";
    case Discord::broadcast_address: return "broadcast-address";
    case Discord::mtu: return "mtu";
    case Discord::no_designated: return "no-designated-router";
    case Discord::as_number: return "as-number";
    case Discord::not_configured: return "not-configured";
    case Discord::other_address: return "other-address";
    case Discord::not_adjacent: return "not-adjacent";
    case Discord::no_way: return "no-way";
    case Discord::shut: return "shut";
    case Discord::cut: return "cut";
    }
    return "";
}

std::string_view to_string(PathType type) {
    switch (type) {
    case PathType::none: break;
    case PathType::intra_area: return "intra-area";
    case PathType::inter_area: return "inter-area";
    case PathType::external_1: return "external 1";
    case PathType::external_2: return "external 2";
    }
    return "";
}

std::string_view to_string(LinkState::Kind kind) {
    switch (kind) {
    case LinkState::Kind::router: return "router";
    case LinkState::Kind::network: return "network";
    case LinkState::Kind::summary: return "summary";
    case LinkState::Kind::external: return "external";
    case LinkState::Kind::nssa: break;
    }
    return "nssa";
}

std::string_view to_string(Decision decision) {
    switch (decision) {
    case Decision::best: return "best";
    case Decision::unreachable: return "no way to the next hop";
    case Decision::local_preference: return "lower local preference";
    case Decision::own: return "the machine's own comes first";
    case Decision::as_path_length: return "longer AS path";
    case Decision::origin: return "redistributed";
    case Decision::med: return "higher MED";
    case Decision::outer: return "from the same AS";
    case Decision::next_hop_cost: return "next hop further away";
    case Decision::router_id: return "higher router id";
    case Decision::cluster_list: return "reflected more often";
    case Decision::peer_address: break;
    }
    return "higher neighbour address";
}

// --- lessons ---------------------------------------------------------------------------------

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
        for (const auto& tables : before.tables_)
            if (auto reduced = tables->reduced(condition))
                tables_.push_back(std::move(reduced));
    settle(condition, wiring);
}

std::optional<Lesson> Learned::lesson(MachineId machine, std::uint32_t prefix) const {
    if (!teaches(machine))
        return std::nullopt;
    auto [best, lesson] = best_lesson(tables_, machine, prefix, (*numbers_)[prefix].family());
    if (best == nullptr)
        return std::nullopt;
    std::uint32_t first = 0;
    for (const auto& tables : tables_) {
        if (tables.get() == best)
            break;
        first += static_cast<std::uint32_t>(tables->gates().size());
    }
    for (std::size_t i = 0; i < lesson.gate_count; ++i)
        lesson.gates.at(i) += first;
    return lesson;
}

void Learned::add_traits(std::uint32_t prefix, std::vector<std::uint64_t>& into) const {
    for (const auto& tables : tables_)
        if (tables->serves((*numbers_)[prefix].family())) {
            tables->add_traits(prefix, into);
            into.push_back(~std::uint64_t{0});
        }
}

namespace {

using AllTables = std::vector<std::unique_ptr<ProtocolTables>>;

// What all tables add beside those before; nothing if there were others, or some do not know.
template <class One>
std::optional<std::vector<One>> added(const AllTables& now, const AllTables& before,
                                      bool (ProtocolTables::*add)(const ProtocolTables&,
                                                                  std::vector<One>&) const) {
    std::vector<One> found;
    auto adds = [&](const auto& tables, const auto& old) {
        return tables->protocol() == old->protocol() && ((*tables).*add)(*old, found);
    };
    if (!std::ranges::equal(now, before, adds))
        return std::nullopt;
    return found;
}

} // namespace

std::optional<std::vector<LessonChange>> Learned::changes(const Learned& before) const {
    return added<LessonChange>(tables_, before.tables_, &ProtocolTables::add_changes);
}

void Learned::settle(const Condition& condition, const lab::Wiring& wiring) {
    bool hands_over = false;
    for (const SpokenProtocol* protocol : protocols()) {
        bool is_spoken = false;
        for (const lab::Speaker& speaker : lab_->speakers)
            if (auto exports = protocol->exports(speaker)) {
                is_spoken = true;
                hands_over = hands_over || !exports->redistribute.empty()
                             || exports->default_route != plan::DefaultRoute::none;
            }
        if (is_spoken)
            protocol->make_tables(*lab_, *numbers_, condition, wiring, tables_);
    }
    std::ranges::stable_sort(tables_, {}, [](const auto& tables) {
        return std::pair(tables->protocol(), !tables->serves(net::Family::ipv4));
    });
    for (const lab::Speaker& speaker : lab_->speakers) {
        if (teaches_.empty())
            teaches_.resize(lab_->machines.size());
        teaches_[speaker.machine.row] = condition.machine_on(speaker.machine);
    }
    auto is_settled = [](const auto& tables) { return tables->is_settled_alone(); };
    if (hands_over || !std::ranges::all_of(tables_, is_settled))
        settle_together(tables_, *lab_, *numbers_, condition, wiring, disputes_);
    for (const auto& tables : tables_) {
        disputes_.insert(disputes_.end(), tables->disputes().begin(), tables->disputes().end());
        gates_.insert(gates_.end(), tables->gates().begin(), tables->gates().end());
    }
    if (std::ranges::any_of(tables_, [](const auto& tables) { return tables->is_too_large(); }))
        disputes_.push_back(
            {.kind = Dispute::Kind::too_large, .to = {}, .machines = {}, .standings = {}});
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
    auto place = [](const Neighbour& n) {
        return std::tuple(n.protocol, n.machine, n.family, n.nic);
    };
    for (const auto& tables : tables_) {
        const auto count = static_cast<std::ptrdiff_t>(all.size());
        tables->add_neighbours(all);
        const auto first = all.begin() + count;
        if (!std::ranges::is_sorted(first, all.end(), {}, place))
            std::ranges::stable_sort(first, all.end(), {}, place);
        if (count != 0 && first != all.end() && place(*first) < place(*(first - 1)))
            std::ranges::inplace_merge(all.begin(), first, all.end(), {}, place);
    }
    return all;
}

std::optional<std::vector<Neighbour>> Learned::lost_neighbours(const Learned& before) const {
    return added<Neighbour>(tables_, before.tables_, &ProtocolTables::add_lost_neighbours);
}

std::vector<Offer> Learned::offers(MachineId machine) const {
    std::vector<Offer> all;
    for (std::uint32_t p = 0; teaches(machine) && p < numbers_->size(); ++p) {
        std::size_t first = all.size();
        for (const auto& tables : tables_)
            if (tables->serves((*numbers_)[p].family()))
                for (Offer& offer : tables->offers(machine, p))
                    all.push_back(std::move(offer));
        std::stable_sort(all.begin() + static_cast<std::ptrdiff_t>(first), all.end(),
                         [](const Offer& a, const Offer& b) {
                             auto rank = [](const Offer& o) {
                                 return std::pair(o.lost_by != Decision::best,
                                                  administrative_distance(o.kind));
                             };
                             return rank(a) < rank(b);
                         });
    }
    return all;
}

std::vector<LinkState> Learned::link_states(MachineId machine) const {
    std::vector<LinkState> all;
    for (const auto& tables : tables_)
        if (teaches(machine))
            tables->add_link_states(machine, all);
    std::ranges::stable_sort(
        all, {}, [](const LinkState& s) { return std::tuple(s.family, s.area, s.kind, s.origin); });
    return all;
}

std::vector<Offer> Learned::announced(const Neighbour& neighbour) const {
    for (const auto& tables : tables_)
        if (tables->protocol() == neighbour.protocol && tables->serves(neighbour.family))
            return tables->announced(neighbour);
    return {};
}

} // namespace jackal::routing
