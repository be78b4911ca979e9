#include "jackal/export/speakers.h"

#include "jackal/sorted.h"

#include <algorithm>
#include <fmt/format.h>
#include <functional>
#include <set>

namespace jackal::exports {

using lab::MachineId;
using lab::NicId;
using routing::RouteKind;

namespace {

// BIRD prefers what has the larger number; see routing::administrative_distance.
unsigned preference(RouteKind kind) {
    return 255 - routing::administrative_distance(kind);
}

// Routes that are to be announced as OSPF's own default, whatever else the machine has.
constexpr unsigned preference_of_always = 65535;

std::string_view digit(net::Family family) {
    return family == net::Family::ipv4 ? "4" : "6";
}

std::string_view channel(net::Family family) {
    return family == net::Family::ipv4 ? "ipv4" : "ipv6";
}

std::string area_name(std::uint32_t area) {
    return fmt::format("{}.{}.{}.{}", area >> 24, area >> 16 & 255, area >> 8 & 255, area & 255);
}

// What a filter of BIRD asks of a route to know that it is from there.
std::string_view comes_from(plan::RouteSource source) {
    switch (source) {
    case plan::RouteSource::connected: return "source = RTS_DEVICE";
    case plan::RouteSource::static_routes: return "source = RTS_INHERIT";
    case plan::RouteSource::ospf:
        return "source ~ [RTS_OSPF, RTS_OSPF_IA, RTS_OSPF_EXT1, RTS_OSPF_EXT2]";
    case plan::RouteSource::rip: return "source = RTS_RIP";
    case plan::RouteSource::bgp: break;
    }
    return "source = RTS_BGP";
}

class BirdWriter {
  public:
    BirdWriter(const routing::Settled& settled, MachineId machine)
        : settled_(settled), lab_(settled.lab()), machine_(machine), told_(*lab_.speaker(machine)) {
    }

    std::string run() {
        text_ = fmt::format("# {} of the lab {}.\n\n", lab_.machines[machine_].name, lab_.name);
        line(0, "router id {};{}", told_.router_id ? net::to_string(*told_.router_id) : "0.0.0.1",
             told_.router_id ? "" : " # none is needed, but BIRD asks for one");
        line(0, "protocol device {{ scan time 10; }}");
        line(0,
             "protocol direct connected {{ check link yes; ipv4 {{ preference {0}; }}; ipv6 {{ "
             "preference {0}; }}; }}",
             preference(RouteKind::connected));
        for (net::Family family : net::both_families)
            write_kernel(family);
        for (lab::PolicyId policy : policies())
            for (net::Family family : net::both_families)
                write_policy(policy, family);
        for (net::Family family : net::both_families) {
            if (told_.ospf && told_.router_id)
                write_ospf(family);
            if (told_.rip)
                write_rip(family);
            if (told_.bgp && told_.router_id)
                write_bgp(family);
        }
        return std::move(text_);
    }

  private:
    template <class... Args>
    void line(std::size_t depth, fmt::format_string<Args...> form, Args&&... args) {
        text_.append(depth * 4, ' ');
        fmt::format_to(std::back_inserter(text_), form, std::forward<Args>(args)...);
        text_ += '\n';
    }
    void from_line(std::string_view what, plan::Mark at) {
        text_ += '\n';
        if (at)
            line(0, "# {}: line {} of the plan", what, at.line);
        else
            line(0, "# {}", what);
    }

    // Addresses that a machine chose itself are not routed (RFC 3927 section 7).
    bool works(NicId nic, net::Family family) const {
        const lab::InterfaceAddress* address = lab_.first_address(nic, family);
        return address != nullptr && address->origin != lab::AddressOrigin::link_local
               && settled_.condition().carries(lab_, nic, family);
    }

