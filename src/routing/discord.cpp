#include "jackal/routing/discord.h"

#include "routing/neighbour.h"
#include "routing/protocol.h"

#include <algorithm>
#include <fmt/format.h>
#include <set>

namespace jackal::routing {

using lab::Lab;
using lab::MachineId;
using lab::NicId;
using plan::Cause;
using What = plan::OspfKey;

namespace {

Cause cause_of(const Neighbour& neighbour) {
    if (neighbour.transit)
        return Cause::virtual_link_down;
    switch (neighbour.discord) {
    case Discord::none:
    case Discord::not_spoken:
        return neighbour.protocol == Protocol::bgp ? Cause::session_one_sided
                                                   : Cause::network_not_announced;
    case Discord::passive: return Cause::neighbour_passive;
    case Discord::filtered: return Cause::filter_denies;
    case Discord::area: return Cause::area_differs;
    case Discord::hello:
    case Discord::dead: return Cause::timers_differ;
    case Discord::prefix: return Cause::prefix_length_differs;
    case Discord::own_address: return Cause::duplicate_address;
    case Discord::stub: return Cause::stub_differs;
    case Discord::router_id: return Cause::router_id_twice;
    case Discord::no_router_id: return Cause::router_id_missing;
    case Discord::network_type: return Cause::network_type_differs;
    case Discord::mac: return Cause::duplicate_mac;
    case Discord::broadcast_address: return Cause::broadcast_address;
    case Discord::mtu: return Cause::neighbour_mtu_differs;
    case Discord::no_designated: return Cause::no_designated_router;
    case Discord::as_number: return Cause::as_number_differs;
    case Discord::not_configured:
    case Discord::other_address: return Cause::session_one_sided;
    case Discord::not_adjacent:
    case Discord::no_way: return Cause::session_unreachable;
    case Discord::shut:
    case Discord::cut: break;
    }
    return Cause::session_shut;
}

class Describer {
  public:
    Describer(const Lab& lab, const Neighbour& neighbour)
        : lab_(lab), n_(neighbour), own_(*lab.speaker(n_.machine)),
          other_(n_.other ? lab.speaker(n_.other) : nullptr) {}

    lab::Finding run() {
        bool bgp = n_.protocol == Protocol::bgp;
        finding_.cause = cause_of(n_);
        finding_.severity =
            may_be_meant(n_.discord) ? lab::Severity::warning : lab::Severity::error;
        finding_.subject =
            bgp || n_.transit ? lab_.machines[n_.machine].name : lab_.nic_name(n_.nic);
        finding_.at = mark();
        if (bgp)
            session();
        else if (n_.transit)
            virtual_link();
        else
            adjacency();
        return std::move(finding_);
    }

  private:
    const std::string& own_name() const { return lab_.machines[n_.machine].name; }
    std::string other_name() const {
        return n_.other ? lab_.machines[n_.other].name : configured().name;
    }
    const lab::BgpNeighbour& configured() const { return own_.bgp->neighbours[n_.configured]; }
    std::string segment() const { return lab_.segment_name(lab_.nics[n_.nic].segment); }
    std::string protocol() const { return std::string(spoken(n_.protocol).title()); }

    plan::Mark mark() const {
        if (n_.protocol == Protocol::bgp)
            return configured().at;
        if (n_.transit)
            for (const lab::OspfVirtualLink& link : own_.ospf->virtual_links)
                if (link.to == n_.other && link.area == *n_.transit)
                    return link.at;
        if (const lab::OspfNic* nic = own_nic())
            return nic->at;
        return own_.rip ? own_.rip->at : lab_.machines[n_.machine].at;
    }

    const lab::OspfNic* own_nic() const {
        return n_.protocol == Protocol::ospf && own_.ospf ? own_.ospf->on(n_.nic) : nullptr;
    }
    const lab::OspfNic* other_nic() const {
        return n_.protocol == Protocol::ospf && other_ != nullptr && other_->ospf
                   ? other_->ospf->on(n_.other_nic)
                   : nullptr;
    }

    plan::Edit tell_other(What what, std::uint32_t value) const {
        return plan::set_ospf_nic(lab_.plan, other_name(), lab_.nics[n_.other_nic].name, what,
                                  value);
    }

    void say(std::string message, std::vector<plan::Edit> edits, std::string advice = "") {
        finding_.message = std::move(message);
        finding_.remedy = {std::move(edits), std::move(advice)};
    }

