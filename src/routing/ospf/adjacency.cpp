#include "routing/ospf/ospf.h"

#include "routing/neighbour.h"

#include <algorithm>

namespace jackal::routing {

using lab::NicId;

namespace {

// What hellos are sent to: AllSPFRouters (RFC 2328 appendix A.1, RFC 5340 appendix A.1).
net::Address all_routers(net::Family family) {
    static const net::Address ipv4 = net::parse_address("224.0.0.5").value();
    static const net::Address ipv6 = net::parse_address("ff02::5").value();
    return family == net::Family::ipv4 ? ipv4 : ipv6;
}

} // namespace

void OspfTables::add_interfaces(const Condition& condition, const lab::Wiring& wiring) {
    for (const lab::Speaker& speaker : lab_->speakers) {
        if (!speaker.ospf)
            continue;
        for (const lab::OspfNic& told : speaker.ospf->nics) {
            const auto* address = spoken_address(*lab_, told.nic, family_);
            if (address == nullptr || !is_live(*lab_, condition, told.nic, family_))
                continue;
            bool loopback = lab_->nics[told.nic].is_loopback();
            graph_->interfaces.push_back(
                {.speaker = &speaker,
                 .told = &told,
                 .address = sent_from(*lab_, told.nic, address->address),
                 .prefix = announced_prefix(*lab_, *address),
                 .domain = loopback ? nowhere : wiring.domain(*lab_, told.nic)});
        }
    }
    for (std::uint32_t i = 0; i < graph_->interfaces.size(); ++i)
        graph_->interface_of.emplace_back(graph_->interfaces[i].told->nic, i);
    std::ranges::sort(graph_->interface_of);
}

// What comes from an address of its own, a machine drops (RFC 1122 section 3.2.1.3).
bool OspfTables::is_own_address(const Condition& condition, const Interface& one,
                                const Interface& other) const {
    return family_ == net::Family::ipv4 // link-local addresses are of the segment
           && (is_own(*lab_, condition, one.speaker->machine, other.address)
               || is_own(*lab_, condition, other.speaker->machine, one.address));
}

// What two interfaces on one segment make of each other.
OspfTables::Pair OspfTables::judged(std::uint32_t a, std::uint32_t b,
                                    const Condition& condition) const {
    const Interface& one = graph_->interfaces[a];
    const Interface& other = graph_->interfaces[b];
    Pair pair{.a = a, .b = b};
    auto apart = [&](Discord discord) {
        pair.discord = discord;
        return pair;
    };
    if (one.told->passive || other.told->passive)
        return apart(Discord::passive);
    if (!one.speaker->router_id || !other.speaker->router_id)
        return apart(Discord::no_router_id);
    if (condition.is_silenced(Protocol::ospf, one.speaker->machine, other.speaker->machine))
        return apart(Discord::cut);
    net::Flow flow{one.address, all_routers(family_), net::Protocol::ospf, 0, 0};
    lab::FilterId there = dropped_by(*lab_, one.told->nic, other.told->nic, flow);
    flow.source = other.address;
    lab::FilterId back = dropped_by(*lab_, other.told->nic, one.told->nic, flow);
    if (there || back) {
        pair.filter = there ? there : back;
        pair.state_a = back ? NeighbourState::down : NeighbourState::init;
        pair.state_b = there ? NeighbourState::down : NeighbourState::init;
        return apart(Discord::filtered);
    }
    if (is_own_address(condition, one, other))
        return apart(Discord::own_address);
    if (one.speaker->router_id == other.speaker->router_id)
        return apart(Discord::router_id);
    if (one.told->area != other.told->area)
        return apart(Discord::area);
    if (one.told->hello_s != other.told->hello_s)
        return apart(Discord::hello);
    if (one.told->dead_s != other.told->dead_s)
        return apart(Discord::dead);
    if (one.speaker->ospf->kind_of(one.told->area) != other.speaker->ospf->kind_of(one.told->area))
        return apart(Discord::stub);
    // RFC 2328 section 10.5: who takes the segment for a broadcast network asks for its own mask.
    // And both must be next hops, as link-local addresses always are.
    if (family_ == net::Family::ipv4) {
        const bool is_next_hop =
            one.prefix.contains(other.address) && other.prefix.contains(one.address);
        const bool one_takes = one.told->point_to_point || one.prefix == other.prefix;
        const bool other_takes = other.told->point_to_point || one.prefix == other.prefix;
        if (is_next_hop && one_takes != other_takes)
            (one_takes ? pair.state_a : pair.state_b) = NeighbourState::init;
        if (!is_next_hop || !one_takes || !other_takes)
            return apart(Discord::prefix);
    }
    pair.state_a = pair.state_b = NeighbourState::exchange;
    // Point to point all goes to all (RFC 2328 section 8.1).
    const bool to_all = one.told->point_to_point && other.told->point_to_point;
    if (!to_all && is_one_to_switches(*lab_, one.told->nic, other.told->nic))
        return apart(Discord::mac);
    if (!to_all
        && (one.prefix.is_broadcast_address(other.address)
            || other.prefix.is_broadcast_address(one.address)))
        return apart(Discord::broadcast_address);
    if (lab_->nics[one.told->nic].mtu_bytes != lab_->nics[other.told->nic].mtu_bytes)
        return apart(Discord::mtu);
    if (one.told->point_to_point != other.told->point_to_point)
        return apart(Discord::network_type);
    pair.state_a = pair.state_b = NeighbourState::full;
    return pair;
}

// A point-to-point network is one of two (RFC 2328 section 9): what one says to the other there all
// others hear, too, and take for theirs, so that nobody gets through the exchange of databases.
void OspfTables::part_crowds() {
    auto is_point_to_point = [&](const Pair& pair) {
        return pair.discord == Discord::none && graph_->interfaces[pair.a].told->point_to_point;
    };
    std::vector<std::uint32_t> count(graph_->interfaces.size());
    for (const Pair& pair : graph_->pairs)
        if (is_point_to_point(pair)) {
            ++count[pair.a];
            ++count[pair.b];
        }
    for (Pair& pair : graph_->pairs)
        if (is_point_to_point(pair) && (count[pair.a] > 1 || count[pair.b] > 1)) {
            pair.state_a = pair.state_b = NeighbourState::exchange;
            pair.discord = Discord::network_type;
        }
}

void OspfTables::add_pairs(const Condition& condition) {
    std::vector<std::pair<std::uint32_t, std::uint32_t>> by_domain;
    for (std::uint32_t i = 0; i < graph_->interfaces.size(); ++i)
        if (graph_->interfaces[i].domain != nowhere)
            by_domain.emplace_back(graph_->interfaces[i].domain, i);
    std::ranges::sort(by_domain);
    for (auto first = by_domain.begin(); first != by_domain.end();) {
        auto end = std::find_if(first, by_domain.end(),
                                [&](const auto& p) { return p.first != first->first; });
        auto last = first + std::min<std::ptrdiff_t>(end - first, most_on_segment);
        too_large_ = too_large_ || last != end;
        for (auto a = first; a != last; ++a)
            for (auto b = a + 1; b != last; ++b) {
                const Interface& one = graph_->interfaces[a->second];
                const Interface& other = graph_->interfaces[b->second];
                if (one.speaker == other.speaker || (one.told->passive && other.told->passive))
                    continue;
                if (graph_->pairs.size() == most_pairs) {
                    too_large_ = true;
                    return;
                }
                graph_->pairs.push_back(judged(a->second, b->second, condition));
            }
        first = end;
    }
}

void OspfTables::order_sights() {
    for (std::uint32_t i = 0; i < graph_->pairs.size(); ++i)
        for (bool back : {false, true})
            graph_->sights.push_back({i, back});
    std::ranges::stable_sort(graph_->sights, {}, [&](const Sight& sight) {
        const Pair& pair = graph_->pairs[sight.pair];
        const Interface& one = graph_->interfaces[sight.back ? pair.b : pair.a];
        return std::pair(one.speaker->machine, one.told->nic);
    });
}

// Routers that speak OSPF, but not on a segment where a neighbour does.
void OspfTables::add_unheard(const Condition& condition, const lab::Wiring& wiring) {
    std::size_t looked_at = 0; // large labs are not looked through to the end
    for (const Interface& interface : graph_->interfaces) {
        NicId nic = interface.told->nic;
        if (interface.domain == nowhere || interface.told->passive
            || (looked_at += lab_->segments[lab_->nics[nic].segment].nics.size()) > most_pairs)
            continue;
        for (NicId other : lab_->segments[lab_->nics[nic].segment].nics) {
            const lab::Speaker* speaker = lab_->speaker(lab_->nics[other].machine);
            if (other != nic && speaker != nullptr && speaker->ospf && !speaker->ospf->on(other)
                && speaker != interface.speaker
                && lab_->machines[speaker->machine].forwards[family_]
                && is_live(*lab_, condition, other, family_)
                && wiring.domain(*lab_, other) == interface.domain)
                graph_->unheard.push_back({nic, other});
        }
    }
}

} // namespace jackal::routing