    // The kernel's table: static routes come from there, what protocols teach goes there.
    void write_kernel(net::Family family) {
        line(0, "protocol kernel kernel{} {{", digit(family));
        line(1, "scan time 5;");
        line(1, "learn;");
        if (told_.bgp && told_.bgp->equal_paths)
            line(1, "merge paths yes limit {};", routing::most_gates);
        line(1, "{} {{", channel(family));
        line(2, "preference {};", preference(RouteKind::static_route));
        line(2, "import all;");
        line(2, "export filter {{");
        line(3, "if source ~ [RTS_DEVICE, RTS_INHERIT] then reject;");
        line(3,
             "if source = RTS_BGP && dest = RTD_UNREACHABLE then reject; # no way to its next hop");
        line(3, "accept;");
        line(2, "}};");
        line(1, "}};");
        line(0, "}}");
    }

    // --- policies ------------------------------------------------------------------------------

    std::set<lab::PolicyId> policies() const {
        std::set<lab::PolicyId> used;
        auto add = [&](const std::vector<lab::Redistribution>& all) {
            for (const lab::Redistribution& one : all)
                used.insert(one.policy);
        };
        if (told_.ospf)
            add(told_.ospf->redistribute);
        if (told_.rip)
            add(told_.rip->redistribute);
        if (told_.bgp) {
            add(told_.bgp->redistribute);
            for (const lab::BgpNeighbour& neighbour : told_.bgp->neighbours)
                used.insert({neighbour.takes, neighbour.gives});
        }
        used.erase(lab::PolicyId{});
        return used;
    }

    // By number, as BIRD's names are no longer than 64 characters.
    static std::string policy_name(lab::PolicyId policy, net::Family family) {
        return fmt::format("policy{}_{}", digit(family), policy.row);
    }

    static std::string community(plan::Community value) {
        return fmt::format("({},{})", value >> 16, value & 0xffff);
    }

    // Of a path with `whole` all that the rules set, else the MED alone, which then stands for the
    // metric of what is redistributed.
    void write_policy(lab::PolicyId id, net::Family family) {
        const plan::Policy& policy = lab_.policies[id.row];
        from_line(fmt::format("policy {}", policy.name), policy.at);
        line(0, "function {}(bool whole; int prepended)", policy_name(id, family));
        line(0, "{{");
        for (const plan::PolicyRule& rule : policy.rules) {
            std::string matches;
            auto and_if = [&](const std::string& match) {
                matches += (matches.empty() ? "" : " && ") + match;
            };
            if (!rule.prefixes.empty()) {
                std::string set;
                for (const auto& prefix : rule.prefixes)
                    if (prefix.value.family() == family)
                        set += fmt::format("{}{}{}", set.empty() ? "" : ", ",
                                           net::to_string(prefix.value), rule.longer ? "+" : "");
                if (set.empty())
                    continue;
                and_if(fmt::format("net ~ [{}]", set));
            }
            if (!rule.communities.empty()) {
                std::string set;
                for (plan::Community one : rule.communities)
                    set += (set.empty() ? "" : ", ") + community(one);
                and_if(fmt::format("bgp_community ~ [{}]", set));
            }
            if (rule.passed_as)
                and_if(fmt::format("bgp_path ~ [= * {} * =]", *rule.passed_as));
            line(1, "if {} then {{", matches.empty() ? "true" : matches);
            if (rule.accepts && rule.med)
                line(2, "bgp_med = {};", *rule.med);
            if (rule.accepts
                && (rule.preference || rule.prepend != 0 || !rule.add_communities.empty())) {
                line(2, "if whole then {{");
                if (rule.preference)
                    line(3, "bgp_local_pref = {};", *rule.preference);
                for (int i = 0; i < rule.prepend; ++i)
                    line(3, "bgp_path.prepend(prepended);");
                for (plan::Community one : rule.add_communities)
                    line(3, "bgp_community.add({});", community(one));
                line(2, "}}");
            }
            line(2, "return {};", rule.accepts);
            line(1, "}}");
        }
        line(1, "return {};", policy.accepts);
        line(0, "}}");
    }

    // --- what is brought in --------------------------------------------------------------------

    // `accept METRIC TYPE` writes what sets the metric.
    using SetMetric = std::function<std::string(std::string_view metric, unsigned type)>;