    // `VALUE at ONE, VALUE at OTHER`
    template <class Value>
    std::string both(const Value& own, const Value& other) const {
        return fmt::format("{} at {}, {} at {}", own, lab_.nic_name(n_.nic), other,
                           lab_.nic_name(n_.other_nic));
    }

    void adjacency() {
        std::string apart = fmt::format("{} and {} are no {} neighbours on {}: ", own_name(),
                                        other_name(), protocol(), segment());
        const lab::OspfNic* own = own_nic();
        const lab::OspfNic* other = other_nic();
        switch (n_.discord) {
        case Discord::area:
            return say(apart + "area " + both(own->area, other->area),
                       {tell_other(What::area, own->area)});
        case Discord::hello:
        case Discord::dead:
            return say(
                apart
                    + fmt::format(
                        "hello and dead interval {}",
                        both(fmt::format("{} s and {} s", own->hello_s, own->dead_s),
                             fmt::format("{} s and {} s", other->hello_s, other->dead_s))),
                {tell_other(What::hello, own->hello_s), tell_other(What::dead, own->dead_s)});
        case Discord::stub: return area_kind(apart, own->area);
        case Discord::network_type: {
            if (own->point_to_point && other->point_to_point)
                return crowd();
            auto word = [](bool p2p) { return p2p ? "point-to-point" : "broadcast"; };
            return say(apart + "network "
                           + both(word(own->point_to_point), word(other->point_to_point)),
                       {tell_other(What::network, own->point_to_point ? 1 : 0)});
        }
        case Discord::mac: return mac(apart);
        case Discord::broadcast_address: return broadcast_address(apart);
        case Discord::mtu: return mtu();
        case Discord::no_designated:
            return say(fmt::format("nobody on {} may be its designated router, as all have "
                                   "priority 0",
                                   segment()),
                       {plan::set_ospf_nic(lab_.plan, own_name(), lab_.nics[n_.nic].name,
                                           What::priority, 1)});
        case Discord::passive: {
            bool other_is = other != nullptr && other->passive;
            const std::string& who = other_is ? lab_.nic_name(n_.other_nic) : lab_.nic_name(n_.nic);
            std::vector<plan::Edit> edits;
            if (n_.protocol == Protocol::ospf)
                edits.push_back(plan::set_ospf_nic(lab_.plan, other_is ? other_name() : own_name(),
                                                   lab_.nics[other_is ? n_.other_nic : n_.nic].name,
                                                   What::active, 0));
            return say(apart + who + " is passive", std::move(edits),
                       "take the NIC out of `passive`");
        }
        case Discord::not_spoken:
            return say(apart + fmt::format("OSPF is not told of {}", lab_.nic_name(n_.other_nic)),
                       {tell_other(What::area, own->area)});
        case Discord::prefix:
            return say(apart + "prefix " + both(prefix_on(n_.nic), prefix_on(n_.other_nic)), {},
                       "give both ends the prefix of their subnet");
        case Discord::own_address: return own_address(apart);
        case Discord::filtered: return filtered(apart);
        case Discord::cut: return cut(apart);
        default: return identity(apart);
        }
    }

    void virtual_link() {
        std::string apart =
            fmt::format("the virtual link of {} to {} through area {} is down: ", own_name(),
                        other_name(), *n_.transit);
        if (n_.discord == Discord::cut)
            return cut(apart);
        if (n_.discord == Discord::no_way)
            return say(apart + "the area has no way between them", {},
                       fmt::format("ping {} from {} to see why", other_name(), own_name()));
        std::vector<plan::Edit> edits;
        if (other_ != nullptr && other_->ospf && n_.other_nic)
            edits.emplace_back(
                plan::add_virtual_link(lab_.plan, other_name(), *n_.transit, own_name()));
        say(apart + fmt::format("{} has none to {}", other_name(), own_name()), std::move(edits),
            "virtual links are written at both ends");
    }

    // The other takes the area for what it is here.
    void area_kind(const std::string& apart, std::uint32_t area) {
        using lab::AreaKind;
        const AreaKind own = own_.ospf->kind_of(area);
        const AreaKind other = other_->ospf->kind_of(area);
        auto word = [](AreaKind kind) {
            return kind == AreaKind::stub   ? "a stub"
                   : kind == AreaKind::nssa ? "an NSSA"
                                            : "normal";
        };
        std::vector<plan::Edit> edits;
        if (other != AreaKind::normal)
            edits.emplace_back(
                plan::set_ospf_stub(lab_.plan, other_name(), area, false, other == AreaKind::nssa));
        if (own != AreaKind::normal)
            edits.emplace_back(
                plan::set_ospf_stub(lab_.plan, other_name(), area, true, own == AreaKind::nssa));
        say(apart + fmt::format("area {} is {}", area, both(word(own), word(other))),
            std::move(edits));
    }

