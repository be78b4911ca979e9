#include "bgp.h"

#include "jackal/sorted.h"
#include "routing/bgp/policy.h"
#include "routing/neighbour.h"

#include <algorithm>
#include <set>

namespace jackal::routing {

using lab::MachineId;

namespace {

// Well-known communities (RFC 1997).
constexpr plan::Community no_export = 0xffffff01;
constexpr plan::Community no_advertise = 0xffffff02;

constexpr std::uint16_t first_dynamic_port = 49152; // RFC 6335 section 6

} // namespace

BgpTables::BgpTables(const lab::Lab& lab, const PrefixNumbers& numbers)
    : lab_(&lab), numbers_(&numbers) {
    for (const lab::Speaker& speaker : lab.speakers)
        if (speaker.bgp)
            speakers_.push_back(&speaker);
    prefers_by_policy_ = std::ranges::any_of(lab.policies, [](const plan::Policy& policy) {
        return std::ranges::any_of(policy.rules,
                                   [](const auto& rule) { return rule.preference.has_value(); });
    });
}

std::uint32_t BgpTables::speaker_of(MachineId machine) const {
    auto found = std::ranges::lower_bound(speakers_, machine, {},
                                          [](const lab::Speaker* s) { return s->machine; });
    return found != speakers_.end() && (*found)->machine == machine
               ? static_cast<std::uint32_t>(found - speakers_.begin())
               : none;
}

void BgpTables::settle(std::vector<Injection> origins, const Surroundings& ground) {
    own_ways_.clear();
    interior_.clear();
    meet(ground);
    classify(std::move(origins));
    // Next hops that other paths lead to are found once those are (RFC 4271 section 9.1.2.1).
    constexpr int most_rounds = 8;
    for (int round = 0; round < most_rounds; ++round) {
        ways_.clear();
        disputes_.clear();
        for (Class& group : classes_) {
            group.choices.assign(speakers_.size(), {});
            if (!is_too_large())
                converge(group, ground);
        }
        Ways found = find_own_ways();
        if (found == own_ways_)
            break;
        own_ways_ = std::move(found);
    }
    find_taken_sessions(ground);
}

// Paths that hold neighbours on a segment, and are closer than its prefix: what is for those goes
// elsewhere, and arrives with no TTL left if at all.
void BgpTables::find_taken_sessions(const Surroundings& ground) {
    std::map<std::pair<std::uint32_t, std::uint32_t>, std::vector<MachineId>> taken;
    for (const Session& session : sessions_) {
        const net::Address to = session.to_address;
        const auto own =
            session.direct_from ? ground.way(told_of(session.from).machine, to) : std::nullopt;
        if (!own)
            continue;
        for (std::uint32_t p = numbers_->lookup(to);
             p != numbers_->none && (*numbers_)[p].length() > own->length; p = numbers_->around(p))
            if (leads_elsewhere(session.from, p, to)) {
                taken[{session.from, p}].push_back(told_of(session.to).machine);
                break;
            }
    }
    for (auto& [path, others] : taken) {
        sort_unique(others);
        others.insert(others.begin(), told_of(path.first).machine);
        disputes_.push_back({.kind = Dispute::Kind::takes_sessions,
                             .to = (*numbers_)[path.second],
                             .machines = std::move(others),
                             .standings = {}});
    }
}

bool BgpTables::leads_elsewhere(std::uint32_t speaker, std::uint32_t prefix,
                                net::Address to) const {
    if (class_of_[prefix] == none)
        return false;
    const Choice& choice = classes_[class_of_[prefix]].choices[speaker];
    return choice.used && choice.gate_set != none
           && std::ranges::none_of(sets_[choice.gate_set],
                                   [&](std::uint32_t gate) { return gates_[gate].via == to; });
}

// Next hops for which a path of BGP is the closest route, unless it is by that next hop itself.
BgpTables::Ways BgpTables::find_own_ways() const {
    Ways found;
    for (const auto& [key, known] : ways_) {
        const auto& [speaker, to] = key;
        for (std::uint32_t p = numbers_->lookup(to); p != numbers_->none; p = numbers_->around(p)) {
            const net::Prefix& prefix = (*numbers_)[p];
            if (const auto& interior = interior_.at(key);
                interior && interior->length >= prefix.length())
                break;
            if (class_of_[p] == none)
                continue;
            const Choice& choice = classes_[class_of_[p]].choices[speaker];
            if (!choice.used || choice.gate_set == none || choice.used->path.next_hop == to)
                continue;
            InteriorWay way{~std::uint32_t{0}, {}, prefix.length()};
            for (std::uint32_t gate : sets_[choice.gate_set])
                way.gates.push_back(gates_[gate]);
            found.emplace(key, std::move(way));
            break;
        }
    }
    return found;
}

// --- sessions --------------------------------------------------------------------------------

void BgpTables::meet(const Surroundings& ground) {
    neighbours_.clear();
    sessions_.clear();
    for (std::uint32_t s = 0; s < speakers_.size(); ++s) {
        const auto& told = speakers_[s]->bgp->neighbours;
        for (std::uint32_t n = 0; n < told.size(); ++n)
            for (net::Family family : net::both_families) {
                if (!told[n].session[family == net::Family::ipv4 ? 0 : 1])
                    continue;
                Session session{.to = s, .to_neighbour = n};
                neighbours_.push_back(judged(s, n, family, ground, session));
                if (neighbours_.back().state == NeighbourState::full)
                    sessions_.push_back(session);
            }
    }
    std::ranges::stable_sort(sessions_, {}, &Session::to);
    listeners_.assign(speakers_.size(), {});
    for (const Session& session : sessions_)
        listeners_[session.from].push_back(session.to);
    first_session_.assign(speakers_.size() + 1, 0);
    for (const Session& session : sessions_)
        ++first_session_[session.to + 1];
    for (std::size_t i = 1; i < first_session_.size(); ++i)
        first_session_[i] += first_session_[i - 1];
}

// By which the machine has the address, and is nearest to its peer.
lab::NicId BgpTables::nic_with(MachineId machine, net::Address address, net::Address peer) const {
    lab::NicId best;
    int longest = -1;
    for (const lab::Owner& owner : lab_->owners_of(address)) {
        if (owner.machine != machine)
            continue;
        int length = 0; // of the prefix that holds them both
        for (lab::AddressId id : lab_->addresses_of(owner.nic))
            if (const lab::InterfaceAddress& row = lab_->addresses[id];
                row.address == address && row.prefix().contains(peer))
                length = row.length + 1;
        if (length > longest) {
            best = owner.nic;
            longest = length;
        }
    }
    return best;
}

Neighbour BgpTables::judged(std::uint32_t speaker, std::uint32_t neighbour, net::Family family,
                            const Surroundings& ground, Session& session) const {
    const lab::Speaker& own = told_of(speaker);
    const lab::BgpNeighbour& told = own.bgp->neighbours[neighbour];
    std::size_t f = family == net::Family::ipv4 ? 0 : 1;
    const lab::BgpEnds& ends = *told.session[f];
    Neighbour seen{.protocol = Protocol::bgp,
                   .family = family,
                   .machine = own.machine,
                   .other = told.machine,
                   .nic = {},
                   .other_nic = {},
                   .filter = {},
                   .configured = neighbour};
    auto apart = [&](Discord discord) {
        seen.discord = discord;
        return seen;
    };
    std::uint32_t peer = told.machine ? speaker_of(told.machine) : none;
    if (peer == none)
        return apart(Discord::not_spoken);
    const lab::Speaker& other = told_of(peer);
    std::uint32_t theirs = none;
    bool elsewhere = false;
    for (std::uint32_t n = 0; n < other.bgp->neighbours.size(); ++n) {
        const auto& back = other.bgp->neighbours[n];
        if (!back.session[f] || back.machine != own.machine)
            continue;
        elsewhere = true;
        if (back.session[f]->peer == ends.own && back.session[f]->own == ends.peer)
            theirs = n;
    }
    if (theirs == none)
        return apart(elsewhere ? Discord::other_address : Discord::not_configured);
    const lab::BgpNeighbour& back = other.bgp->neighbours[theirs];
    if (!told.up || !back.up)
        return apart(Discord::shut);
    if (ground.is_cut(Protocol::bgp, own.machine, other.machine))
        return apart(Discord::cut);
    bool inner = own.bgp->as == other.bgp->as;
    auto are_adjacent = [&] {
        return ground.is_adjacent(ends) && ground.is_adjacent({.own = ends.peer, .peer = ends.own});
    };
    if (!inner && !(told.distant && back.distant) && !are_adjacent())
        return apart(Discord::not_adjacent);
    net::Flow flow{ends.own, ends.peer, net::Protocol::tcp, first_dynamic_port, bgp_port};
    lab::FilterId unused;
    Discord there = ground.reach(own.machine, other.machine, flow, seen.filter);
    std::swap(flow.source, flow.destination);
    Discord back_there = ground.reach(other.machine, own.machine, flow, unused);
    for (Discord lacking : {Discord::own_address, Discord::no_way})
        if (there == lacking || back_there == lacking)
            return apart(lacking);
    // Either may open the connection, and what answers is let through.
    if (there == Discord::filtered && back_there == Discord::filtered)
        return apart(Discord::filtered);
    seen.filter = {};
    if (told.as != other.bgp->as || back.as != own.bgp->as)
        return apart(Discord::as_number);
    if (!own.router_id || !other.router_id)
        return apart(Discord::no_router_id);
    if (inner && *own.router_id == *other.router_id) // RFC 6286 section 2.2
        return apart(Discord::router_id);
    seen.state = NeighbourState::full;
    session = {.from = peer,
               .to = speaker,
               .from_neighbour = theirs,
               .to_neighbour = neighbour,
               .from_address = ends.peer,
               .to_address = ends.own,
               .inner = inner};
    if (!inner && !told.distant)
        session.direct_from = nic_with(other.machine, ends.peer, ends.own);
    return seen;
}

// --- classes of prefixes ---------------------------------------------------------------------

// Prefixes with the same origins that every policy treats alike.
void BgpTables::classify(std::vector<Injection> origins) {
    std::ranges::sort(origins);
    classes_.clear();
    class_of_.assign(numbers_->size(), none);
    std::map<std::string, std::uint32_t> known;
    for (std::size_t i = 0; i < origins.size();) {
        std::size_t first = i;
        std::uint32_t prefix = origins[i].prefix;
        const net::Prefix& to = (*numbers_)[prefix];
        std::string key = to.family() == net::Family::ipv4 ? "4" : "6";
        for (; i < origins.size() && origins[i].prefix == prefix; ++i) {
            const Injection& origin = origins[i];
            for (std::uint32_t part :
                 {origin.machine.row, origin.metric, origin.redistributed ? 1U : 0U,
                  origin.distance.value_or(none), origin.gate.out.row})
                key.append(reinterpret_cast<const char*>(&part), sizeof part);
            key += net::to_string(origin.gate.via);
        }
        for (const plan::Policy& policy : lab_->policies)
            for (const plan::PolicyRule& rule : policy.rules)
                if (!rule.prefixes.empty())
                    key += std::ranges::any_of(rule.prefixes,
                                               [&](const auto& p) {
                                                   return rule.longer ? p.value.contains(to)
                                                                      : p.value == to;
                                               })
                               ? '+'
                               : '-';
        auto [row, is_new] =
            known.emplace(std::move(key), static_cast<std::uint32_t>(classes_.size()));
        if (is_new)
            classes_.push_back({.prefix = prefix,
                                .origins = {origins.begin() + static_cast<std::ptrdiff_t>(first),
                                            origins.begin() + static_cast<std::ptrdiff_t>(i)},
                                .choices = {}});
        class_of_[prefix] = row->second;
    }
}

// --- paths -----------------------------------------------------------------------------------

// What one router tells another of a class of prefixes, or nothing (RFC 4271 sections 5.1, 9.2).
// Inside the AS, what was heard there is told by reflectors alone (RFC 4456 section 6), and as it
// is (section 10).
std::optional<Path> BgpTables::told(const Class& group, const Session& session) const {
    const Choice& choice = group.choices[session.from];
    if (!choice.has)
        return std::nullopt;
    const lab::Speaker& from = told_of(session.from);
    const lab::BgpNeighbour& neighbour = from.bgp->neighbours[session.from_neighbour];
    const bool own = choice.best.session == none;
    const Session* heard = own ? nullptr : &sessions_[choice.best.session];
    if (heard != nullptr && heard->from == session.to)
        return std::nullopt;
    const bool is_reflected = heard != nullptr && heard->inner && session.inner;
    if (is_reflected && !neighbour.client && !from.bgp->neighbours[heard->to_neighbour].client)
        return std::nullopt;
    Path path = choice.best.path;
    if (has(path.communities, no_advertise) || (!session.inner && has(path.communities, no_export)))
        return std::nullopt;
    if (is_reflected) {
        path.originator = path.originator.value_or(*told_of(heard->from).router_id);
        path.clusters.insert(path.clusters.begin(), cluster_id(from));
    } else if (!may_name_third_party(choice.best, session)) {
        const auto gate = gate_towards(choice.best, session);
        path.next_hop = gate.value_or(session.from_address);
        path.is_linked =
            !gate && session.direct_from && session.from_address.family() == net::Family::ipv6;
    }
    if (path.next_hop == session.to_address) // RFC 4271 section 5.1.3
        return std::nullopt;
    if (!session.inner && !own)
        path.med = 0;
    if (!apply(*lab_, neighbour.gives, (*numbers_)[group.prefix], path, from.bgp->as))
        return std::nullopt;
    if (!session.inner) {
        path.local_preference = Path{}.local_preference; // which no other AS is told (5.1.5)
        path.as_path.insert(path.as_path.begin(), from.bgp->as);
        path.originator.reset();
        path.clusters.clear();
    }
    return path;
}

net::Address cluster_id(const lab::Speaker& speaker) {
    return speaker.bgp->cluster_id.value_or(*speaker.router_id);
}

bool is_loop(const Path& path, const lab::Speaker& speaker) {
    return std::ranges::count(path.as_path, speaker.bgp->as) != 0
           || path.originator == speaker.router_id
           || std::ranges::count(path.clusters, cluster_id(speaker)) != 0;
}

// True if the next hop is told as it is: inside an AS, unless told otherwise, and to another AS
// where all three are on one segment (RFC 4271 section 5.1.3). Whoever heard of it inside, and goes
// to its link-local address, has none that it could name there.
bool BgpTables::may_name_third_party(const Candidate& best, const Session& session) const {
    const bool is_own = best.session == none;
    if (is_own && !best.out)
        return false;
    if (session.inner)
        return !told_of(session.from).bgp->neighbours[session.from_neighbour].next_hop_self;
    if (!session.direct_from)
        return false;
    const lab::SegmentId shared = lab_->nics[session.direct_from].segment;
    if (is_own)
        return lab_->nics[best.out].segment == shared;
    if (sessions_[best.session].inner && best.path.is_linked)
        return false;
    return std::ranges::any_of(lab_->owners_of(best.path.next_hop), [&](const lab::Owner& owner) {
        return lab_->nics[owner.nic].segment == shared
               && owner.machine != told_of(session.to).machine;
    });
}

// The one next hop by which the machine itself goes, if the other one is on a segment with it (RFC
// 4271 section 5.1.3 (2)); of IPv6 only where BGP told of that, as others tell link-local ones.
std::optional<net::Address> BgpTables::gate_towards(const Candidate& best,
                                                    const Session& session) const {
    if (session.inner || !session.direct_from || best.session == none)
        return std::nullopt;
    const std::pair key(session.from, best.path.next_hop);
    const Ways& ways = best.path.next_hop.family() == net::Family::ipv4 ? ways_ : own_ways_;
    auto found = ways.find(key);
    if (found == ways.end() || !found->second || found->second->gates.size() != 1)
        return std::nullopt;
    const Gate& gate = found->second->gates.front();
    const bool is_link_local =
        sessions_[best.session].inner && best.path.is_linked && gate.via == best.path.next_hop;
    return lab_->nics[gate.out].segment == lab_->nics[session.direct_from].segment && !is_link_local
               ? std::optional(gate.via)
               : std::nullopt;
}

const std::optional<InteriorWay>& BgpTables::way(std::uint32_t speaker, net::Address to,
                                                 const Surroundings& ground) {
    auto [known, is_new] = ways_.try_emplace({speaker, to});
    if (is_new) {
        auto [interior, is_unknown] = interior_.try_emplace({speaker, to});
        if (is_unknown)
            interior->second = ground.way(told_of(speaker).machine, to);
        auto own = own_ways_.find({speaker, to});
        known->second = own != own_ways_.end() ? own->second : interior->second;
    }
    return known->second;
}

// The neighbour of another AS on a shared segment: what it names there is next to the machine,
// whatever longer prefix holds it.
std::optional<Gate> BgpTables::direct_gate(const Session& session, net::Address to) const {
    if (session.inner || !session.direct_from)
        return std::nullopt;
    const lab::NicId own =
        nic_with(told_of(session.to).machine, session.to_address, session.from_address);
    const bool is_on_link =
        own && std::ranges::any_of(lab_->addresses_of(own), [&](lab::AddressId id) {
            return lab_->addresses[id].prefix().contains(to);
        });
    return is_on_link && to != session.to_address ? std::optional(Gate{own, to}) : std::nullopt;
}

std::vector<BgpTables::Candidate> BgpTables::candidates(const Class& group, std::uint32_t speaker,
                                                        const Surroundings& ground) {
    std::vector<Candidate> found;
    net::Family family = (*numbers_)[group.prefix].family();
    for (const Injection& origin : group.origins)
        if (origin.machine == told_of(speaker).machine) {
            Candidate own;
            own.path.next_hop = origin.gate.via;
            own.out = origin.gate.out;
            own.distance = origin.distance;
            own.path.med = origin.metric;
            own.path.incomplete = origin.redistributed;
            found.push_back(std::move(own));
            break;
        }
    candidates_ += first_session_[speaker + 1] - first_session_[speaker];
    for (std::uint32_t i = first_session_[speaker]; i < first_session_[speaker + 1]; ++i) {
        const Session& session = sessions_[i];
        if (session.from_address.family() != family)
            continue;
        auto path = told(group, session);
        if (!path || is_loop(*path, told_of(speaker)))
            continue;
        const auto& neighbour = told_of(speaker).bgp->neighbours[session.to_neighbour];
        if (!apply(*lab_, neighbour.takes, (*numbers_)[group.prefix], *path,
                   told_of(session.from).bgp->as))
            continue;
        Candidate candidate{.path = std::move(*path), .session = i};
        if (direct_gate(session, candidate.path.next_hop))
            candidate.cost = 0;
        else if (const auto& known = way(speaker, candidate.path.next_hop, ground))
            candidate.cost = known->cost;
        else
            candidate.lost_by = Decision::unreachable;
        found.push_back(std::move(candidate));
    }
    decide(found);
    return found;
}

// By which the candidate competes in the machine's table.
unsigned BgpTables::distance(const Candidate& candidate) const {
    if (candidate.session == none)
        return candidate.distance.value_or(0);
    return administrative_distance(sessions_[candidate.session].inner ? RouteKind::bgp_inner
                                                                      : RouteKind::bgp_outer);
}

// The decision process, step by step (RFC 4271 section 9.1.2). Afterwards the candidates stand in
// the order in which they were beaten, the best first.
void BgpTables::decide(std::vector<Candidate>& candidates) const {
    std::vector<Candidate*> left;
    for (Candidate& candidate : candidates)
        if (candidate.lost_by == Decision::best)
            left.push_back(&candidate);
    // The neighbouring AS; 0 for the own one, where another speaker of it originated the path.
    auto came_from = [](const Candidate& c) {
        return c.path.as_path.empty() ? 0 : c.path.as_path.front();
    };
    // Keeps those for which `value` is smallest; with `same_neighbour` only against others that
    // came from the same AS.
    auto keep = [&](Decision step, auto value, bool same_neighbour = false) {
        if (left.size() < 2)
            return;
        for (Candidate* one : left)
            for (const Candidate* other : left)
                if ((!same_neighbour || came_from(*one) == came_from(*other))
                    && value(*other) < value(*one)) {
                    one->lost_by = step;
                    break;
                }
        std::erase_if(left, [](const Candidate* c) { return c->lost_by != Decision::best; });
    };
    auto session = [&](const Candidate& c) -> const Session& { return sessions_[c.session]; };
    const bool has_own =
        std::ranges::any_of(left, [](const Candidate* c) { return c->session == none; });
    if (has_own) // it is what the machine's table uses, unless another AS tells of a way
        keep(Decision::own, [&](const Candidate& c) { return distance(c); });
    keep(Decision::local_preference, [](const Candidate& c) { return ~c.path.local_preference; });
    keep(Decision::as_path_length, [](const Candidate& c) { return c.path.as_path.size(); });
    keep(Decision::origin, [](const Candidate& c) { return c.path.incomplete ? 1 : 0; });
    keep(
        Decision::med, [](const Candidate& c) { return c.path.med; }, true);
    keep(Decision::outer,
         [&](const Candidate& c) { return c.session != none && session(c).inner ? 1 : 0; });
    keep(Decision::next_hop_cost, [](const Candidate& c) { return c.cost; });
    keep(Decision::router_id, [&](const Candidate& c) {
        return c.session == none ? net::Address(0, 0)
                                 : c.path.originator.value_or(*told_of(session(c).from).router_id);
    });
    keep(Decision::cluster_list, [](const Candidate& c) { return c.path.clusters.size(); });
    keep(Decision::peer_address, [&](const Candidate& c) {
        return c.session == none ? net::Address(0, 0) : session(c).from_address;
    });
    std::ranges::stable_sort(candidates, [](const Candidate& a, const Candidate& b) {
        auto rank = [](Decision d) {
            return d == Decision::best          ? 100
                   : d == Decision::unreachable ? -1
                                                : static_cast<int>(d);
        };
        return rank(a.lost_by) > rank(b.lost_by);
    });
}

// The routers choose in turn until nobody changes its choice. If they come back to choices that
// they had before, they would do so for ever.
bool BgpTables::settle_choices(Class& group, const Surroundings& ground, bool backwards) {
    std::vector<std::uint32_t> via(speakers_.size(), none - 1); // session of the best; or none
    std::set<std::vector<std::uint32_t>> seen;
    std::set<std::uint32_t> restless;
    constexpr int most_rounds = 1000;
    bool circles = false;
    std::vector<bool> has_news(speakers_.size(), true); // somebody it hears has chosen otherwise
    for (int round = 0; round < most_rounds && !is_too_large(); ++round) {
        bool changed = false;
        for (std::uint32_t turn = 0; turn < speakers_.size(); ++turn) {
            const auto last = static_cast<std::uint32_t>(speakers_.size()) - 1;
            const std::uint32_t s = backwards ? last - turn : turn;
            if (!has_news[s])
                continue;
            has_news[s] = false;
            Choice& choice = group.choices[s];
            choice.all = candidates(group, s, ground);
            const bool has = !choice.all.empty() && choice.all.front().lost_by == Decision::best;
            if (choice.has == has
                && (!has
                    || (choice.best.session == choice.all.front().session
                        && choice.best.path == choice.all.front().path)))
                continue;
            changed = true;
            if (circles)
                restless.insert(s);
            via[s] = has ? choice.all.front().session : none - 1;
            choice.has = has;
            choice.best = has ? choice.all.front() : Candidate{};
            for (std::uint32_t listener : listeners_[s])
                has_news[listener] = true;
        }
        if (!changed)
            return true;
        if (circles && !restless.empty() && !seen.insert(via).second) {
            Dispute dispute{.to = (*numbers_)[group.prefix], .machines = {}, .standings = {}};
            for (std::uint32_t s : restless)
                dispute.machines.push_back(told_of(s).machine);
            if (!backwards)
                disputes_.push_back(std::move(dispute));
            return false;
        }
        if (!circles && round > static_cast<int>(speakers_.size()) && !seen.insert(via).second) {
            circles = true; // from here on, whoever still changes is one of the cycle
            seen = {via};
        }
    }
    return false;
}

// Where policies prefer paths, there may be two states that stay, of which chance takes one: it is
// looked for by letting the routers begin in the other order.
void BgpTables::converge(Class& group, const Surroundings& ground) {
    if (settle_choices(group, ground, false) && prefers_by_policy_) {
        Class other{.prefix = group.prefix,
                    .origins = group.origins,
                    .choices = std::vector<Choice>(speakers_.size())};
        if (settle_choices(other, ground, true))
            tell_apart(group, other);
    }
    for (std::uint32_t s = 0; s < speakers_.size(); ++s) {
        Choice& choice = group.choices[s];
        choose_for_table(choice);
        if (!choice.used)
            continue;
        std::vector<Candidate> equal;
        for (const Candidate& candidate : choice.all)
            if (candidate.lost_by == Decision::best
                || (told_of(s).bgp->equal_paths && candidate.lost_by >= Decision::router_id))
                equal.push_back(candidate);
        choice.gate_set = gates_of(s, equal, ground);
    }
}

void BgpTables::tell_apart(const Class& one, const Class& other) {
    Dispute dispute{.kind = Dispute::Kind::by_policy,
                    .to = (*numbers_)[one.prefix],
                    .machines = {},
                    .standings = {}};
    auto next_hop = [](const Choice& choice) {
        return choice.has && choice.best.session != none ? std::optional(choice.best.path.next_hop)
                                                         : std::nullopt;
    };
    for (std::uint32_t s = 0; s < speakers_.size(); ++s)
        if (one.choices[s].has != other.choices[s].has
            || one.choices[s].best.session != other.choices[s].best.session) {
            dispute.machines.push_back(told_of(s).machine);
            dispute.standings.push_back(
                {told_of(s).machine, next_hop(one.choices[s]), next_hop(other.choices[s])});
        }
    if (!dispute.machines.empty())
        disputes_.push_back(std::move(dispute));
}

// A default route that is always announced is no route of the machine's: its table has the best of
// what others tell.
void BgpTables::choose_for_table(Choice& choice) const {
    std::vector<Candidate>& found = choice.all;
    if (choice.has && choice.best.session == none && !choice.best.distance) {
        std::erase_if(found, [](const Candidate& c) { return c.session == none; });
        for (Candidate& candidate : found)
            if (candidate.lost_by != Decision::unreachable)
                candidate.lost_by = Decision::best;
        decide(found);
    }
    if (!found.empty() && found.front().lost_by == Decision::best && found.front().session != none)
        choice.used = found.front();
}

std::uint32_t BgpTables::gates_of(std::uint32_t speaker, const std::vector<Candidate>& equal,
                                  const Surroundings& ground) {
    std::vector<std::uint32_t> set;
    auto add = [&](const Gate& gate) {
        auto [number, is_new] =
            gate_numbers_.emplace(gate, static_cast<std::uint32_t>(gates_.size()));
        if (is_new)
            gates_.push_back(gate);
        set.push_back(number->second);
    };
    for (const Candidate& candidate : equal) {
        const net::Address next_hop = candidate.path.next_hop;
        if (candidate.session != none)
            if (const auto gate = direct_gate(sessions_[candidate.session], next_hop)) {
                add(*gate);
                continue;
            }
        if (const auto& known = way(speaker, next_hop, ground))
            std::ranges::for_each(known->gates, add);
    }
    sort_unique(set);
    if (set.empty())
        return none;
    auto [number, is_new] = set_numbers_.emplace(set, static_cast<std::uint32_t>(sets_.size()));
    if (is_new)
        sets_.push_back(std::move(set));
    return number->second;
}

// --- answers ---------------------------------------------------------------------------------

std::vector<Offer> BgpTables::offers(MachineId machine, std::uint32_t prefix) const {
    std::vector<Offer> found = paths(machine, prefix);
    std::erase_if(found, [&](const Offer& offer) { return offer.from == machine; });
    return found;
}

std::optional<Lesson> BgpTables::lesson(MachineId machine, std::uint32_t prefix) const {
    std::uint32_t speaker =
        class_of_.empty() || class_of_[prefix] == none ? none : speaker_of(machine);
    if (speaker == none)
        return std::nullopt;
    const Choice& choice = classes_[class_of_[prefix]].choices[speaker];
    if (!choice.used || choice.gate_set == none)
        return std::nullopt;
    Lesson lesson{.kind = sessions_[choice.used->session].inner ? RouteKind::bgp_inner
                                                                : RouteKind::bgp_outer,
                  .metric = choice.used->path.med};
    for (std::uint32_t gate : sets_[choice.gate_set])
        lesson.add_gate(gate);
    return lesson;
}

std::vector<Offer> BgpTables::paths(MachineId machine, std::uint32_t prefix) const {
    std::vector<Offer> offers;
    std::uint32_t speaker =
        class_of_.empty() || class_of_[prefix] == none ? none : speaker_of(machine);
    if (speaker == none)
        return offers;
    for (const Candidate& candidate : classes_[class_of_[prefix]].choices[speaker].all) {
        Offer offer{.to = (*numbers_)[prefix],
                    .kind = RouteKind::bgp_outer,
                    .metric = candidate.path.med,
                    .gates = {},
                    .from = machine,
                    .path = candidate.path,
                    .lost_by = candidate.lost_by};
        if (candidate.session != none) {
            const Session& session = sessions_[candidate.session];
            offer.from = told_of(session.from).machine;
            if (session.inner)
                offer.kind = RouteKind::bgp_inner;
            if (auto gate = direct_gate(session, candidate.path.next_hop))
                offer.gates = {*gate};
            else if (auto known = ways_.find({speaker, candidate.path.next_hop});
                     known != ways_.end() && known->second)
                offer.gates = known->second->gates;
        }
        offers.push_back(std::move(offer));
    }
    return offers;
}

std::vector<Offer> BgpTables::announced(MachineId machine, std::uint32_t neighbour,
                                        net::Family family) const {
    std::vector<Offer> offers;
    std::uint32_t speaker = speaker_of(machine);
    for (const Session& session : sessions_) {
        if (session.from != speaker || session.from_neighbour != neighbour
            || session.from_address.family() != family)
            continue;
        for (std::uint32_t prefix = 0; prefix < class_of_.size(); ++prefix)
            if (class_of_[prefix] != none && (*numbers_)[prefix].family() == family)
                if (auto path = told(classes_[class_of_[prefix]], session))
                    offers.push_back(
                        {.to = (*numbers_)[prefix],
                         .kind = session.inner ? RouteKind::bgp_inner : RouteKind::bgp_outer,
                         .metric = path->med,
                         .gates = {},
                         .from = machine,
                         .path = *path});
    }
    return offers;
}

} // namespace jackal::routing