    void write_redistribution(std::size_t depth, net::Family family,
                              const std::vector<lab::Redistribution>& all,
                              std::uint32_t default_metric, const SetMetric& set) {
        for (const lab::Redistribution& one : all) {
            const std::string metric = std::to_string(one.metric.value_or(default_metric));
            if (!one.policy) {
                line(depth, "if {} then {{ {} accept; }}", comes_from(one.from),
                     set(metric, one.type));
                continue;
            }
            line(depth, "if {} then {{", comes_from(one.from));
            line(depth + 1, "bgp_med = {};", metric);
            line(depth + 1, "if {}(false, 0) then {{ {} accept; }}",
                 policy_name(one.policy, family), set("bgp_med", one.type));
            line(depth, "}}");
        }
    }

    // A table of the protocol's own, of RIP or BGP, as these tell others of what they take for the
    // best whatever other routes the machine has: besides there are only those that it brings in.
    // `and_accept` are lines of a filter that takes more.
    std::string own_table(std::string_view protocol, plan::RouteSource source, net::Family family,
                          plan::DefaultRoute how, const std::string& and_accept,
                          const std::vector<lab::Redistribution>& redistribute) {
        const std::string own = fmt::format("of_{}{}", protocol, digit(family));
        line(0, "{} table {};", channel(family), own);
        if (how == plan::DefaultRoute::always)
            write_always(protocol, family, own);
        line(0, "protocol pipe pipe_{}{} {{", protocol, digit(family));
        line(1, "table {}; peer table master{};", own, digit(family));
        // Pipes take every route, not the best alone: in RIP nothing is better than one's own.
        const bool keeps_own =
            how == plan::DefaultRoute::always && source == plan::RouteSource::rip;
        line(1, "export where {}{};", comes_from(source), keeps_own ? " && net.len != 0" : "");
        line(1, "import filter {{");
        line(2, "if {} then reject;", comes_from(source));
        // It gets all that other protocols know, not only what the machine uses.
        if (std::string connected = connected_prefixes(family); !connected.empty())
            line(2, "if source != RTS_DEVICE && net ~ [{}] then reject;", connected);
        if (std::string routed = static_prefixes(family); !routed.empty())
            line(2, "if ! (source ~ [RTS_DEVICE, RTS_INHERIT]) && net ~ [{}] then reject;", routed);
        line(2, "if net.len = 0 then {};", how == plan::DefaultRoute::held ? "accept" : "reject");
        if (!and_accept.empty())
            line(2, "if {} then accept;", and_accept);
        write_redistribution(2, family, redistribute, 0,
                             [](std::string_view, unsigned) { return std::string(); });
        line(2, "reject;");
        line(1, "}};");
        line(0, "}}");
        return own;
    }

    // Prefixes of a family as BIRD lists them.
    static std::string listed(std::vector<net::Prefix> prefixes, net::Family family) {
        sort_unique(prefixes);
        std::string list;
        for (const net::Prefix& prefix : prefixes)
            if (prefix.family() == family)
                list += (list.empty() ? "" : ", ") + net::to_string(prefix);
        return list;
    }
    std::string networks_of(net::Family family) const {
        return listed(told_.bgp->networks, family);
    }
    std::string connected_prefixes(net::Family family) const {
        std::vector<net::Prefix> prefixes;
        for (NicId nic : lab_.nics_of(machine_))
            for (lab::AddressId id : lab_.addresses_of(nic))
                prefixes.push_back(lab_.addresses[id].prefix());
        return listed(std::move(prefixes), family);
    }
    std::string static_prefixes(net::Family family) const {
        std::vector<net::Prefix> prefixes;
        for (lab::RouteId route : lab_.routes_of(machine_))
            prefixes.push_back(lab_.routes[route].to);
        return listed(std::move(prefixes), family);
    }

    void write_always(std::string_view protocol, net::Family family, const std::string& own) {
        line(0, "protocol static always_{}{} {{", protocol, digit(family));
        line(1, "{} {{ table {}; preference {}; }};", channel(family), own, preference_of_always);
        line(1, "route {} unreachable;", net::to_string(net::Prefix::everything(family)));
        line(0, "}}");
    }