    void cut(const std::string& apart) {
        say(apart + "what they tell each other is cut", {},
            fmt::format("do not cut {}:{}--{}", to_string(n_.protocol), own_name(), other_name()));
    }

    void own_address(const std::string& apart) {
        net::Address address = lab_.first_address(n_.other_nic, n_.family)->address;
        const bool own_has = has_address(lab_, n_.machine, address);
        if (!own_has)
            address = lab_.first_address(n_.nic, n_.family)->address;
        say(apart
                + fmt::format("{} is the address of {}, and {} has it too", net::to_string(address),
                              lab_.nic_name(own_has ? n_.other_nic : n_.nic),
                              own_has ? own_name() : other_name()),
            {}, "give each NIC an address that no other has");
    }

    std::string prefix_on(NicId nic) const {
        const auto* row = lab_.first_address(nic, n_.family);
        return row == nullptr ? "none" : net::to_string(row->prefix());
    }

    // More than two on a segment take it for point-to-point.
    void crowd() {
        std::vector<plan::Edit> edits;
        for (NicId nic : lab_.segments[lab_.nics[n_.nic].segment].nics) {
            const lab::Speaker* speaker = lab_.speaker(lab_.nics[nic].machine);
            const lab::OspfNic* told =
                speaker != nullptr && speaker->ospf ? speaker->ospf->on(nic) : nullptr;
            if (told != nullptr && told->point_to_point)
                edits.push_back(plan::set_ospf_nic(lab_.plan, lab_.machine_name(nic),
                                                   lab_.nics[nic].name, What::network, 0));
        }
        say(fmt::format("{} and {} stay in state Exchange on {}: more than two routers take it for "
                        "point-to-point",
                        own_name(), other_name(), segment()),
            std::move(edits));
    }

    void mac(const std::string& apart) {
        const lab::Nic& nic = lab_.nics[n_.nic];
        say(n_.protocol == Protocol::rip
                ? apart
                      + fmt::format("both have the MAC {}, and with it one link-local address",
                                    net::to_string(nic.mac))
                : fmt::format("{} and {} stay in state Exchange on {}: both have the MAC {}, so "
                              "what one sends to the other alone does not arrive",
                              own_name(), other_name(), segment(), net::to_string(nic.mac)),
            {plan::remove_nic_mac(lab_.plan, lab_.machines[nic.machine].name, nic.plan_index)});
    }

    // What goes to a broadcast address alone goes to all, and no daemon may send so; by RIP it is
    // not heard, as little as a network's address.
    void broadcast_address(const std::string& apart) {
        const bool is_rip = n_.protocol == Protocol::rip;
        auto has_it = [&](NicId nic) {
            const auto* row = lab_.first_address(nic, n_.family);
            return row != nullptr && row->prefix().is_broadcast_address(row->address);
        };
        const NicId odd = !is_rip && has_it(n_.nic) ? n_.nic : n_.other_nic;
        const lab::InterfaceAddress& row = *lab_.first_address(odd, n_.family);
        if (!has_it(odd))
            finding_.cause = Cause::network_address;
        say((is_rip ? apart
                    : fmt::format("{} and {} stay in state Exchange on {}: ", own_name(),
                                  other_name(), segment()))
                + fmt::format("{} of {} is the {} address of {}", net::to_string(row.address),
                              lab_.nic_name(odd), has_it(odd) ? "broadcast" : "network",
                              net::to_string(row.prefix())),
            {plan::set_nic_address(lab_.plan, lab_.machine_name(odd), lab_.nics[odd].plan_index,
                                   row.address, std::nullopt)});
    }

    void mtu() {
        const lab::Nic& own = lab_.nics[n_.nic];
        const lab::Nic& other = lab_.nics[n_.other_nic];
        bool raise_own = own.mtu_bytes < other.mtu_bytes;
        const lab::Nic& small = raise_own ? own : other;
        std::uint16_t bytes = std::max(own.mtu_bytes, other.mtu_bytes);
        say(fmt::format("{} and {} stay in state Exchange on {}: MTU {}", own_name(), other_name(),
                        segment(), both(own.mtu_bytes, other.mtu_bytes)),
            {plan::set_nic_mtu(lab_.plan, lab_.machines[small.machine].name, small.plan_index,
                               bytes)});
    }

