#include "jackal/routing/settled.h"

#include "jackal/net/special_use.h"
#include "jackal/sorted.h"
#include "neighbour.h"
#include "prefix_numbers.h"
#include "route_list.h"
#include "table_changes.h"

#include <algorithm>
#include <array>
#include <bit>
#include <map>

namespace jackal::routing {

using lab::Lab;
using lab::MachineId;
using lab::NicId;

// --- sources -------------------------------------------------------------------------------

namespace {

// RFC 6724 section 2.1, without what no lab has.
int label(net::Address address) {
    static const std::array<std::pair<net::Prefix, int>, 3> labels = {
        std::pair(net::parse_prefix("fc00::/7").value(), 13),
        std::pair(net::parse_prefix("2002::/16").value(), 2),
        std::pair(net::parse_prefix("2001::/32").value(), 5)};
    for (const auto& [prefix, number] : labels)
        if (prefix.contains(address))
            return number;
    return 1;
}

int common_bits(net::Address a, net::Address b) {
    std::uint64_t high = a.high() ^ b.high();
    return high != 0 ? std::countl_zero(high) : 64 + std::countl_zero(a.low() ^ b.low());
}

} // namespace

std::optional<lab::AddressId> source_on(const Lab& lab, NicId out, net::Address next_hop,
                                        net::Address destination) {
    std::optional<lab::AddressId> best;
    std::tuple<bool, bool, int> best_rank;
    for (lab::AddressId id : lab.addresses_of(out)) {
        const lab::InterfaceAddress& row = lab.addresses[id];
        if (row.address.family() != destination.family())
            continue;
        if (row.address.family() == net::Family::ipv4) {
            if (row.prefix().contains(next_hop))
                return id;
            continue;
        }
        std::tuple rank(row.address == destination, label(row.address) == label(destination),
                        std::min<int>(row.length, common_bits(row.address, destination)));
        if (!best || rank >= best_rank) {
            best = id;
            best_rank = rank;
        }
    }
    return best;
}

// --- asking --------------------------------------------------------------------------------

Aim Settled::aim(net::Address destination) const {
    return {destination, numbers_->lookup(destination), lab_->owners_of(destination),
            std::ranges::binary_search(broadcasts_, destination)};
}

AlikePrefixes Settled::alike(const std::vector<bool>& counted) const {
    constexpr std::uint8_t connected_hop = no_large_hop - 1;
    AlikePrefixes alike;
    alike.on_link.resize(numbers_->size());
    std::vector<std::vector<std::uint64_t>> traits(numbers_->size());
    std::vector<std::pair<MachineId, const Forwarding*>> large;
    for (MachineId machine : lab_->machines.ids()) {
        const Forwarding& table = forwarding_[machine.row];
        if (!counted[machine.row])
            continue;
        if (table.large)
            large.emplace_back(machine, &table);
        for (std::size_t i = table.first; i < table.first + table.count && !table.large; ++i)
            if (hops_[table.first_hop + small_[i].hop].kind == RouteKind::connected)
                alike.on_link[small_[i].prefix].push_back(machine);
            else
                traits[small_[i].prefix].push_back(std::uint64_t{machine.row} << 32
                                                   | small_[i].hop);
    }
    std::map<std::vector<std::uint64_t>, std::uint32_t> known;
    for (std::uint32_t p = 0; p < numbers_->size(); ++p) {
        std::vector<MachineId>& on_link = alike.on_link[p];
        for (const auto& [machine, table] : large) {
            std::uint8_t hop = large_[std::size_t{p} * large_count_ + table->first];
            bool is_on_link =
                hop != no_large_hop && hops_[table->first_hop + hop].kind == RouteKind::connected;
            if (is_on_link)
                on_link.push_back(machine);
            traits[p].push_back(is_on_link ? connected_hop : hop);
        }
        std::uint32_t around = numbers_->around(p); // a smaller number
        if (around != PrefixNumbers::none)
            on_link.insert(on_link.end(), alike.on_link[around].begin(),
                           alike.on_link[around].end());
        sort_unique(on_link);
        traits[p].push_back(around);
        for (MachineId machine : on_link)
            traits[p].push_back(machine.row);
        for (const Epoch& epoch : epochs_)
            epoch.learned->add_traits(p, traits[p]);
        alike.group.push_back(
            known.try_emplace(std::move(traits[p]), static_cast<std::uint32_t>(known.size()))
                .first->second);
    }
    return alike;
}

std::optional<std::vector<std::uint32_t>> Settled::own_prefixes(MachineId machine) const {
    const Forwarding& table = forwarding_[machine.row];
    if (table.large)
        return std::nullopt;
    std::vector<std::uint32_t> prefixes;
    for (std::size_t i = table.first; i < table.first + table.count; ++i)
        prefixes.push_back(small_[i].prefix);
    return prefixes;
}

bool Settled::finds_otherwise(MachineId machine, const Settled& before) const {
    const std::vector<Gate>& gates = lessons()->gates();
    for (std::size_t i = 0; i < gates.size(); ++i)
        if (lab_->nics[gates[i].out].machine == machine
            && is_live(*lab_, condition_, gates[i].out, gates[i].via.family())
            && (learned_hops_[i].neighbour != before.learned_hops_[i].neighbour
                || is_refused_hop_[i] != before.is_refused_hop_[i]))
            return true;
    return false;
}

const Hop* Settled::exact_hop(const Forwarding& table, std::uint32_t prefix) const {
    auto begin = small_.begin() + static_cast<std::ptrdiff_t>(table.first);
    auto end = begin + table.count;
    auto found = std::ranges::lower_bound(begin, end, prefix, {}, &Entry::prefix);
    return found != end && found->prefix == prefix ? &hops_[table.first_hop + found->hop] : nullptr;
}

const Hop* Settled::small_hop(const Forwarding& table, std::uint32_t prefix) const {
    for (; prefix != PrefixNumbers::none; prefix = numbers_->around(prefix))
        if (const Hop* hop = exact_hop(table, prefix))
            return hop;
    return nullptr;
}

// The longest prefix decides, and for one prefix the machine's own routes come first.
Settled::Choice Settled::learned_choice(MachineId machine, const Aim& aim,
                                        std::uint32_t share) const {
    const Epoch& epoch = epoch_of(machine);
    for (std::uint32_t p = aim.prefix; p != PrefixNumbers::none; p = numbers_->around(p)) {
        if (const Hop* hop = exact_hop(forwarding_[machine.row], p))
            return {hop};
        if (auto lesson = usable_lesson(machine, p)) {
            std::uint32_t gate = lesson->gates.at(share % lesson->gate_count);
            return {&learned_hops_[epoch.first_hop + gate], lesson->gate_count};
        }
    }
    return {};
}

// What was learned before something was cut may lead by a NIC that is down since, and that route
// is gone. And the kernel takes no route by way of an address that is the machine's own.
std::optional<Lesson> Settled::usable_lesson(MachineId machine, std::uint32_t prefix) const {
    const Epoch& epoch = epoch_of(machine);
    const Learned& source = *epoch.learned;
    auto lesson = source.lesson(machine, prefix);
    if (!lesson || (knows_.empty() && !has_refused_hops_))
        return lesson;
    Lesson kept = *lesson;
    kept.gate_count = 0;
    for (std::size_t i = 0; i < lesson->gate_count; ++i)
        if (const Gate& gate = source.gates()[lesson->gates.at(i)];
            condition_.carries(*lab_, gate.out, gate.via.family())
            && !is_refused_hop_[epoch.first_hop + lesson->gates.at(i)])
            kept.add_gate(lesson->gates.at(i));
    return kept.gate_count == 0 ? std::nullopt : std::optional(kept);
}

// An address of the machine itself that is the broadcast address of a prefix too is what it was
// first.
bool Settled::is_local_first(MachineId machine, const Aim& aim) const {
    for (NicId nic : lab_->nics_of(machine))
        for (lab::AddressId id : lab_->addresses_of(nic)) {
            const lab::InterfaceAddress& row = lab_->addresses[id];
            if (row.address == aim.address)
                return true;
            if (condition_.nic_up(nic) && row.prefix().is_broadcast_address(aim.address))
                return false;
        }
    return false;
}

bool Settled::is_broadcast(MachineId machine, const Aim& aim) const {
    if (!aim.is_broadcast)
        return false;
    for (NicId nic : lab_->nics_of(machine))
        for (lab::AddressId id : lab_->addresses_of(nic))
            if (condition_.nic_up(nic)
                && lab_->addresses[id].prefix().is_broadcast_address(aim.address)
                && !was_broadcast(machine, lab_->addresses[id].address))
                return true;
    return false;
}

// An address that was a broadcast address of the machine's first: it gets no routes, and nobody is
// answered for it.
bool Settled::was_broadcast(MachineId machine, net::Address address) const {
    return std::ranges::binary_search(broadcasts_, address)
           && !is_local_first(machine, aim(address));
}

std::vector<Route> Settled::routes(MachineId machine) const {
    std::vector<Route> all = own_routes(*lab_, condition_, machine, nullptr);
    if (!forwarding_[machine.row].learns)
        return all;
    auto is_own = [&](const net::Prefix& prefix) {
        auto found = std::ranges::lower_bound(all, prefix, {}, &Route::to);
        for (; found != all.end() && found->to == prefix; ++found)
            if (found->kind == RouteKind::connected || found->kind == RouteKind::static_route)
                return true;
        return false;
    };
    std::vector<Route> lessons;
    for (std::uint32_t p = 0; p < numbers_->size(); ++p)
        if (auto lesson = usable_lesson(machine, p); lesson && !is_own((*numbers_)[p]))
            add_lesson(*lesson, machine, (*numbers_)[p], lessons);
    auto middle = static_cast<std::ptrdiff_t>(all.size());
    all.insert(all.end(), lessons.begin(), lessons.end());
    std::ranges::inplace_merge(all, all.begin() + middle, {}, &Route::to);
    return all;
}

// A route for each next hop.
void Settled::add_lesson(const Lesson& lesson, MachineId machine, const net::Prefix& to,
                         std::vector<Route>& into) const {
    for (std::size_t i = 0; i < lesson.gate_count; ++i) {
        const Gate& gate = learned(machine).gates()[lesson.gates.at(i)];
        auto source = source_on(*lab_, gate.out, gate.via, to.first());
        into.push_back({.to = to,
                        .kind = lesson.kind,
                        .out = gate.out,
                        .via = gate.via,
                        .source = source.value_or(lab::AddressId{}),
                        .metric = lesson.metric,
                        .written = {}});
    }
}

std::optional<Route> Settled::route(MachineId machine, net::Address destination) const {
    std::optional<Route> best;
    for (const Route& route : own_routes(*lab_, condition_, machine, nullptr))
        if (route.to.contains(destination) && (!best || route.to.length() > best->to.length()))
            best = route;
    if (!forwarding_[machine.row].learns)
        return best;
    for (std::uint32_t p = numbers_->lookup(destination); p != PrefixNumbers::none;
         p = numbers_->around(p)) {
        if (best && best->to.length() >= (*numbers_)[p].length())
            break;
        if (auto lesson = usable_lesson(machine, p)) {
            std::vector<Route> found;
            add_lesson(*lesson, machine, (*numbers_)[p], found);
            return found.front();
        }
    }
    return best;
}

void Settled::answering(NicId asking, std::span<const lab::Owner> owners,
                        std::vector<NicId>& into) const {
    into.clear();
    lab::SegmentId segment = lab_->nics[asking].segment;
    if (lab::LinkId link = lab_->segments[segment].link; link && !condition_.link_up(link))
        return;
    for (const lab::Owner& owner : owners) {
        net::Family family = owner.address.family();
        if (was_broadcast(owner.machine, owner.address))
            continue;
        for (NicId nic : lab_->nics_of(owner.machine)) {
            if (owner.machine == lab_->nics[asking].machine || !hears(asking, nic)
                || !condition_.machine_on(owner.machine) || !condition_.carries(*lab_, nic, family)
                || (family == net::Family::ipv6 && nic != owner.nic))
                continue;
            if (std::ranges::find(into, nic) == into.end())
                into.push_back(nic);
            break;
        }
    }
    if (into.size() != 1)
        return;
    add_clones(into.front(), into);
    // The answer goes to the asking NIC's MAC, and so perhaps to another that has it too.
    std::vector<NicId> hear_answer;
    add_clones(asking, hear_answer);
    if (into.size() == 1 && !hear_answer.empty()) {
        into = std::move(hear_answer);
        into.insert(into.begin(), asking);
    }
}

// Frames for the NIC may as well go to the others on its segment that have the same MAC; and if one
// of those is the sending one, nowhere.
void Settled::add_clones(NicId meant, std::vector<NicId>& into) const {
    each_with_mac_of(*lab_, meant, [&](NicId nic) {
        if (hears(nic, meant) && condition_.machine_on(lab_->nics[nic].machine)
            && condition_.nic_up(nic))
            into.push_back(nic);
    });
}

// --- forwarding tables ---------------------------------------------------------------------

void Settled::collect_broadcasts() {
    for (const lab::InterfaceAddress& row : lab_->addresses)
        if (net::Prefix prefix = row.prefix(); prefix.is_broadcast_address(prefix.last()))
            broadcasts_.push_back(prefix.last());
    sort_unique(broadcasts_);
}

bool Settled::is_direct(const Route& route) const {
    if (route.kind != RouteKind::static_route || route.to.family() == net::Family::ipv6)
        return false;
    return has_address(*lab_, lab_->nics[route.out].machine, route.via);
}

Hop Settled::hop_to(NicId out, net::Address via, lab::AddressId source, RouteKind kind) const {
    Hop hop{.out = out,
            .neighbour = {},
            .machine = {},
            .source = source,
            .mtu_bytes = lab_->nics[out].mtu_bytes,
            .kind = kind};
    hop.source_is_shared = lab_->owners_of(lab_->addresses[source].address).size() > 1;
    hop.is_tunnel = bool(lab_->tunnel(out));
    if (kind != RouteKind::connected) {
        std::vector<NicId> answers;
        answering(out, lab_->owners_of(via), answers);
        if (answers.size() == 1)
            hop.neighbour = answers.front();
        if (hop.neighbour) {
            hop.machine = lab_->nics[hop.neighbour].machine;
            // The end of a tunnel takes whatever comes out of the outer packet.
            hop.neighbour_takes_less =
                lab_->nics[hop.neighbour].mtu_bytes < hop.mtu_bytes && !hop.is_tunnel;
        }
    }
    return hop;
}

// The number of the hop that the route leads to, among those of its machine; a new one if needed.
std::uint32_t Settled::hop_number(const Route& route, std::uint32_t first_hop) {
    RouteKind kind = is_direct(route) ? RouteKind::connected : route.kind;
    auto leads_there = [&](const Hop& hop) {
        return hop.kind == kind && hop.out == route.out && hop.source == route.source
               && (hop.row == lab::RouteId::no_row
                   || lab_->routes[lab::RouteId{hop.row}].via == route.via);
    };
    for (std::size_t i = first_hop; i < hops_.size(); ++i)
        if (leads_there(hops_[i]))
            return static_cast<std::uint32_t>(i) - first_hop;
    hops_.push_back(hop_to(route.out, route.via, route.source, kind));
    hops_.back().row = route.written.row;
    return static_cast<std::uint32_t>(hops_.size() - 1) - first_hop;
}

void Settled::add_learned_hops(Epoch& epoch) {
    epoch.first_hop = static_cast<std::uint32_t>(learned_hops_.size());
    const std::vector<Gate>& gates = epoch.learned->gates();
    make_room_for_hops(learned_hops_.size() + gates.size());
    for (std::uint32_t i = 0; i < gates.size(); ++i)
        set_learned_hop(epoch.first_hop + i, gates[i]);
}

void Settled::make_room_for_hops(std::size_t count) {
    learned_hops_.resize(count);
    vias_.resize(count);
    is_refused_hop_.resize(count);
}

void Settled::set_learned_hop(std::uint32_t number, const Gate& gate) {
    auto source = source_on(*lab_, gate.out, gate.via, gate.via);
    if (!source) // the NIC has no address of the family
        source = *lab_->addresses_of(gate.out).begin();
    Hop hop = hop_to(gate.out, gate.via, *source,
                     gate.is_direct() ? RouteKind::connected : RouteKind::ospf);
    hop.row = number;
    learned_hops_[number] = hop;
    vias_[number] = gate.via;
    MachineId machine = lab_->nics[gate.out].machine;
    Aim via = aim(gate.via);
    // Another NIC of the machine may have the same link-local address: it is on another link.
    is_refused_hop_[number] =
        !net::is_link_local(gate.via) && (is_local(machine, via) || is_broadcast(machine, via));
    has_refused_hops_ = has_refused_hops_ || is_refused_hop_[number];
}

// A hop for every prefix. Prefixes are numbered so that a shorter one comes before those it holds.
std::vector<std::uint8_t> Settled::spread(const std::vector<Entry>& entries) const {
    std::vector<std::uint8_t> hops(numbers_->size(), no_large_hop);
    for (const Entry& entry : entries)
        hops[entry.prefix] = static_cast<std::uint8_t>(entry.hop);
    for (std::uint32_t i = 0; i < numbers_->size(); ++i)
        if (hops[i] == no_large_hop && numbers_->around(i) != PrefixNumbers::none)
            hops[i] = hops[numbers_->around(i)];
    return hops;
}

// From one row a machine, as they are made, to one row a prefix.
void Settled::turn_large() {
    std::vector<std::uint8_t> turned(large_.size());
    for (std::size_t machine = 0; machine < large_count_; ++machine)
        for (std::size_t prefix = 0; prefix < numbers_->size(); ++prefix)
            turned[prefix * large_count_ + machine] = large_[machine * numbers_->size() + prefix];
    large_ = std::move(turned);
}

// A new table of the machine, with its hops, but still without entries: those.
std::vector<Settled::Entry> Settled::settle_machine(MachineId id, Forwarding& table) {
    table = {.first_hop = static_cast<std::uint32_t>(hops_.size()),
             .learns = learned(id).teaches(id)};
    std::vector<Entry> entries;
    std::uint32_t prefix = 0;
    for (const Route& route : own_routes(*lab_, condition_, id, &refused_)) {
        if (route.kind != RouteKind::connected && route.kind != RouteKind::static_route)
            continue;
        prefix = numbers_->find(route.to, prefix);
        if (entries.empty() || entries.back().prefix != prefix) // the best one comes first
            entries.push_back({prefix, hop_number(route, table.first_hop)});
    }
    return entries;
}

bool Settled::may_be_large(const Forwarding& table) const {
    return !table.learns && hops_.size() - table.first_hop < no_large_hop;
}

void Settled::make_small(Forwarding& table, const std::vector<Entry>& entries) {
    table.first = small_.size();
    table.count = static_cast<std::uint32_t>(entries.size());
    small_.insert(small_.end(), entries.begin(), entries.end());
}

void Settled::fill() {
    collect_broadcasts();
    forwarding_.reserve(lab_->machines.size());
    for (MachineId id : lab_->machines.ids()) {
        Forwarding& table = forwarding_.emplace_back();
        const std::vector<Entry> entries = settle_machine(id, table);
        if (entries.size() <= numbers_->size() / 16 || !may_be_large(table)) {
            make_small(table, entries);
            continue;
        }
        table.large = true;
        table.first = large_count_++;
        const std::vector<std::uint8_t> hops = spread(entries);
        large_.insert(large_.end(), hops.begin(), hops.end());
    }
    for (Epoch& epoch : epochs_)
        add_learned_hops(epoch);
    hops_.shrink_to_fit();
    small_.shrink_to_fit();
    turn_large();
}

// The same, from what was before, under a condition with the same wiring: what was is kept, but for
// machines that the difference touches.
void Settled::fill_from(const Settled& before) {
    const std::vector<bool> touched = Touched(before, *this).machines;
    broadcasts_ = before.broadcasts_;
    forwarding_ = before.forwarding_;
    hops_ = before.hops_;
    small_ = before.small_;
    large_ = before.large_;
    large_count_ = before.large_count_;
    for (const RefusedRoute& refused : before.refused_)
        if (!touched[refused.machine.row])
            refused_.push_back(refused);
    for (MachineId id : lab_->machines.ids()) {
        if (!touched[id.row])
            continue;
        const Forwarding was = forwarding_[id.row];
        Forwarding& table = forwarding_[id.row];
        const std::vector<Entry> entries = settle_machine(id, table);
        if (!was.large || !may_be_large(table)) {
            make_small(table, entries);
            continue;
        }
        table.large = true;
        table.first = was.first;
        const std::vector<std::uint8_t> hops = spread(entries);
        for (std::size_t prefix = 0; prefix < hops.size(); ++prefix)
            large_[prefix * large_count_ + table.first] = hops[prefix];
    }
    std::ranges::stable_sort(refused_, {}, &RefusedRoute::machine);
    const std::vector<Gate>& gates = lessons()->gates();
    const std::vector<Gate>& old_gates = before.lessons()->gates();
    learned_hops_ = before.learned_hops_;
    vias_ = before.vias_;
    is_refused_hop_ = before.is_refused_hop_;
    make_room_for_hops(gates.size());
    has_refused_hops_ = std::ranges::find(is_refused_hop_, true) != is_refused_hop_.end();
    for (std::uint32_t i = 0; i < gates.size(); ++i)
        if (i >= old_gates.size() || gates[i] != old_gates[i]
            || touched[lab_->nics[gates[i].out].machine.row])
            set_learned_hop(i, gates[i]);
}

Settled settle(const Lab& lab, Condition condition) {
    Settled settled(lab, std::move(condition));
    settled.numbers_ = std::make_shared<const PrefixNumbers>(lab);
    settled.epochs_.push_back({std::make_shared<const Learned>(lab, settled.condition_,
                                                               settled.wiring_, settled.numbers_)});
    settled.fill();
    return settled;
}

Settled resettle(const Settled& before, Condition condition) {
    Settled settled(before.lab(), std::move(condition));
    settled.numbers_ = before.numbers_;
    settled.epochs_.push_back({std::make_shared<const Learned>(
        *before.lessons(), before.condition_, settled.condition_, settled.wiring_)});
    if (before.knows_.empty() && before.condition_.wiring() == settled.condition_.wiring())
        settled.fill_from(before);
    else
        settled.fill();
    return settled;
}

Settled settle_mixed(const Lab& lab, Condition condition,
                     std::vector<std::shared_ptr<const Learned>> epochs,
                     std::vector<std::uint32_t> knows) {
    Settled settled(lab, std::move(condition));
    settled.numbers_ = epochs.front()->numbers();
    for (auto& learned : epochs)
        settled.epochs_.push_back({std::move(learned)});
    settled.knows_ = std::move(knows);
    settled.fill();
    return settled;
}

Settled settle(const Lab& lab) {
    return settle(lab, Condition(lab));
}

std::string_view to_string(Refusal why) {
    switch (why) {
    case Refusal::next_hop_off_link: return "the next hop is on no subnet that is up";
    case Refusal::next_hop_is_own: return "the next hop is the machine itself";
    case Refusal::next_hop_is_routed: return "the next hop is itself reached by another route";
    case Refusal::next_hop_is_broadcast: return "the next hop is a broadcast address";
    case Refusal::repeated: break;
    }
    return "an earlier route has its prefix and metric";
}

std::optional<Loss> loss_of(const Offer& offer, const std::vector<Route>& routes) {
    if (offer.lost_by != Decision::best)
        return Loss{offer.lost_by, std::nullopt};
    for (const Route& route : routes)
        if (route.to == offer.to && route.kind >= RouteKind::connected && route.kind != offer.kind)
            return Loss{Decision::best, route.kind};
    return std::nullopt;
}

} // namespace jackal::routing