    // The table that OSPF works with: the machine's, or one of its own that has besides the default
    // route which it always announces.
    std::string ospf_table(net::Family family, plan::DefaultRoute how) {
        const std::string main = fmt::format("master{}", digit(family));
        if (how != plan::DefaultRoute::always)
            return main;
        const std::string own = fmt::format("of_ospf{}", digit(family));
        line(0, "{} table {};", channel(family), own);
        write_always("ospf", family, own);
        line(0, "protocol pipe pipe_ospf{} {{", digit(family));
        line(1, "table {}; peer table {};", own, main);
        line(1, "import all; export where source != RTS_STATIC;");
        line(0, "}}");
        return own;
    }

    // Default routes from elsewhere than the protocol itself.
    void write_default(std::size_t depth, plan::DefaultRoute how, plan::RouteSource own,
                       std::string_view set_metric) {
        if (how == plan::DefaultRoute::none) {
            line(depth, "if net.len = 0 then reject;");
            return;
        }
        line(depth, "if net.len = 0 then {{");
        line(depth + 1, "if {} then reject;", comes_from(own));
        line(depth + 1, "{}", set_metric);
        line(depth + 1, "accept;");
        line(depth, "}}");
    }

    // --- OSPF ----------------------------------------------------------------------------------

    void write_ospf(net::Family family) {
        const lab::Ospf& ospf = *told_.ospf;
        std::set<std::uint32_t> areas;
        for (const lab::OspfNic& nic : ospf.nics)
            if (works(nic.nic, family))
                areas.insert(nic.area);
        if (areas.empty())
            return;
        if (!ospf.virtual_links.empty())
            areas.insert(0); // they are of the backbone
        const bool is_v2 = family == net::Family::ipv4;
        from_line("OSPF", ospf.at);
        const std::string own = ospf_table(family, ospf.default_route);
        line(0, "protocol ospf {} ospf{} {{", is_v2 ? "v2" : "v3", digit(family));
        line(1, "ecmp yes limit {}; merge external yes;", routing::most_gates);
        line(1, "{} {{", channel(family));
        line(2, "table {}; preference {};", own, preference(RouteKind::ospf));
        line(2, "import all;");
        if (std::ranges::all_of(areas, [&](std::uint32_t area) {
                return ospf.kind_of(area) == lab::AreaKind::stub;
            }))
            line(2, "export none; # where only stub areas are, nobody would take it");
        else
            write_ospf_exports(ospf, family);
        line(1, "}};");
        for (std::uint32_t area : areas) {
            line(1, "area {} {{", area_name(area));
            const lab::AreaKind kind = ospf.kind_of(area);
            if (kind == lab::AreaKind::stub)
                line(2, "stub yes; summary yes; default cost 1;");
            if (kind == lab::AreaKind::nssa)
                line(2, "nssa; summary yes; default nssa yes; default cost 1;");
            std::string ranges;
            for (const lab::OspfRange& range : ospf.ranges)
                if (range.area == area && range.prefix.family() == family)
                    ranges += net::to_string(range.prefix) + "; ";
            if (!ranges.empty())
                line(2, "networks {{ {}}};", ranges);
            for (const lab::OspfNic& nic : ospf.nics)
                if (nic.area == area && works(nic.nic, family))
                    write_ospf_nic(nic, family);
            for (const lab::OspfVirtualLink& link : ospf.virtual_links)
                if (link.area == area)
                    write_virtual_link(link);
            line(1, "}};");
        }
        line(0, "}}");
    }

    void write_ospf_exports(const lab::Ospf& ospf, net::Family family) {
        line(2, "export filter {{");
        write_default(3, ospf.default_route, plan::RouteSource::ospf, "ospf_metric2 = 1;");
        write_redistribution(3, family, ospf.redistribute, 20,
                             [](std::string_view metric, unsigned type) {
                                 return fmt::format("ospf_metric{} = {};", type, metric);
                             });
        line(3, "reject;");
        line(2, "}};");
    }

