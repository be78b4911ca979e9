#include "jackal/plan/read.h"

#include "parameters.h"
#include "plan/bounds.h"
#include "reader.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <fstream>

namespace jackal::plan {

namespace {

const Key<Site> site_keys[] = {
    {"about", [](Reader& r, NodeId n, Site& s) { read_text(r, n, s.about); }},
    {"filter", [](Reader& r, NodeId n, Site& s) { read_word(r, n, s.filter); }},
    {"region", [](Reader& r, NodeId n, Site& s) { read_name(r, n, s.region); }},
    {"relay", [](Reader& r, NodeId n, Site& s) { read_word(r, n, s.relay); }},
    {"routes", [](Reader& r, NodeId n, Site& s) { read_routes(r, n, s.routes); }},
    {"routing",
     [](Reader& r, NodeId n, Site& s) {
         s.automatic = r.word(n, "way of routing", {"manual", "automatic"}) == 1U;
     }},
    {"space", [](Reader& r, NodeId n, Site& s) { read_prefixes(r, n, s.space); }},
};

const Key<Pool> pool_keys[] = {
    {"about", [](Reader& r, NodeId n, Pool& p) { read_text(r, n, p.about); }},
    {"space", [](Reader& r, NodeId n, Pool& p) { read_prefixes(r, n, p.space); }},
};

void read_subnet_gateway(Reader& r, NodeId node, Subnet& subnet) {
    SubnetGateway& gateway = subnet.gateway;
    gateway.written = true;
    gateway.at = r.at(node);
    if (r.kind(node) == NodeKind::scalar) {
        using Kind = SubnetGateway::Kind;
        for (auto [word, kind] : {std::pair{"first", Kind::first}, std::pair{"last", Kind::last},
                                  std::pair{"none", Kind::none}}) {
            if (r.text(node) != word)
                continue;
            gateway.kind = kind;
            return;
        }
        if (!net::parse_address(r.text(node))) {
            return r.problem(node,
                             fmt::format("{} is no gateway; write first, last, none or an address",
                                         shown(r.text(node))));
        }
    }
    gateway.kind = SubnetGateway::Kind::given;
    read_address_per_family(r, node, gateway.given);
    refuse_empty_list(r, node, "gateway; write none for no gateway");
}

// `/27`, `/60`, or one for each family: up to 32 an IPv4 length, beyond it an IPv6 one.
void read_subnet_size(Reader& r, NodeId node, Subnet& subnet) {
    constexpr std::uint64_t longest_ipv4 = 32;
    int given[2] = {0, 0};
    r.each_item(node, [&](NodeId item) {
        auto length = r.value(item, "a prefix length from /8 to /32 for IPv4, or to /126 for IPv6",
                              [](std::string_view text) -> std::optional<std::uint64_t> {
                                  if (!text.starts_with('/'))
                                      return std::nullopt;
                                  auto bits = parse_count(text.substr(1));
                                  return bits && *bits >= 8 && *bits <= 126 ? bits : std::nullopt;
                              });
        if (!length)
            return;
        bool ipv4 = *length <= longest_ipv4;
        if (++given[ipv4 ? 0 : 1] > 1)
            r.problem(item, "one length for each address family at most");
        else if (ipv4)
            subnet.size = {static_cast<unsigned>(*length), r.at(item)};
        else
            subnet.ipv6_size = static_cast<std::uint8_t>(*length);
    });
}

const Key<Subnet> subnet_keys[] = {
    {"about", [](Reader& r, NodeId n, Subnet& s) { read_text(r, n, s.about); }},
    {"core", [](Reader& r, NodeId n, Subnet& s) { read_flag(r, n, s.joined); }},
    {"dhcp", read_dhcp},
    {"filter", [](Reader& r, NodeId n, Subnet& s) { read_word(r, n, s.filter); }},
    {"gateway", read_subnet_gateway},
    {"growth",
     [](Reader& r, NodeId n, Subnet& s) {
         auto percent = r.value(n, "a percentage from 0% to 1000%", parse_percent);
         if (percent && *percent > 1000)
             r.problem(n, "growth is at most 1000%");
         else if (percent)
             s.growth_percent = static_cast<std::uint16_t>(std::lround(*percent));
     }},
    {"hosts",
     [](Reader& r, NodeId n, Subnet& s) {
         if (auto hosts = read_number<std::uint64_t>(r, n, 1, most_hosts))
             s.hosts = {*hosts, r.at(n)};
     }},
    {"prefix", [](Reader& r, NodeId n, Subnet& s) { read_prefix_per_family(r, n, s.prefixes); }},
    {"reserve",
     [](Reader& r, NodeId n, Subnet& s) {
         r.each_item(n, [&](NodeId item) {
             if (auto region = read_region(r, item))
                 s.reserve.emplace_back(*region, r.at(item));
         });
     }},
    {"site",
     [](Reader& r, NodeId n, Subnet& s) {
         if (auto name = r.scalar(n, "the name of a site"))
             s.site = Placed<std::string>(std::string(*name), r.at(n));
     }},
    {"size", read_subnet_size},
    {"uplink",
     [](Reader& r, NodeId n, Subnet& s) {
         constexpr std::array uplinks{Uplink::none, Uplink::host, Uplink::nat, Uplink::bridge};
         if (auto i = r.word(n, "uplink", {"none", "host", "nat", "bridge"}))
             s.uplink = uplinks.at(*i);
         s.uplink_at = r.at(n);
     }},
    {"vlan", [](Reader& r, NodeId n, Subnet& s) { s.vlan = read_vlan(r, n).value_or(0); }},
};

const Key<Link> link_keys[] = {
    {"about", [](Reader& r, NodeId n, Link& l) { read_text(r, n, l.about); }},
    {"between",
     [](Reader& r, NodeId n, Link& l) { read_pair(r, n, "between", l.first, l.second); }},
    {"cost", [](Reader& r, NodeId n,
                Link& l) { l.cost = read_number<std::uint16_t>(r, n, 1, 65535).value_or(0); }},
    {"delay", [](Reader& r, NodeId n, Link& l) { l.delay = read_delay(r, n).value_or(l.delay); }},
    {"jitter",
     [](Reader& r, NodeId n, Link& l) { l.jitter = read_delay(r, n).value_or(l.jitter); }},
    {"loss",
     [](Reader& r, NodeId n, Link& l) {
         auto percent = r.value(n, "a percentage from 0% to 100%", parse_percent);
         if (percent && *percent > 100)
             r.problem(n, "loss is at most 100%");
         else if (percent)
             l.loss = *percent / 100;
     }},
    {"mtu", [](Reader& r, NodeId n, Link& l) { l.mtu_bytes = read_mtu(r, n); }},
    {"nics", [](Reader& r, NodeId n, Link& l) { read_pair(r, n, "nics", l.nics[0], l.nics[1]); }},
    {"pool", [](Reader& r, NodeId n, Link& l) { read_word(r, n, l.pool); }},
    {"prefix", [](Reader& r, NodeId n, Link& l) { read_prefix_per_family(r, n, l.prefixes); }},
    {"state", [](Reader& r, NodeId n, Link& l) { read_state(r, n, l.up); }},
};

bool names_port(const Placed<std::string>& end) {
    return end.value.find('/') != std::string::npos;
}

// A link between two switch ports.
void read_cable(Reader& r, NodeId node, Link link, Plan& plan) {
    for (const auto* end : {&link.first, &link.second})
        if (!names_port(*end))
            r.problem(end->at, fmt::format("a switch port is linked to another; to plug {} into "
                                           "one, write `port: SWITCH/PORT` at its NIC",
                                           shown(end->value)));
    r.each_pair_quietly(node, [&](NodeId key, NodeId) {
        constexpr std::array known{"about", "between", "state"};
        if (std::ranges::find(known, r.text(key)) == known.end())
            r.problem(key, fmt::format("a link between switch ports has no {}; only about, "
                                       "between and state",
                                       shown(r.text(key))));
    });
    plan.cables.push_back({.first = std::move(link.first),
                           .second = std::move(link.second),
                           .about = std::move(link.about),
                           .up = link.up,
                           .at = link.at});
}

constexpr const char* one_question =
    "an expectation has one of `ping`, `connect` and `apart`, not two";

// `connect: [FROM, TO, tcp/22]`
void read_connect(Reader& r, NodeId node, Expectation& e) {
    if (e.from.at)
        return r.problem(node, one_question);
    e.service = net::Service{};
    if (!e.gets.at)
        e.gets.value = "open";
    std::vector<NodeId> items;
    if (r.kind(node) == NodeKind::sequence)
        r.each_item(node, [&](NodeId item) { items.push_back(item); });
    if (items.size() != 3)
        return r.problem(node, "connect takes two names and a service: [ONE, OTHER, tcp/22]");
    read_word(r, items[0], e.from);
    read_word(r, items[1], e.to);
    e.service = r.value(items[2], "a service such as tcp/22 or udp/53", net::parse_service)
                    .value_or(net::Service{});
}

const Key<Expectation> expectation_keys[] = {
    {"about", [](Reader& r, NodeId n, Expectation& e) { read_text(r, n, e.about); }},
    {"apart",
     [](Reader& r, NodeId n, Expectation& e) {
         if (e.service || e.from.at)
             return r.problem(n, one_question);
         e.apart = true;
         if (!e.gets.at)
             e.gets.value = "nothing";
         read_pair(r, n, "apart", e.from, e.to);
     }},
    {"connect", read_connect},
    {"cut",
     [](Reader& r, NodeId n, Expectation& e) {
         if (r.kind(n) == NodeKind::scalar && r.text(n) == "any")
             e.any_cuts = 1;
         else if (r.kind(n) == NodeKind::scalar && r.text(n) == "any-two")
             e.any_cuts = 2;
         else
             r.each_item(n, [&](NodeId item) { read_word(r, item, e.cuts.emplace_back()); });
     }},
    {"family",
     [](Reader& r, NodeId n, Expectation& e) {
         if (auto i = r.word(n, "address family", {"4", "6"}))
             e.family = *i == 0 ? net::Family::ipv4 : net::Family::ipv6;
     }},
    {"gets", [](Reader& r, NodeId n, Expectation& e) { read_word(r, n, e.gets); }},
    {"ping",
     [](Reader& r, NodeId n, Expectation& e) {
         if (e.service || e.apart)
             return r.problem(n, one_question);
         read_pair(r, n, "ping", e.from, e.to);
     }},
    {"within", [](Reader& r, NodeId n, Expectation& e) { e.within = read_delay(r, n); }},
};

const Key<OutsideHost> host_keys[] = {
    {"about", [](Reader& r, NodeId n, OutsideHost& h) { read_text(r, n, h.about); }},
    {"address",
     [](Reader& r, NodeId n, OutsideHost& h) { read_address_per_family(r, n, h.addresses); }},
    {"listens", [](Reader& r, NodeId n, OutsideHost& h) { read_services(r, n, h.listens); }},
};

const Key<Outside> outside_keys[] = {
    {"delay",
     [](Reader& r, NodeId n, Outside& o) { o.delay = read_delay(r, n).value_or(o.delay); }},
    {"hosts", [](Reader& r, NodeId n,
                 Outside& o) { read_entries(r, n, "hosts", "a host", host_keys, o.hosts); }},
    {"lan", [](Reader& r, NodeId n, Outside& o) { read_prefix_per_family(r, n, o.lan); }},
};

const Key<Limits> limits_keys[] = {
    {"cpus", [](Reader& r, NodeId n, Limits& l) { read_cpus(r, n, l.sizes.cpus); }},
    {"disk", [](Reader& r, NodeId n, Limits& l) { read_mebibytes(r, n, l.sizes.disk_mib); }},
    {"memory", [](Reader& r, NodeId n, Limits& l) { read_mebibytes(r, n, l.sizes.memory_mib); }},
};

const Key<Plan> plan_keys[] = {
    {"about", [](Reader& r, NodeId n, Plan& p) { read_text(r, n, p.about); }},
    {"boot", [](Reader& r, NodeId n, Plan& p) { read_boot(r, n, p.image); }},
    {"expect",
     [](Reader& r, NodeId n, Plan& p) {
         read_list(r, n, "expect", [&](NodeId item) {
             Expectation e;
             e.at = r.at(item);
             r.mapping(item, "an expectation", expectation_keys, e);
             if (!e.service && (e.from.value.empty() || e.to.value.empty()))
                 r.problem(item, "an expectation needs `ping: [FROM, TO]`, `connect: [FROM, TO, "
                                 "SERVICE]` or `apart: [ONE, OTHER]`");
             p.expectations.push_back(std::move(e));
         });
     }},
    {"filters", read_filters},
    {"guests", [](Reader& r, NodeId n, Plan& p) { read_machines(r, n, p, MachineKind::guest); }},
    {"image", [](Reader& r, NodeId n, Plan& p) { read_image(r, n, p.image); }},
    {"keys", [](Reader& r, NodeId n, Plan& p) { read_keys(r, n, p.login); }},
    {"lab", [](Reader& r, NodeId n, Plan& p) { read_name(r, n, p.lab); }},
    {"limits",
     [](Reader& r, NodeId n, Plan& p) {
         p.limits.at = r.at(n);
         r.mapping(n, "limits", limits_keys, p.limits);
     }},
    {"links",
     [](Reader& r, NodeId n, Plan& p) {
         read_list(r, n, "links", [&](NodeId item) {
             Link link;
             link.at = r.at(item);
             r.mapping(item, "a link", link_keys, link);
             if (link.first.value.empty() || link.second.value.empty())
                 r.problem(item, "a link needs `between: [ONE, OTHER]`");
             if (names_port(link.first) || names_port(link.second))
                 read_cable(r, item, std::move(link), p);
             else
                 p.links.push_back(std::move(link));
         });
     }},
    {"outside",
     [](Reader& r, NodeId n, Plan& p) {
         p.outside.at = r.at(n);
         r.mapping(n, "outside", outside_keys, p.outside);
     }},
    {"params", [](Reader&, NodeId, Plan&) {}}, // see Parameters
    {"peerings", read_peerings},
    {"pinned",
     [](Reader& r, NodeId n, Plan& p) {
         p.pins.at = r.at(n);
         read_pins(r, n, p.pins);
     }},
    {"policies", read_policies},
    {"pools", [](Reader& r, NodeId n,
                 Plan& p) { read_entries(r, n, "pools", "a pool", pool_keys, p.pools); }},
    {"regions", read_regions},
    {"routers", [](Reader& r, NodeId n, Plan& p) { read_machines(r, n, p, MachineKind::router); }},
    {"runs-as", [](Reader& r, NodeId n, Plan& p) { read_runs_as(r, n, p.image); }},
    {"sites", [](Reader& r, NodeId n,
                 Plan& p) { read_entries(r, n, "sites", "a site", site_keys, p.sites); }},
    {"subnets", [](Reader& r, NodeId n,
                   Plan& p) { read_entries(r, n, "subnets", "a subnet", subnet_keys, p.subnets); }},
    {"switches", read_switches},
    {"tunnels", read_tunnels},
    {"user", [](Reader& r, NodeId n, Plan& p) { read_user(r, n, p.login); }},
};

// A parameter may choose among the regions that the plan names, and bring no new one: a region that
// nothing is told of has the usual distances, so a slip would go unseen.
void check_regions_set(Reader& r, std::string_view text, const Plan& plan) {
    std::vector<std::string> known;
    for (const SiteRegion& region : plan.regions) {
        known.push_back(region.name);
        for (const auto& [name, distance] : region.to)
            known.push_back(name.value);
    }
    auto is_known = [&](const Site& site) {
        return site.region.empty() || std::ranges::find(known, site.region) != known.end();
    };
    if (std::ranges::all_of(plan.sites, is_known))
        return;
    const Reading unset = read(text, plan.source);
    if (!unset.plan)
        return;
    for (const Site& site : unset.plan->written().sites)
        known.push_back(site.region);
    for (const Site& site : plan.sites)
        if (!is_known(site))
            r.problem(site.at, fmt::format("there is no region \"{}\"", site.region));
}

} // namespace

Reading read(std::string_view text, std::string source, const Settings& settings) {
    Reading reading;
    reading.source = source;
    if (auto document = Document::read(text, reading.problems)) {
        Plan plan;
        plan.source = std::move(source);
        Reader reader(*document, reading.problems);
        fill_in_parameters(*document, reader, settings);
        if (document->kind(document->root()) == NodeKind::mapping)
            reader.mapping(document->root(), "a plan", plan_keys, plan);
        else
            reader.problem(document->root(), "a plan is a mapping that starts with `lab: NAME`");
        if (!settings.empty())
            check_regions_set(reader, text, plan);
        std::vector<Problem> found;
        auto whole = Complete::of(std::move(plan), found);
        bool is_read = reading.problems.empty(); // else what has no place follows from that
        for (Problem& problem : found)
            if (is_read || problem.at)
                reader.problem(problem.at, std::move(problem.message));
        if (reading.problems.empty())
            reading.plan = std::move(whole);
    }
    std::stable_sort(
        reading.problems.begin(), reading.problems.end(), [](const Problem& a, const Problem& b) {
            return std::pair(a.at.line, a.at.column) < std::pair(b.at.line, b.at.column);
        });
    auto same = [](const Problem& a, const Problem& b) {
        return a.at == b.at && a.message == b.message; // of an entry that others are like
    };
    auto repeated = std::ranges::unique(reading.problems, same);
    reading.problems.erase(repeated.begin(), repeated.end());
    for (Problem& problem : reading.problems)
        problem.message = printable(problem.message);
    return reading;
}

std::string text_of(std::istream& stream) {
    std::string text;
    std::array<char, 1 << 16> part{};
    while (text.size() <= limits::plan_bytes && (stream.read(part.data(), part.size()), true)
           && stream.gcount() > 0)
        text.append(part.data(), static_cast<std::size_t>(stream.gcount()));
    return text;
}

Reading read_file(const std::string& path, const Settings& settings) {
    std::ifstream file(path, std::ios::binary);
    std::string text = text_of(file);
    if (text.empty()) {
        Reading reading;
        reading.source = path;
        reading.problems.push_back({{}, "cannot be opened, or is empty"});
        return reading;
    }
    return read(text, path, settings);
}

} // namespace jackal::plan