    void filtered(const std::string& apart) {
        const lab::Filter& filter = lab_.filters[n_.filter];
        plan::FilterRule rule{.allows = true};
        rule.protocol = spoken(n_.protocol).carrier();
        if (std::uint16_t port = spoken(n_.protocol).port(n_.family); port != 0)
            rule.ports = {{port, port}};
        say(apart + fmt::format("filter {} drops what one of them sends", filter.name),
            {plan::add_filter_rule(lab_.plan, filter.name, 0, rule)});
    }

    // A router id that no machine has: one of the highest that documentation may use.
    net::Address free_id() const {
        std::set<net::Address> taken;
        for (const lab::Speaker& speaker : lab_.speakers)
            if (speaker.router_id)
                taken.insert(*speaker.router_id);
        net::Address id = net::parse_address("192.0.2.254").value();
        while (taken.contains(id))
            id = net::Address(id.high(), id.low() - 1);
        return id;
    }

    void identity(const std::string& apart) {
        if (n_.discord == Discord::no_router_id) {
            const std::string& who = own_.router_id ? other_name() : own_name();
            return say(apart + fmt::format("{} has no router id, as it has no IPv4 address", who),
                       {plan::set_router_id(lab_.plan, who, free_id())});
        }
        bool other_written = other_->router_id_written;
        const std::string& who =
            other_written || !own_.router_id_written ? other_name() : own_name();
        say(apart + fmt::format("both have the router id {}", net::to_string(*own_.router_id)),
            {plan::set_router_id(lab_.plan, who, free_id())});
    }

    void session() {
        const lab::BgpNeighbour& told = configured();
        std::string apart =
            fmt::format("{} has no BGP session with {}: ", own_name(), other_name());
        switch (n_.discord) {
        case Discord::not_spoken:
            return say(apart
                           + (n_.other ? fmt::format("{} speaks no BGP", other_name())
                                       : fmt::format("nobody has {}", told.name)),
                       {}, "write `bgp` at the neighbour too, or name another one");
        case Discord::not_configured:
            return say(
                apart
                    + fmt::format("{} does not name {} as its neighbour", other_name(), own_name()),
                {plan::set_bgp_neighbour(lab_.plan, other_name(), own_name(), own_.bgp->as,
                                         told.distant)});
        case Discord::other_address:
            return say(apart + fmt::format("{} expects it at another address", other_name()), {},
                       "have both name the same two addresses");
        case Discord::as_number: {
            std::uint32_t real = other_->bgp->as;
            if (told.as != real)
                return say(
                    apart
                        + fmt::format("it expects AS {}, and {} is in AS {}", told.as, other_name(),
                                      real),
                    {plan::set_bgp_neighbour(lab_.plan, own_name(), told.name, real, false)});
            for (const lab::BgpNeighbour& back : other_->bgp->neighbours)
                if (back.machine == n_.machine && back.as != own_.bgp->as)
                    return say(apart
                                   + fmt::format("{} expects AS {}, and {} is in AS {}",
                                                 other_name(), back.as, own_name(), own_.bgp->as),
                               {plan::set_bgp_neighbour(lab_.plan, other_name(), back.name,
                                                        own_.bgp->as, false)});
            return say(apart + "the AS numbers differ", {}, "have both expect the right ones");
        }
        case Discord::not_adjacent:
            return say(
                apart + "it is in another AS, and not on a shared subnet",
                {plan::set_bgp_neighbour(lab_.plan, own_name(), told.name, told.as, true),
                 plan::set_bgp_neighbour(lab_.plan, other_name(), own_name(), own_.bgp->as, true)});
        case Discord::no_way:
            return say(apart + "packets do not get from one to the other", {},
                       fmt::format("ping {} from {} to see why", other_name(), own_name()));
        case Discord::shut: {
            if (!told.up)
                return say(
                    apart + fmt::format("{} is told to keep it down", own_name()),
                    {plan::set_bgp_neighbour(lab_.plan, own_name(), told.name, told.as, false)});
            return say(apart + fmt::format("{} is told to keep it down", other_name()),
                       {plan::set_bgp_neighbour(lab_.plan, other_name(), own_name(), own_.bgp->as,
                                                false)});
        }
        case Discord::filtered: return filtered(apart);
        case Discord::cut: return cut(apart);
        default: return identity(apart);
        }
    }