    void write_ospf_nic(const lab::OspfNic& nic, net::Family family) {
        const lab::Nic& row = lab_.nics[nic.nic];
        const lab::InterfaceAddress& address = *lab_.first_address(nic.nic, family);
        // OSPF for IPv4 would speak for each further address of the NIC, too.
        const std::string only =
            family == net::Family::ipv4 ? " " + net::to_string(address.prefix()) : "";
        if (row.is_loopback()) {
            if (family == net::Family::ipv4)
                line(2, "interface \"{}\"{} {{ stub yes; }};", row.name, only);
            else // a NIC without a link-local address
                line(2, "stubnet {}/128 {{ cost {}; }};", net::to_string(address.address), 0);
            return;
        }
        line(2, "interface \"{}\"{} {{", row.name, only);
        line(3, "type {}; cost {}; priority {};", nic.point_to_point ? "ptp" : "broadcast",
             nic.cost, nic.priority);
        line(3, "hello {}; dead {};{}", nic.hello_s, nic.dead_s, nic.passive ? " stub yes;" : "");
        line(2, "}};");
    }

    // Its hello interval is the shortest that one of its ends has in the area.
    void write_virtual_link(const lab::OspfVirtualLink& link) {
        const lab::Speaker* other = lab_.speaker(link.to);
        if (other == nullptr || !other->ospf || !other->router_id)
            return;
        std::uint32_t hello = lab::OspfNic{}.hello_s;
        for (const lab::Ospf* end : {&*told_.ospf, &*other->ospf})
            for (const lab::OspfNic& nic : end->nics)
                if (nic.area == link.area)
                    hello = std::min<std::uint32_t>(hello, nic.hello_s);
        line(2, "virtual link {} {{ hello {}; dead {}; }}; # {}", net::to_string(*other->router_id),
             hello, 4 * hello, lab_.machines[link.to].name);
    }

    // --- RIP -----------------------------------------------------------------------------------

    void write_rip(net::Family family) {
        const lab::Rip& rip = *told_.rip;
        std::string own_nics;
        for (const lab::RipNic& nic : rip.nics)
            if (works(nic.nic, family))
                own_nics += fmt::format("{}ifname = \"{}\"", own_nics.empty() ? "" : " || ",
                                        lab_.nics[nic.nic].name);
        if (own_nics.empty())
            return;
        from_line("RIP", rip.at);
        const std::string on_own_nics = fmt::format("source = RTS_DEVICE && ({})", own_nics);
        const std::string own = own_table("rip", plan::RouteSource::rip, family, rip.default_route,
                                          on_own_nics, rip.redistribute);
        line(0, "protocol rip {}rip{} {{", family == net::Family::ipv4 ? "" : "ng ", digit(family));
        line(1, "{} {{", channel(family));
        line(2, "table {}; preference {};", own, preference(RouteKind::rip));
        line(2, "import all;");
        line(2, "export filter {{");
        line(3, "if source = RTS_RIP then accept;");
        write_default(3, rip.default_route, plan::RouteSource::rip, "rip_metric = 1;");
        line(3, "if {} then accept;", on_own_nics);
        write_redistribution(3, family, rip.redistribute, 1, [](std::string_view metric, unsigned) {
            return fmt::format("rip_metric = {};", metric);
        });
        line(3, "reject;");
        line(2, "}};");
        line(1, "}};");
        for (const lab::RipNic& nic : rip.nics) {
            const lab::Nic& row = lab_.nics[nic.nic];
            if (row.is_loopback() || !works(nic.nic, family))
                continue;
            line(1, "interface \"{}\" {{", row.name);
            line(2, "metric {}; update time {}; timeout time {}; garbage time {};", nic.cost,
                 rip.update_s, 6 * rip.update_s, 4 * rip.update_s); // RFC 2453 section 3.8
            if (!rip.split_horizon)
                line(2, "split horizon no;");
            if (nic.passive)
                line(2, "passive yes;");
            line(1, "}};");
        }
        line(0, "}}");
    }

    // --- BGP -----------------------------------------------------------------------------------

