#include "speakers.h"

#include "jackal/net/special_use.h"
#include "live_lab.h"

#include <algorithm>
#include <cstdio>
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <map>
#include <memory>
#include <set>
#include <sstream>

namespace judge {

using namespace jackal;

namespace {

// A route as both sides can tell it.
struct Learned {
    std::string protocol; // "ospf", "rip" or "bgp"
    std::string path;     // of OSPF: "I", "IA", "E1" or "E2"
    std::uint32_t metric = 0;
    std::set<std::string> gates; // "ADDRESS on NIC"

    friend bool operator==(const Learned&, const Learned&) = default;
};
using Table = std::map<net::Prefix, Learned>;

std::string words(const std::optional<Learned>& route) {
    if (!route)
        return "nothing";
    return fmt::format("{} {} {} by {}", route->protocol, route->path, route->metric,
                       fmt::join(route->gates, ", "));
}

std::string output_of(const std::string& command) {
    std::unique_ptr<FILE, int (*)(FILE*)> pipe(popen(command.c_str(), "r"), pclose);
    std::string text;
    std::array<char, 4096> part{};
    while (pipe && std::fgets(part.data(), part.size(), pipe.get()) != nullptr)
        text += part.data();
    return text;
}

// --- what the daemon says --------------------------------------------------------------------

// One line of a route: PREFIX unicast [PROTOCOL TIME…] * PATH (PREFERENCE/METRIC…) …
std::optional<std::pair<net::Prefix, Learned>> parse_route(const std::string& line) {
    std::istringstream words(line);
    std::string prefix;
    std::string type;
    std::string protocol;
    if (!(words >> prefix >> type >> protocol) || type != "unicast")
        return std::nullopt;
    Learned route;
    for (const char* name : {"ospf", "rip", "bgp"})
        if (protocol.starts_with(std::string("[") + name))
            route.protocol = name;
    auto to = net::parse_prefix(prefix);
    if (route.protocol.empty() || !to)
        return std::nullopt;
    if (std::size_t star = line.find("] * "); route.protocol == "ospf" && star != line.npos)
        route.path = line.substr(star + 4, line.find(' ', star + 4) - star - 4);
    std::size_t open = line.find('(');
    unsigned preference = 0;
    unsigned one = 0;
    unsigned two = 0;
    int found = std::sscanf(line.c_str() + open, "(%u/%u/%u", &preference, &one, &two);
    if (route.protocol != "bgp")
        route.metric = found == 3 ? two : one;
    return std::pair(*to, route);
}

Table told_by_daemon(const lab::Lab& lab, lab::MachineId machine) {
    Table table;
    Learned* last = nullptr;
    bool is_main = false;
    std::istringstream lines(output_of(
        fmt::format("birdc -s /run/{}.speakers/{}.ctl show route primary table all 2>/dev/null",
                    lab.name, lab.machines[machine].name)));
    for (std::string line; std::getline(lines, line);) {
        if (line.starts_with("Table ")) {
            is_main = line.starts_with("Table master");
            last = nullptr;
        } else if (is_main && !line.empty() && line[0] != '\t' && line[0] != ' ') {
            last = nullptr;
            if (auto route = parse_route(line))
                last = &(table[route->first] = route->second);
        } else if (last != nullptr && line.starts_with("\tvia ")) {
            std::istringstream words(line);
            std::string via;
            std::string gate;
            std::string on;
            std::string nic;
            words >> via >> gate >> on >> nic;
            last->gates.insert(gate + " on " + nic);
        }
    }
    return table;
}

// --- what Jackal says --------------------------------------------------------------------------

std::string path_word(routing::PathType type) {
    switch (type) {
    case routing::PathType::intra_area: return "I";
    case routing::PathType::inter_area: return "IA";
    case routing::PathType::external_1: return "E1";
    case routing::PathType::external_2: return "E2";
    case routing::PathType::none: break;
    }
    return "";
}

Table told_by_jackal(const routing::Settled& settled, lab::MachineId machine) {
    Table table;
    std::set<net::Prefix> own;
    for (const routing::Route& route : settled.routes(machine)) {
        if (!routing::is_learned(route.kind)) {
            own.insert(route.to);
            continue;
        }
        if (own.contains(route.to))
            continue;
        Learned& learned = table[route.to];
        learned.protocol = routing::to_string(route.kind);
        if (learned.protocol != "bgp")
            learned.metric = route.metric;
        if (route.has_next_hop())
            learned.gates.insert(fmt::format("{} on {}", net::to_string(route.via),
                                             settled.lab().nics[route.out].name));
    }
    for (const routing::Offer& offer : settled.learned(machine).offers(machine))
        if (auto found = table.find(offer.to);
            found != table.end() && found->second.protocol == "ospf"
            && offer.kind == routing::RouteKind::ospf && found->second.path.empty())
            found->second.path = path_word(offer.type);
    return table;
}

std::optional<net::Address> address_of(const std::string& gate) {
    return net::parse_address(gate.substr(0, gate.find(' ')));
}

// A next hop by the link-local address of the NIC that has it.
std::set<std::string> by_link_local(const lab::Lab& lab, const std::set<std::string>& gates) {
    std::set<std::string> changed;
    for (const std::string& gate : gates) {
        const auto via = address_of(gate);
        auto owners = via ? lab.owners_of(*via) : std::span<const lab::Owner>{};
        changed.insert(owners.empty() ? gate
                                      : net::to_string(net::link_local_address(
                                            lab.nics[owners.front().nic].mac))
                                            + gate.substr(gate.find(' ')));
    }
    return changed;
}

bool is_on_dead_link(const routing::Settled& settled, lab::NicId nic) {
    const lab::Lab& lab = settled.lab();
    const lab::LinkId link = lab.segments[lab.nics[nic].segment].link;
    return link
           && (!settled.condition().link_up(link)
               || !settled.condition().machine_on(
                   lab.nics[lab.links[link].other_end(nic)].machine));
}

// True if it is in a stub or an NSSA, and in another area by NICs without a carrier alone.
bool has_dead_area(const routing::Settled& settled, const lab::Ospf& ospf, net::Family family) {
    const lab::Lab& lab = settled.lab();
    std::set<std::uint32_t> live;
    std::set<std::uint32_t> all;
    bool has_special = false;
    for (const lab::OspfNic& told : ospf.nics) {
        if (lab.nics[told.nic].is_loopback() || lab.first_address(told.nic, family) == nullptr)
            continue;
        all.insert(told.area);
        if (!is_on_dead_link(settled, told.nic))
            live.insert(told.area);
        has_special |= ospf.kind_of(told.area) != lab::AreaKind::normal;
    }
    return has_special && live.size() < all.size();
}

// True for an IPv6 address that a router with a virtual link may announce as a host.
bool is_virtual_end(const lab::Lab& lab, const net::Prefix& to) {
    return to.family() == net::Family::ipv6 && to.length() == net::address_bits(to.family())
           && std::ranges::any_of(lab.owners_of(to.first()), [&](const lab::Owner& owner) {
                  const lab::Speaker* speaker = lab.speaker(owner.machine);
                  return speaker != nullptr && speaker->ospf
                         && !speaker->ospf->virtual_links.empty();
              });
}

// True if the machine hears of the prefix inside its AS with a next hop that is in a prefix which
// it hears of with that same next hop.
bool has_way_by_itself(const routing::Settled& settled, lab::MachineId machine,
                       const net::Prefix& to) {
    const std::vector<routing::Offer> offers = settled.learned(machine).offers(machine);
    const auto is_inner = [](const routing::Offer& offer) {
        return offer.kind == routing::RouteKind::bgp_inner;
    };
    return std::ranges::any_of(offers, [&](const routing::Offer& offer) {
        return offer.to == to && is_inner(offer)
               && std::ranges::any_of(offers, [&](const routing::Offer& other) {
                      return is_inner(other) && other.path.next_hop == offer.path.next_hop
                             && other.to.contains(offer.path.next_hop);
                  });
    });
}

// What this daemon does in a way of its own, recognised narrowly:
// - A NIC without a carrier is "looped back" (RFC 2328 section 9.1), and its address a host route.
// - An address of full length is announced as a host, at no cost of its NIC; also a second one of a
//   NIC, if it is in the prefix of the first.
// - A default route that a machine always announces by RIP it takes back from those that tell it.
// - Of equal paths of BGP it shows one, and gives the kernel all.
// - A static route by way of an address of the machine's own it does not know.
// - A router with areas without a carrier on any NIC is a border router still, and brings nothing
//   into an NSSA, its own addresses neither, so nobody behind hears of them.
// - Who has the forwarding address of one of several equal external routes uses none of them.
// - Inside an AS it goes by the link-local next hop that comes with the global one (RFC 2545).
// - Of a router with a virtual link it announces the first IPv6 address that the kernel counts.
// - A path of BGP whose next hop is in a prefix that it hears of with that same next hop has no way
//   to it, or has one, as things come.
// - What it asks for by RIP when it starts it is told by itself alone (RFC 2453 section 3.9.1), so
//   also past a filter that drops what all are told, and keeps until that times out.
// - A next hop that is the machine's own address on another of its NICs it keeps, and the kernel
//   takes no such route.
bool is_own_way(const routing::Settled& settled, const net::Prefix& to, const lab::Speaker& speaker,
                const std::optional<Learned>& jackal, const std::optional<Learned>& daemon) {
    const lab::Lab& lab = settled.lab();
    if (!jackal && daemon->protocol == "rip"
        && std::ranges::any_of(settled.lessons()->neighbours(), [&](const routing::Neighbour& n) {
               return n.protocol == routing::Protocol::rip && n.machine == speaker.machine
                      && n.discord == routing::Discord::filtered;
           }))
        return true;
    if (daemon && !daemon->gates.empty()
        && std::ranges::all_of(daemon->gates, [&](const std::string& gate) {
               const auto via = address_of(gate);
               return via && !net::is_link_local(*via)
                      && settled.is_local(speaker.machine, settled.aim(*via));
           }))
        return true;
    const bool has_equal_paths = speaker.bgp && speaker.bgp->equal_paths;
    if (!jackal && daemon->protocol == "rip" && to.length() == 0)
        return speaker.rip && speaker.rip->default_route == plan::DefaultRoute::always;
    if (is_virtual_end(lab, to))
        return true;
    if (jackal && !daemon && jackal->protocol == "ospf" && speaker.ospf
        && has_dead_area(settled, *speaker.ospf, to.family()))
        return true;
    auto is_of_dead_area = [&](const lab::Owner& owner) {
        const lab::Speaker* any = lab.speaker(owner.machine);
        return any != nullptr && any->ospf && has_dead_area(settled, *any->ospf, to.family());
    };
    if (jackal && !daemon && std::ranges::any_of(lab.owners_of(to.first()), is_of_dead_area))
        return true;
    if (!jackal && daemon->protocol == "ospf" && to.length() == 0)
        return std::ranges::any_of(lab.speakers, [&](const lab::Speaker& any) {
            return any.ospf && has_dead_area(settled, *any.ospf, to.family());
        });
    if (!jackal && to.length() == net::address_bits(to.family()))
        return std::ranges::any_of(lab.owners_of(to.first()), [&](const lab::Owner& owner) {
            return is_on_dead_link(settled, owner.nic)
                   || lab.first_address(owner.nic, to.family())->address != to.first();
        });
    if (jackal && daemon && jackal->protocol == "ospf" && jackal->path == daemon->path
        && jackal->gates == daemon->gates && to.length() == net::address_bits(to.family()))
        return std::ranges::any_of(lab.owners_of(to.first()), [&](const lab::Owner& owner) {
            return !lab.nics[owner.nic].is_loopback();
        });
    auto is_by_itself = [&](lab::RouteId id) {
        const lab::StaticRoute& route = lab.routes[id];
        return route.to == to
               && std::ranges::any_of(lab.owners_of(route.via), [&](const lab::Owner& owner) {
                      return std::ranges::count(lab.routes_of(owner.machine), id) != 0;
                  });
    };
    if (jackal && !daemon && std::ranges::any_of(lab.routes.ids(), is_by_itself))
        return true;
    const std::vector<routing::Offer> offers =
        settled.learned(speaker.machine).offers(speaker.machine);
    const auto is_brought_by = [&](const lab::Speaker& any) {
        return any.ospf && !any.ospf->redistribute.empty()
               && has_dead_area(settled, *any.ospf, to.family())
               && std::ranges::any_of(offers, [&](const routing::Offer& offer) {
                      return offer.to == to && offer.from == any.machine;
                  });
    };
    if (jackal && !daemon && jackal->path.starts_with('E')
        && std::ranges::any_of(lab.speakers, is_brought_by))
        return true;
    if (jackal && jackal->protocol == "bgp" && (!daemon || daemon->protocol == "bgp")
        && std::ranges::any_of(lab.speakers, [&](const lab::Speaker& any) {
               return has_way_by_itself(settled, any.machine, to);
           }))
        return true;
    if (jackal && !daemon && jackal->path.starts_with('E'))
        return std::ranges::any_of(settled.learned(speaker.machine).link_states(speaker.machine),
                                   [&](const routing::LinkState& state) {
                                       return state.to == to && state.forward
                                              && settled.is_local(speaker.machine,
                                                                  settled.aim(*state.forward));
                                   });
    return jackal && daemon && jackal->protocol == "bgp" && daemon->protocol == "bgp"
           && ((has_equal_paths && std::ranges::includes(jackal->gates, daemon->gates))
               || (to.family() == net::Family::ipv6
                   && by_link_local(lab, jackal->gates) == daemon->gates));
}

// RIP keeps whoever was first of neighbours that are equally near (RFC 2453 section 3.9.2).
bool is_luck(const std::optional<Learned>& one, const std::optional<Learned>& other) {
    return one && other && one->protocol == "rip" && other->protocol == "rip"
           && one->metric == other->metric;
}

// True if what one machine hands from OSPF to BGP or RIP another one hands back: then there may be
// more than one state that stays, and who was first decides.
bool has_circle(const lab::Lab& lab) {
    using plan::RouteSource;
    struct Borders {
        std::set<lab::MachineId> out_of_ospf;
        std::set<lab::MachineId> into_ospf;
    };
    std::map<RouteSource, Borders> borders; // by the other protocol
    auto takes = [](const std::vector<lab::Redistribution>& all, RouteSource from) {
        return std::ranges::any_of(all, [&](const auto& one) { return one.from == from; });
    };
    for (const lab::Speaker& speaker : lab.speakers) {
        if (!speaker.ospf)
            continue;
        if (speaker.bgp && takes(speaker.bgp->redistribute, RouteSource::ospf))
            borders[RouteSource::bgp].out_of_ospf.insert(speaker.machine);
        if (speaker.rip && takes(speaker.rip->redistribute, RouteSource::ospf))
            borders[RouteSource::rip].out_of_ospf.insert(speaker.machine);
        for (RouteSource other : {RouteSource::bgp, RouteSource::rip})
            if (takes(speaker.ospf->redistribute, other))
                borders[other].into_ospf.insert(speaker.machine);
    }
    return std::ranges::any_of(borders, [](const auto& entry) {
        std::set<lab::MachineId> all = entry.second.out_of_ospf;
        all.insert(entry.second.into_ospf.begin(), entry.second.into_ospf.end());
        return all.size() > 1 && !entry.second.out_of_ospf.empty()
               && !entry.second.into_ospf.empty();
    });
}

} // namespace

bool repeats_router_id(const routing::Settled& settled) {
    std::set<net::Address> seen;
    return std::ranges::any_of(settled.lab().speakers, [&](const lab::Speaker& speaker) {
        return speaker.ospf && speaker.router_id && settled.condition().machine_on(speaker.machine)
               && !seen.insert(*speaker.router_id).second;
    });
}

TablesHeld hold_tables(const routing::Settled& settled) {
    const lab::Lab& lab = settled.lab();
    TablesHeld held;
    held.has_circle =
        has_circle(lab) || repeats_router_id(settled) || !settled.lessons()->disputes().empty();
    for (const lab::Speaker& speaker : lab.speakers)
        held.cannot_be_told |= !exports::bird_notes(settled, speaker.machine).empty();
    LiveLab live(settled, {.with_routing = true});
    // Tables that still change on a busy computer are compared all the same.
    if (live.said().find("have not settled") != std::string::npos
        && live.said().find("tables still change") == std::string::npos)
        held.differences.push_back(live.said());
    for (const lab::Speaker& speaker : lab.speakers) {
        if (!settled.condition().machine_on(speaker.machine))
            continue;
        const Table theirs = told_by_daemon(lab, speaker.machine);
        const Table ours = told_by_jackal(settled, speaker.machine);
        held.routes += theirs.size();
        std::set<net::Prefix> all;
        for (const Table* table : {&theirs, &ours})
            for (const auto& [to, route] : *table)
                all.insert(to);
        for (const net::Prefix& to : all) {
            auto of = [&](const Table& table) {
                auto found = table.find(to);
                return found == table.end() ? std::nullopt : std::optional(found->second);
            };
            const auto daemon = of(theirs);
            const auto jackal = of(ours);
            if (daemon == jackal)
                continue;
            if (is_luck(daemon, jackal))
                ++held.luck;
            else if (is_own_way(settled, to, speaker, jackal, daemon))
                ++held.own_ways;
            else
                held.differences.push_back(fmt::format("{}, {}: Jackal says {}; the daemon says {}",
                                                       lab.machines[speaker.machine].name,
                                                       net::to_string(to), words(jackal),
                                                       words(daemon)));
        }
    }
    return held;
}

} // namespace judge