    const Lab& lab_;
    const Neighbour& n_;
    const lab::Speaker& own_;
    const lab::Speaker* other_;
    lab::Finding finding_{};
};

} // namespace

bool may_be_meant(Discord discord) {
    return discord == Discord::passive || discord == Discord::not_spoken || discord == Discord::shut
           || discord == Discord::cut;
}

lab::Finding describe(const Lab& lab, const Neighbour& neighbour) {
    return Describer(lab, neighbour).run();
}

namespace {

// The states of which chance takes one: ": b1 goes by r1 and b2 by b1, or else b1 by b2 and b2 by
// r1"; nothing if one alone is known.
std::string standings_text(const Lab& lab, const Dispute& dispute) {
    auto way = [&](const std::optional<net::Address>& next_hop) {
        if (!next_hop)
            return std::string("itself");
        auto owners = lab.owners_of(*next_hop);
        return owners.empty() ? net::to_string(*next_hop)
                              : std::string(lab.machine_name(owners.front().nic));
    };
    constexpr std::size_t most = 6; // more than that nobody reads
    std::string taken;
    std::string other;
    for (std::size_t i = 0; i < std::min(dispute.standings.size(), most); ++i) {
        const Dispute::Standing& standing = dispute.standings[i];
        const std::string_view join = i == 0                              ? ""
                                      : i + 1 == dispute.standings.size() ? " and "
                                                                          : ", ";
        const std::string_view name = lab.machines[standing.machine].name;
        taken +=
            fmt::format("{}{}{} by {}", join, name, i == 0 ? " goes" : "", way(standing.taken));
        other += fmt::format("{}{} by {}", join, name, way(standing.other));
    }
    return taken.empty() ? "" : fmt::format(": {}, or else {}", taken, other);
}

} // namespace

lab::Finding describe(const Lab& lab, const Dispute& dispute) {
    auto listed = [&](std::span<const MachineId> machines) {
        std::string names;
        for (MachineId machine : machines)
            names += (names.empty() ? "" : ", ") + lab.machines[machine].name;
        return names;
    };
    const std::string names = listed(dispute.machines);
    const lab::Machine& first =
        lab.machines[dispute.machines.empty() ? lab.speakers.begin()->machine
                                              : dispute.machines.front()];
    const std::string to = net::to_string(dispute.to);
    lab::Finding found{.cause = Cause::routing_dispute,
                       .severity = lab::Severity::warning,
                       .subject = first.name,
                       .at = first.at};
    auto say = [&](std::string message, std::string advice) {
        found.message = std::move(message);
        found.remedy = {{}, std::move(advice)};
    };
    switch (dispute.kind) {
    case Dispute::Kind::endless:
        found.severity = lab::Severity::error;
        say(fmt::format("{} change their routes to {} for ever: each choice makes another one "
                        "better",
                        names, to),
            "let one of them prefer the path that it has by itself");
        break;
    case Dispute::Kind::by_turns:
        say(fmt::format("which of {} hands over routes such as {} is luck: each prefers what "
                        "another hands over to what it hears itself, so whoever is first stays; {} "
                        "is taken for the first{}",
                        names, to, first.name, standings_text(lab, dispute)),
            "give what is redistributed a policy that refuses what came from there, or let one "
            "machine alone redistribute");
        break;
    case Dispute::Kind::by_policy:
        say(fmt::format("which way to {} {} take is luck: by their policies each prefers what "
                        "another tells it, so whoever is first stays; {} is taken for the first{}",
                        to, names, first.name, standings_text(lab, dispute)),
            "let policies prefer paths at one of them alone");
        break;
    case Dispute::Kind::takes_sessions:
        say(fmt::format("{} hears of {} by BGP, which holds its neighbours {} and is closer than "
                        "the prefix of their segment: what it sends them then goes elsewhere, and "
                        "the sessions come and go",
                        first.name, to, listed(std::span(dispute.machines).subspan(1))),
            fmt::format("let nobody announce {}, or {} refuse it by a policy", to, first.name));
        break;
    case Dispute::Kind::too_large:
        found.severity = lab::Severity::error;
        found.subject = lab.name;
        say("so many machines speak routing protocols with each other that what they learn is not "
            "worked out to the end",
            "divide them into areas, or put fewer on one segment");
        break;
    }
    return found;
}

namespace {

// Routers that are in one area, with most of the neighbours that they could have in one other,
// which more routers are in: one mistake, not one for each neighbour.
class Strays {
  public:
    Strays(const Lab& lab, const Learned& learned) : lab_(lab) {
        for (const lab::Speaker& speaker : lab.speakers)
            if (auto area = area_of(speaker.machine))
                ++members_[*area];
        std::map<MachineId, std::set<MachineId>> apart; // from whom
        std::map<MachineId, std::set<MachineId>> joined;
        for (const Neighbour& n : learned.neighbours()) {
            if (n.protocol != Protocol::ospf || n.transit)
                continue;
            if (n.discord == Discord::area)
                apart[n.machine].insert(n.other);
            else
                joined[n.machine].insert(n.other);
        }
        // Neighbours that strayed themselves speak for no area.
        std::size_t known = 0;
        do {
            known = findings_.size();
            for (const auto& [machine, others] : apart)
                look_at(machine, others, joined[machine]);
        } while (findings_.size() != known);
    }