    void write_bgp(net::Family family) {
        const lab::Bgp& bgp = *told_.bgp;
        const std::size_t f = family == net::Family::ipv4 ? 0 : 1;
        if (std::ranges::none_of(bgp.neighbours,
                                 [&](const auto& n) { return n.session[f].has_value(); }))
            return;
        from_line("BGP", bgp.at);
        const std::string networks = networks_of(family);
        const std::string own = own_table(
            "bgp", plan::RouteSource::bgp, family, bgp.default_route,
            networks.empty() ? "" : fmt::format("net ~ [{}]", networks), bgp.redistribute);
        for (std::size_t n = 0; n < bgp.neighbours.size(); ++n)
            if (bgp.neighbours[n].session[f])
                write_session(n, *bgp.neighbours[n].session[f], family, own);
    }

    void write_session(std::size_t number, const lab::BgpEnds& ends, net::Family family,
                       const std::string& own) {
        const lab::Bgp& bgp = *told_.bgp;
        const lab::BgpNeighbour& neighbour = bgp.neighbours[number];
        const bool is_inner = neighbour.as == bgp.as;
        from_line(fmt::format("neighbour {}", neighbour.name), neighbour.at);
        line(0, "protocol bgp bgp{}_{} {{", digit(family), number);
        if (!neighbour.up
            || (neighbour.machine
                && settled_.condition().is_silenced(routing::Protocol::bgp, machine_,
                                                    neighbour.machine)))
            line(1, "disabled;");
        line(1, "local {} as {};", net::to_string(ends.own), bgp.as);
        line(1, "neighbor {} as {};", net::to_string(ends.peer), neighbour.as);
        line(1, "{};", is_inner || neighbour.distant ? "multihop" : "direct");
        if (neighbour.client)
            line(1, "rr client;{}",
                 bgp.cluster_id ? fmt::format(" rr cluster id {};", net::to_string(*bgp.cluster_id))
                                : "");
        line(1, "hold time {}; connect delay time 1; connect retry time 3; error wait time 1, 5;",
             std::max(bgp.hold_s, 3U));
        line(1, "{} {{", channel(family));
        line(2, "table {}; igp table master{}; preference {};", own, digit(family),
             preference(is_inner && (told_.ospf || told_.rip) ? RouteKind::bgp_inner
                                                              : RouteKind::bgp_outer));
        // What a reflector passes on keeps its next hop (RFC 4456 section 10).
        const bool is_self = is_inner && neighbour.next_hop_self;
        const bool may_reflect = std::ranges::any_of(bgp.neighbours, &lab::BgpNeighbour::client);
        const std::string names_itself =
            is_self && may_reflect ? fmt::format("bgp_next_hop = {}; ", net::to_string(ends.own))
                                   : "";
        if (is_self && !may_reflect)
            line(2, "next hop self;");
        if (is_inner)
            line(2, "gateway recursive;");
        line(2, "import filter {{");
        if (neighbour.takes)
            line(3, "if {}(true, {}) then accept; else reject;",
                 policy_name(neighbour.takes, family), neighbour.as);
        else
            line(3, "accept;");
        line(2, "}};");
        line(2, "export filter {{");
        auto policy = [&] {
            return neighbour.gives ? fmt::format("if ! {}(true, {}) then reject;",
                                                 policy_name(neighbour.gives, family), bgp.as)
                                   : std::string();
        };
        auto give = [&] { return names_itself + policy(); };
        line(3, "if source = RTS_BGP && dest = RTD_UNREACHABLE then reject;");
        for (std::size_t n = 0; n < bgp.neighbours.size() && !names_itself.empty(); ++n)
            if (bgp.neighbours[n].as == bgp.as)
                line(3, "if proto = \"bgp{}_{}\" then {{ {} accept; }}", digit(family), n,
                     policy());
        line(3, "if source = RTS_BGP then {{ {} accept; }}", give());
        write_default(3, bgp.default_route, plan::RouteSource::bgp,
                      "bgp_med = 0; bgp_origin = ORIGIN_IGP; " + give());
        if (std::string networks = networks_of(family); !networks.empty())
            line(3, "if net ~ [{}] then {{ bgp_med = 0; bgp_origin = ORIGIN_IGP; {} accept; }}",
                 networks, give());
        write_redistribution(
            3, family, bgp.redistribute, 0, [&](std::string_view metric, unsigned) {
                return fmt::format("bgp_med = {}; bgp_origin = ORIGIN_INCOMPLETE; {}", metric,
                                   give());
            });
        line(3, "reject;");
        line(2, "}};");
        line(1, "}};");
        line(0, "}}");
    }

