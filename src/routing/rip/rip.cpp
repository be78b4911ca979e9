#include "rip.h"

#include "routing/neighbour.h"

#include <algorithm>
#include <array>
#include <numeric>

namespace jackal::routing {

using lab::MachineId;
using lab::NicId;

namespace {

// What updates are sent to, and by which port (RFC 2453 section 3.1, RFC 2080 section 2.5).
net::Flow update_from(net::Address source) {
    static const net::Address ipv4 = net::parse_address("224.0.0.9").value();
    static const net::Address ipv6 = net::parse_address("ff02::9").value();
    bool is_ipv4 = source.family() == net::Family::ipv4;
    std::uint16_t port = is_ipv4 ? 520 : 521;
    return {source, is_ipv4 ? ipv4 : ipv6, net::Protocol::udp, port, port};
}

} // namespace

RipTables::RipTables(const lab::Lab& lab, const PrefixNumbers& numbers, const Condition& condition,
                     const lab::Wiring& wiring)
    : lab_(&lab), numbers_(&numbers) {
    for (net::Family family : net::both_families)
        for (const lab::Speaker& speaker : lab.speakers) {
            if (!speaker.rip)
                continue;
            for (const lab::RipNic& told : speaker.rip->nics) {
                const auto* address = spoken_address(lab, told.nic, family);
                if (address == nullptr || !is_live(lab, condition, told.nic, family))
                    continue;
                bool loopback = lab.nics[told.nic].is_loopback();
                interfaces_.push_back({.machine = speaker.machine,
                                       .told = &told,
                                       .address = sent_from(lab, told.nic, address->address),
                                       .domain = loopback ? none : wiring.domain(lab, told.nic)});
            }
        }
    std::vector<std::pair<std::pair<std::uint32_t, net::Family>, std::uint32_t>> by_domain;
    for (std::uint32_t i = 0; i < interfaces_.size(); ++i)
        if (interfaces_[i].domain != none)
            by_domain.push_back({{interfaces_[i].domain, interfaces_[i].address.family()}, i});
    std::ranges::sort(by_domain);
    for (std::size_t a = 0; a < by_domain.size(); ++a)
        for (std::size_t b = a + 1;
             b < by_domain.size() && by_domain[b].first == by_domain[a].first; ++b) {
            const Interface& one = interfaces_[by_domain[a].second];
            const Interface& other = interfaces_[by_domain[b].second];
            if (b - a > most_on_segment || hearings_.size() > most_hearings) {
                too_large_ = true;
                break;
            }
            if (one.machine == other.machine || (one.told->passive && other.told->passive))
                continue;
            judge(one, other, condition);
            judge(other, one, condition);
        }
    std::ranges::stable_sort(hearings_, {}, &Hearing::from);
    first_.assign(lab.machines.size() + 1, 0);
    for (const Hearing& hearing : hearings_)
        ++first_[hearing.from.row + 1];
    std::partial_sum(first_.begin(), first_.end(), first_.begin());
}

// What `to` hears of `from`.
void RipTables::judge(const Interface& from, const Interface& to, const Condition& condition) {
    Neighbour seen{.protocol = Protocol::rip,
                   .family = from.address.family(),
                   .state = NeighbourState::full,
                   .machine = to.machine,
                   .other = from.machine,
                   .nic = to.told->nic,
                   .other_nic = from.told->nic,
                   .filter = {}};
    const bool is_ipv4 = seen.family == net::Family::ipv4;
    auto takes_sender = [&](lab::NicId nic) {
        return std::ranges::any_of(
            announced_prefixes(*lab_, nic, seen.family),
            [&](const net::Prefix& prefix) { return is_host_on(prefix, from.address); });
    };
    seen.filter = dropped_by(*lab_, from.told->nic, to.told->nic, update_from(from.address));
    if (from.told->passive)
        seen.discord = Discord::passive;
    // RFC 2453 section 3.9.2. For IPv6 updates come from link-local addresses (RFC 2080 section
    // 2.4.2), which are always on the segment, and the neighbour's own unless the two share a MAC.
    else if (!is_ipv4 && from.address == to.address)
        seen.discord = Discord::mac;
    else if (is_ipv4 && is_own(*lab_, condition, to.machine, from.address))
        seen.discord = Discord::own_address;
    else if (is_ipv4 && !takes_sender(to.told->nic))
        seen.discord = takes_sender(from.told->nic) ? Discord::prefix : Discord::broadcast_address;
    else if (seen.filter)
        seen.discord = Discord::filtered;
    else if (condition.is_silenced(Protocol::rip, from.machine, to.machine))
        seen.discord = Discord::cut;
    if (seen.discord != Discord::none)
        seen.state = NeighbourState::down;
    neighbours_.push_back(seen);
    if (seen.discord != Discord::none)
        return;
    hearings_.push_back({.from = from.machine,
                         .to = to.machine,
                         .domain = from.domain,
                         .gate = static_cast<std::uint32_t>(gates_.size()),
                         .cost = to.told->cost});
    gates_.push_back({to.told->nic, from.address});
    gate_from_.push_back(from.machine);
    gate_domain_.push_back(from.domain);
}

// Prefix by prefix, from those that announce it outwards: whoever is nearer is settled first, so
// what it says is final. Of equal neighbours that with the prefix of a NIC is kept before that of
// what was brought in, as it was heard first (RFC 2453 section 3.9.2), then the lower address. Who
// brings in a route of its own tells of that one, however near others are.
void RipTables::settle(std::vector<Injection> origins, const Surroundings& /*surroundings*/) {
    for (const Interface& interface : interfaces_)
        for (const net::Prefix& prefix :
             announced_prefixes(*lab_, interface.told->nic, interface.address.family()))
            origins.push_back(
                {.prefix = numbers_->find(prefix), .machine = interface.machine, .metric = 1});
    std::ranges::sort(origins);
    table_.assign(numbers_->size(), {});
    std::vector<Best> best(lab_->machines.size());
    std::size_t news = 0;
    for (std::size_t i = 0; i < origins.size();) {
        if (news > most_news) {
            too_large_ = true;
            return;
        }
        const std::size_t first_origin = i;
        std::uint32_t prefix = origins[i].prefix;
        net::Family family = (*numbers_)[prefix].family();
        std::array<std::vector<MachineId>, infinity> by_metric;
        std::vector<MachineId> reached;
        auto reach = [&](MachineId machine, std::uint32_t metric, std::uint32_t gate,
                         bool is_late) {
            Best& known = best[machine.row];
            if (metric >= infinity || (known.is_own && gate != none))
                return;
            bool nearer = metric < known.metric;
            bool lower = metric == known.metric && known.gate != none && gate != none
                         && std::pair(is_late, gates_[gate].via)
                                < std::pair(known.is_late, gates_[known.gate].via);
            if (!nearer && !lower)
                return;
            if (known.metric == infinity)
                reached.push_back(machine);
            known = {static_cast<std::uint8_t>(metric), known.is_own, is_late, gate};
            if (nearer)
                by_metric[metric].push_back(machine);
        };
        for (; i < origins.size() && origins[i].prefix == prefix; ++i) {
            best[origins[i].machine.row].is_own |= origins[i].is_own;
            reach(origins[i].machine, std::max(origins[i].metric, 1U), none,
                  origins[i].redistributed);
        }
        for (std::uint32_t metric = 1; metric < infinity; ++metric)
            for (std::size_t n = 0; n < by_metric[metric].size(); ++n) {
                MachineId from = by_metric[metric][n];
                if (best[from.row].metric != metric)
                    continue;
                bool split = lab_->speaker(from)->rip->split_horizon;
                std::uint32_t gate = best[from.row].gate;
                news += first_[from.row + 1] - first_[from.row];
                for (std::uint32_t h = first_[from.row]; h < first_[from.row + 1]; ++h) {
                    const Hearing& hearing = hearings_[h];
                    if (gates_[hearing.gate].via.family() != family
                        || (split && gate != none && gate_domain_[gate] == hearing.domain))
                        continue;
                    reach(hearing.to, metric + hearing.cost, hearing.gate, best[from.row].is_late);
                }
            }
        std::ranges::sort(reached);
        for (MachineId machine : reached) {
            table_[prefix].emplace_back(machine, best[machine.row]);
            best[machine.row] = {};
        }
        for (std::size_t o = first_origin; o < i; ++o) // also those that are too far away
            best[origins[o].machine.row] = {};
    }
}

std::optional<Lesson> RipTables::lesson(MachineId machine, std::uint32_t prefix) const {
    if (table_.empty())
        return std::nullopt;
    auto found = std::ranges::lower_bound(table_[prefix], machine, {},
                                          [](const auto& entry) { return entry.first; });
    if (found == table_[prefix].end() || found->first != machine || found->second.gate == none)
        return std::nullopt;
    Lesson lesson{.kind = RouteKind::rip, .metric = found->second.metric};
    lesson.add_gate(found->second.gate);
    return lesson;
}

std::vector<Offer> RipTables::offers(MachineId machine, std::uint32_t prefix) const {
    auto known = lesson(machine, prefix);
    if (!known)
        return {};
    Offer offer = offer_of(*known, (*numbers_)[prefix]);
    offer.from = gate_from_[known->gates[0]];
    return {std::move(offer)};
}

std::vector<Offer> RipTables::announced(const Neighbour& neighbour) const {
    std::vector<Offer> said;
    const lab::Speaker* speaker = lab_->speaker(neighbour.machine);
    if (speaker == nullptr || !speaker->rip)
        return said;
    for (std::uint32_t prefix = 0; prefix < table_.size(); ++prefix)
        for (const auto& [who, best] : table_[prefix])
            if (who == neighbour.machine && (*numbers_)[prefix].family() == neighbour.family
                && !(speaker->rip->split_horizon && best.gate != none
                     && gates_[best.gate].out == neighbour.nic))
                said.push_back({.to = (*numbers_)[prefix],
                                .kind = RouteKind::rip,
                                .metric = best.metric,
                                .gates = {},
                                .from = neighbour.machine,
                                .path = {}});
    return said;
}

} // namespace jackal::routing