    bool have(MachineId machine) const { return findings_.contains(machine); }

    void tell(std::vector<lab::Finding>& into) const {
        for (const auto& [machine, finding] : findings_)
            into.push_back(finding);
    }

  private:
    // That of all its NICs; nothing if there are several, or none.
    std::optional<std::uint32_t> area_of(MachineId machine) const {
        const lab::Speaker* speaker = lab_.speaker(machine);
        if (speaker == nullptr || !speaker->ospf || speaker->ospf->nics.empty())
            return std::nullopt;
        const auto& nics = speaker->ospf->nics;
        const bool is_one = std::ranges::all_of(
            nics, [&](const lab::OspfNic& nic) { return nic.area == nics.front().area; });
        return is_one ? std::optional(nics.front().area) : std::nullopt;
    }

    void look_at(MachineId machine, const std::set<MachineId>& others,
                 const std::set<MachineId>& joined) {
        constexpr std::size_t least = 2;
        const auto with = std::ranges::count_if(joined, [&](MachineId n) { return !have(n); });
        if (have(machine) || others.size() < least || std::cmp_less_equal(others.size(), with))
            return;
        const auto own = area_of(machine);
        const auto there = area_of(*others.begin());
        const bool are_in_one =
            std::ranges::all_of(others, [&](MachineId other) { return area_of(other) == there; });
        if (!own || !there || !are_in_one || members_[*own] >= members_[*there])
            return;
        constexpr std::size_t most_named = 3;
        std::string names;
        std::size_t named = 0;
        for (MachineId other : others)
            if (named++ < most_named)
                names += (names.empty() ? "" : ", ") + lab_.machines[other].name;
        if (others.size() > most_named)
            names += fmt::format(" and {} more", others.size() - most_named);
        const std::string& name = lab_.machines[machine].name;
        const std::string who = joined.empty() ? "all"
                                               : fmt::format("{} of the {}", others.size(),
                                                             others.size() + joined.size());
        findings_.emplace(
            machine,
            lab::Finding{
                .cause = Cause::area_differs,
                .severity = lab::Severity::error,
                .subject = name,
                .message = fmt::format("{} is in OSPF area {}, and {} that could be its "
                                       "neighbours are in area {}: {}",
                                       name, *own, who, *there, names),
                .remedy = {{plan::set_ospf_nic(lab_.plan, name, "", What::area, *there)}, ""},
                .at = lab_.speaker(machine)->ospf->nics.front().at});
    }

    const Lab& lab_;
    std::map<std::uint32_t, std::size_t> members_; // by area
    std::map<MachineId, lab::Finding> findings_;
};

} // namespace

std::vector<lab::Finding> protocol_findings(const Lab& lab, const Learned& learned) {
    std::vector<lab::Finding> found;
    const Strays strays(lab, learned);
    strays.tell(found);
    std::set<std::tuple<Protocol, Discord, MachineId, MachineId, NicId>> seen;
    for (const Neighbour& n : learned.neighbours()) {
        if (n.discord == Discord::none || (n.protocol == Protocol::rip && may_be_meant(n.discord)))
            continue;
        if (n.discord == Discord::area && (strays.have(n.machine) || strays.have(n.other)))
            continue;
        // Both ends, and both families, say the same.
        bool first = !n.other || n.machine < n.other;
        NicId nic = first ? n.nic : n.other_nic;
        MachineId one = first ? n.machine : n.other;
        MachineId two = first ? n.other : n.machine;
        if (seen.emplace(n.protocol, n.discord, one, two, nic).second)
            found.push_back(describe(lab, n));
    }
    for (const Dispute& dispute : learned.disputes())
        found.push_back(describe(lab, dispute));
    return found;
}

} // namespace jackal::routing