    const routing::Settled& settled_;
    const lab::Lab& lab_;
    MachineId machine_;
    const lab::Speaker& told_;
    std::string text_;
};

} // namespace

std::string bird_settings(const routing::Settled& settled, MachineId machine) {
    const lab::Lab& lab = settled.lab();
    if (lab.speaker(machine) == nullptr || !settled.condition().machine_on(machine))
        return "";
    return BirdWriter(settled, machine).run();
}

namespace {

// BIRD finds the address of the other end of a virtual link on broadcast networks only.
bool ends_point_to_point(const lab::Lab& lab, const lab::OspfVirtualLink& link) {
    const lab::Speaker* other = lab.speaker(link.to);
    return other != nullptr && other->ospf
           && std::ranges::any_of(other->ospf->nics, [&](const lab::OspfNic& nic) {
                  return nic.area == link.area && nic.point_to_point;
              });
}

// Whether it is that of one of the machine's own, which daemons take for nobody's.
bool is_network_address(const lab::Lab& lab, MachineId machine, net::Address address) {
    for (lab::NicId nic : lab.nics_of(machine))
        for (lab::AddressId id : lab.addresses_of(nic))
            if (const net::Prefix prefix = lab.addresses[id].prefix();
                address.family() == net::Family::ipv4 && prefix.family() == address.family()
                && prefix.length() < 31 && prefix.first() == address)
                return true;
    return false;
}

} // namespace

std::vector<std::string> bird_notes(const routing::Settled& settled, MachineId machine) {
    const lab::Lab& lab = settled.lab();
    const lab::Speaker* told = lab.speaker(machine);
    std::vector<std::string> notes;
    if (told == nullptr)
        return notes;
    for (lab::NicId nic : lab.nics_of(machine))
        for (lab::AddressId id : lab.addresses_of(nic))
            if (is_network_address(lab, machine, lab.addresses[id].address))
                notes.push_back(fmt::format("nobody hears {} by {}, the address of a network",
                                            lab.nic_name(nic),
                                            net::to_string(lab.addresses[id].address)));
    for (lab::RouteId id : lab.routes_of(machine)) {
        const lab::StaticRoute& route = lab.routes[id];
        if (is_network_address(lab, machine, route.via))
            notes.push_back(fmt::format("{} sends nothing to {} by {}, the address of a network",
                                        lab.machines[machine].name, net::to_string(route.to),
                                        net::to_string(route.via)));
    }
    if (told->ospf)
        for (const lab::OspfVirtualLink& link : told->ospf->virtual_links)
            if (ends_point_to_point(lab, link))
                notes.push_back(fmt::format(
                    "{} has no virtual link to {} for IPv4, as that is on a point-to-point segment",
                    lab.machines[machine].name, lab.machines[link.to].name));
    if (!told->bgp || (!told->ospf && !told->rip))
        return notes;
    auto count = [&](bool inner) {
        return std::ranges::count_if(told->bgp->neighbours, [&](const lab::BgpNeighbour& n) {
            return (n.as == told->bgp->as) == inner;
        });
    };
    if (count(true) != 0 && count(false) != 0)
        notes.push_back(
            fmt::format("{} takes paths of other ASes before those of its own, whatever "
                        "their local preference",
                        lab.machines[machine].name));
    return notes;
}

std::chrono::seconds longest_settling(const lab::Lab& lab) {
    std::uint32_t longest = 0;
    for (const lab::Speaker& speaker : lab.speakers) {
        if (speaker.ospf)
            for (const lab::OspfNic& nic : speaker.ospf->nics)
                longest = std::max(longest, nic.dead_s + 2 * nic.hello_s);
        if (speaker.rip)
            longest = std::max(longest, 2 * speaker.rip->update_s);
    }
    constexpr std::uint32_t sessions = 30;
    return std::chrono::seconds(longest + sessions);
}

} // namespace jackal::exports
