// Every kind of change, made in the plan and written into its text: both must mean the same.
#include "jackal/jackal.h"
#include "judge/seeds.h"
#include "lab_of.h"

#include <doctest/doctest.h>
#include <map>
#include <nlohmann/json.hpp>
#include <random>
#include <set>
#include <sstream>

using namespace jackal;

namespace {

constexpr const char* base = R"({"lab": "changes",
"sites": {
    "shore": {"space": "10.50.0.0/16"},
    "isle": {"space": "10.60.0.0/16"},
    "rock": {"space": "10.70.0.0/16", "routing": "automatic"},
    "reef": {"space": "10.80.0.0/16", "routing": "automatic"}},
"subnets": {
    "quay": {"site": "shore", "prefix": "10.50.1.0/24", "gateway": "10.50.1.1", "dhcp": {"size": "8", "server": "hermit"}},
    "pier": {"site": "shore", "prefix": "10.50.2.0/24"},
    "lamp": {"site": "isle", "prefix": "10.60.1.0/24"},
    "skerry": {"site": "isle", "hosts": "20"},
    "cliff": {"site": "rock", "prefix": "10.70.1.0/24"},
    "coral": {"site": "reef", "prefix": "10.80.1.0/24"}},
"guests": {
    "desk": {"nics": [{"subnet": "quay", "address": "10.50.1.20", "state": "down", "mac": "02:00:00:00:00:07"}], "gateway": "10.50.1.1", "memory": "1G"},
    "chart": {"nics": [{"subnet": "pier", "bond": [{"name": "one", "state": "down", "port": "sw/p4"}, {"name": "two", "state": "down"}]}], "starts-after": "desk"},
    "bell": {"state": "down", "nics": [{"subnet": "lamp", "address": "10.60.1.9/16"}]},
    "hermit": {"nics": [{"subnet": "cliff"}], "gateway": "none"}},
"routers": {
    "r1": {"nics": [{"subnet": "quay", "address": "10.50.1.1"}, {"subnet": "pier"}], "routes": [{"to": "10.99.0.0/16", "via": "10.50.1.9"}], "nat": [{"out": "eth1"}], "ospf": {"areas": {"0": ["quay", "pier"]}, "passive": "pier", "stub": "7"}, "router-id": "1.1.1.1", "bgp": {"as": "65001", "neighbours": {"r2": {"as": "65009", "takes": "few"}}}},
    "r2": {"nics": [{"subnet": "quay"}, {"subnet": "lamp"}], "ospf": {"areas": {"0": "quay", "5": "lamp"}}, "bgp": {"as": "65002", "neighbours": {"r1": {"as": "65001", "state": "down"}}}}},
"links": [
    {"between": ["r1", "r2"], "state": "down"},
    {"between": ["sw/p1", "mast/p1"], "state": "down"}],
"peerings": [
    {"between": ["rock", "reef"], "rock": {"accept": "false"}, "reef": {}},
    {"between": ["isle", "rock"], "isle": {"border": "r2"}, "rock": {"accept": "true"}, "state": "down"}],
"switches": {
    "sw": {"ports": {"p1": {"trunk": ["10"]}, "p2": {"vlan": "10", "segment": "quay"}, "p3": {"vlan": "20", "state": "down"}, "p4": {"vlan": "30"}}},
    "mast": {"state": "down", "ports": {"p1": {"trunk": ["10"]}}}},
"policies": {"few": {"default": "refuse", "rules": [{"do": "accept", "med": "7"}]}},
"filters": {
    "quiet": {"default": "deny", "rules": [{"do": "allow", "proto": "icmp"}, {"do": "deny", "proto": "tcp", "port": "22"}]}}})";

struct Row {
    plan::Edit edit;
    const char* line; // how it reads
};

net::Address address(const char* text) {
    return *net::parse_address(text);
}
net::Prefix prefix(const char* text) {
    return *net::parse_prefix(text);
}

std::vector<Row> rows(const plan::Plan& plan) {
    using namespace plan;
    using Ospf = OspfKey;
    return {
        {add_site_space(plan, "isle", prefix("10.61.0.0/16")),
         "sites.isle.space: add 10.61.0.0/16"},
        {set_subnet_prefix(plan, "pier", prefix("10.50.9.0/24")),
         "subnets.pier.prefix: set 10.50.9.0/24 (was 10.50.2.0/24)"},
        {set_subnet_gateway(plan, "quay", address("10.50.1.7")),
         "subnets.quay.gateway: set 10.50.1.7 (was 10.50.1.1)"},
        {set_nic_address(plan, "desk", 0, address("10.50.1.20"), address("10.50.1.30")),
         "guests.desk.nics[0].address: set 10.50.1.30 (was 10.50.1.20)"},
        {set_nic_address(plan, "bell", 0, address("10.60.1.9"), address("10.60.1.9")),
         "guests.bell.nics[0].address: set 10.60.1.9 (was 10.60.1.9/16)"},
        {set_nic_address(plan, "desk", 0, address("10.50.1.20"), std::nullopt),
         "guests.desk.nics[0].address: set auto"},
        {set_subnet_prefix(plan, "skerry", prefix("10.60.9.0/24")),
         "subnets.skerry.prefix: set 10.60.9.0/24 instead of hosts"},
        {set_nic_subnet(plan, "chart", 0, "quay"),
         "guests.chart.nics[0].subnet: set quay (was pier)"},
        {set_nic_up(plan, "desk", 0), "guests.desk.nics[0].state: set up"},
        {remove_nic_mac(plan, "desk", 0), "guests.desk.nics[0].mac: remove"},
        {add_nic(plan, "r2", "pier"), "routers.r2.nics: add {subnet: pier}"},
        {add_router(plan, "r3", {"pier", "lamp"}),
         "routers.r3: add {nics: [{subnet: pier}, {subnet: lamp}]}"},
        {set_machine_up(plan, "bell"), "guests.bell.state: set up"},
        {set_forwards(plan, "r2", false), "routers.r2.forwards: set false"},
        {set_forwards(plan, "desk", true), "guests.desk.forwards: set true"},
        {set_machine_gateway(plan, "hermit", std::nullopt), "guests.hermit.gateway: set auto"},
        {set_machine_gateway(plan, "desk", address("10.50.1.5")),
         "guests.desk.gateway: set 10.50.1.5 (was 10.50.1.1)"},
        {add_route(plan, "rock-core", Route::Target(prefix("10.50.0.0/16")), address("10.70.1.9")),
         "sites.rock.routes: add {to: 10.50.0.0/16, via: 10.70.1.9}"},
        {set_route_via(plan, "r1", 0, address("10.50.1.8")),
         "routers.r1.routes[0].via: set 10.50.1.8 (was 10.50.1.9)"},
        {remove_route(plan, "r1", 0), "routers.r1.routes[0]: remove"},
        {set_link_up(plan, 0), "links[0].state: set up"},
        {set_link_mtu(plan, 0, 1400), "links[0].mtu: set 1400"},
        {set_peering_up(plan, 1), "peerings[1].state: set up"},
        {set_peering_mtu(plan, 1, 1400), "peerings[1].mtu: set 1400"},
        {set_nic_mtu(plan, "r1", 1, 1400), "routers.r1.nics[1].mtu: set 1400"},
        {add_filter_rule(plan, "quiet", 0, {.allows = true, .protocol = net::Protocol::udp}),
         "filters.quiet.rules[0]: add {do: allow, proto: udp}"},
        {remove_filter_rule(plan, "quiet", 1), "filters.quiet.rules[1]: remove"},
        {add_translation(plan, "r2", "eth1"), "routers.r2.nat: add {out: eth1}"},
        {remove_translation(plan, "r1", 0), "routers.r1.nat[0]: remove"},
        {add_service(plan, "chart", {net::Protocol::tcp, 80}), "guests.chart.listens: add tcp/80"},
        {set_port_vlan(plan, "sw/p2", 40), "switches.sw.ports.p2.vlan: set 40 (was 10)"},
        {allow_vlan(plan, "sw/p1", 20), "switches.sw.ports.p1.trunk: add 20"},
        {set_trunk(plan, "sw/p1", {20}),
         "switches.sw.ports.p1.trunk: add 20, switches.sw.ports.p1.trunk: remove 10"},
        {set_port_up(plan, "sw/p3"), "switches.sw.ports.p3.state: set up"},
        {set_switch_up(plan, "mast"), "switches.mast.state: set up"},
        {set_cable_up(plan, 0), "links (sw/p1 -- mast/p1).state: set up"},
        {set_bond_member_up(plan, "chart", 0, 1), "guests.chart.nics[0].bond[1].state: set up"},
        {add_segment_port(plan, "mast", "p9", 10, "pier"),
         "switches.mast.ports.p9: add {vlan: 10, segment: pier}"},
        {set_dhcp_size(plan, "quay", 20), "subnets.quay.dhcp.size: set 20 (was 8)"},
        {remove_dhcp(plan, "quay"), "subnets.quay.dhcp: remove"},
        {set_dhcp_relay(plan, "quay", "r1"), "subnets.quay.dhcp.relay: set r1"},
        {remove_starts_after(plan, "chart", "desk"), "guests.chart.starts-after: remove desk"},
        {add_name_server(plan, "chart", Host(std::string("r1"))), "guests.chart.dns: add r1"},
        {accept_peering(plan, 0, "rock", ""), "peerings[0].rock.accept: set true (was false)"},
        {take_relayed(plan, 0, "reef"), "peerings[0].reef.relay: set true"},
        {set_peering_exit(plan, 0, "reef", Exit::lend), "peerings[0].reef.exit: set lend"},
        {add_peering(plan, {"shore", "r1"}, {"isle", "r2"}),
         "peerings: add {between: [shore, isle], shore: {accept: true, border: r1}, "
         "isle: {accept: true, border: r2}}"},
        {set_site_relay(plan, "rock", "hermit"), "sites.rock.relay: set hermit"},
        {set_site_space(plan, "reef", prefix("10.80.0.0/16"), prefix("10.80.0.0/17")),
         "sites.reef.space: set 10.80.0.0/17 (was 10.80.0.0/16)"},
        {add_uplink(plan, "way-out", "shore"),
         "subnets.way-out: add {site: shore, size: /28, uplink: nat}"},
        {add_link(plan, "r1", "r2", std::chrono::milliseconds(2)),
         "links: add {between: [r1, r2], delay: 2ms}"},
        {add_tunnel(plan, "r1", "r2"), "tunnels: add {between: [r1, r2]}"},
        {set_ospf_nic(plan, "r1", "eth0", Ospf::area, 3),
         "routers.r1.ospf.areas.3: add eth0, routers.r1.ospf.areas.0: remove quay"},
        {set_ospf_nic(plan, "r1", "eth0", Ospf::hello, 7), "routers.r1.ospf.hello.eth0: set 7s"},
        {set_ospf_nic(plan, "r1", "eth1", Ospf::active, 0), "routers.r1.ospf.passive: remove pier"},
        {speak_protocol(plan, "r2", RouteSource::rip), "routers.r2.rip: set {nics: all}"},
        {redistribute(plan, "r1", RouteSource::ospf, RouteSource::static_routes),
         "routers.r1.ospf.redistribute: add static"},
        {announce_default(plan, "r1", RouteSource::ospf), "routers.r1.ospf.default: set true"},
        {set_ospf_stub(plan, "r1", 7, false), "routers.r1.ospf.stub: remove 7"},
        {set_ospf_stub(plan, "r1", 8, true, true), "routers.r1.ospf.nssa: add 8"},
        {add_virtual_link(plan, "r2", 5, "r1"), "routers.r2.ospf.virtual-links.5: add r1"},
        {set_router_id(plan, "r1", address("2.2.2.2")),
         "routers.r1.router-id: set 2.2.2.2 (was 1.1.1.1)"},
        {set_bgp_neighbour(plan, "r1", "r2", 65002, false),
         "routers.r1.bgp.neighbours.r2.as: set 65002 (was 65009)"},
        {set_bgp_neighbour(plan, "r2", "r1", 65001, false),
         "routers.r2.bgp.neighbours.r1.state: set up"},
        {remove_policy(plan, "r1", "r2"), "routers.r1.bgp.neighbours.r2.takes: remove"},
        {set_size(plan, "desk", SizeKey::memory, 512), "guests.desk.memory: set 512M (was 1G)"},
        {set_translation_nic(plan, "r1", 0, "eth0"), "routers.r1.nat[0].out: set eth0 (was eth1)"},
    };
}

// What the tables have and no output tells of.
std::string tables(const lab::Lab& lab) {
    std::string text;
    auto add = [&](auto... words) { text += (... + (std::string(words) + ' ')) + '\n'; };
    auto number = [](auto n) { return std::to_string(static_cast<unsigned long>(n)); };
    for (const lab::Nic& nic : lab.nics)
        add(nic.name, net::to_string(nic.mac), number(nic.up), number(nic.mtu_bytes));
    for (const lab::Link& link : lab.links)
        add("link", number(link.up), number(link.is_tunnel));
    for (const lab::DhcpOffer& offer : lab.offers)
        add("offer", number(offer.heard_by.row));
    for (const lab::Switch& row : lab.switches)
        add(row.name, number(row.up));
    for (const lab::Port& port : lab.ports) {
        add(port.name, number(port.up), number(port.untagged), number(port.segment.row));
        for (std::uint16_t vlan : port.tagged)
            add(number(vlan));
    }
    for (const lab::Cable& cable : lab.cables)
        add("cable", number(cable.up));
    for (const lab::Plug& plug : lab.plugs)
        add(plug.member, number(plug.up));
    for (const lab::Site& site : lab.sites)
        add(site.name, number(site.relay.row));
    for (const lab::Peering& peering : lab.peerings) {
        add("peering", plan::to_string(peering.state));
        for (const plan::PeeringSide& side : peering.sides)
            add(number(side.accepts), number(side.relayed), plan::to_string(side.exit));
    }
    for (const lab::Filter& filter : lab.filters)
        for (const lab::FilterRule& rule : filter.rules)
            add(net::to_string(rule.protocol), number(rule.allows));
    for (const lab::Duties& duties : lab.duties) {
        for (net::Service service : duties.listens)
            add(net::to_string(service));
        for (net::Address server : duties.dns)
            add(net::to_string(server));
    }
    for (const lab::Speaker& speaker : lab.speakers) {
        add(speaker.router_id ? net::to_string(*speaker.router_id) : "none");
        add("rip", number(speaker.rip ? speaker.rip->nics.size() : 0));
        if (speaker.ospf) {
            for (std::uint32_t stub : speaker.ospf->stubs)
                add("stub", number(stub));
            for (std::uint32_t nssa : speaker.ospf->nssas)
                add("nssa", number(nssa));
            for (const lab::OspfVirtualLink& link : speaker.ospf->virtual_links)
                add("virtual link", number(link.area), lab.machines[link.to].name);
            for (const lab::Redistribution& from : speaker.ospf->redistribute)
                add("redistribute", plan::to_string(from.from));
            add("default", number(speaker.ospf->default_route));
            for (const lab::OspfNic& nic : speaker.ospf->nics)
                add(number(nic.area), number(nic.hello_s), number(nic.passive));
        }
        if (speaker.bgp)
            for (const lab::BgpNeighbour& neighbour : speaker.bgp->neighbours)
                add(neighbour.name, number(neighbour.as), number(neighbour.up),
                    number(neighbour.takes.row));
    }
    return text;
}

// All that a plan means, as the outputs tell it; without lines and columns, which differ.
std::string meaning(const plan::Plan& plan) {
    lab::Lab lab = lab::build(plan);
    routing::Settled settled = routing::settle(lab);
    std::string text = exports::namespaces_script(settled) + exports::addresses_json(lab)
                       + exports::machines_json(lab) + exports::start_order_json(lab);
    for (const lab::Finding& finding : lab::findings(lab))
        text += finding.message + '\n';
    for (const routing::Neighbour& n : settled.lessons()->neighbours())
        text += lab.machines[n.machine].name + ' ' + std::string(routing::state_name(n)) + ' '
                + std::string(routing::slug(n.discord)) + '\n';
    return text + tables(lab);
}

// A plan file that says what a JSON text says, laid out as builders do: in block or flow style, on
// one line or several, with comments, blank lines, quotes, anchors, parameters.
class Layout {
  public:
    Layout(const nlohmann::ordered_json& plan, unsigned seed) : random_(seed) {
        line_end_ = one_in(4) ? "\r\n" : "\n";
        std::string body;
        block(plan, 0, body);
        if (!parameters_.empty())
            text_ += "params:" + line_end_ + parameters_;
        text_ += body;
        if (one_in(4))
            text_.resize(text_.size() - line_end_.size());
    }

    const std::string& text() const { return text_; }
    /// Comments with a line of their own: `# own 7`.
    int own_comments() const { return own_comments_; }

  private:
    using json = nlohmann::ordered_json;

    bool one_in(unsigned n) { return random_() % n == 0; }

    std::string margin(int depth) { return std::string(static_cast<std::size_t>(depth) * 2, ' '); }

    std::string comment() { return one_in(6) ? "  # beside,\tof it" : ""; }

    void own_line(int depth, std::string& out) {
        if (one_in(12))
            out += line_end_;
        if (one_in(8))
            out += margin(depth) + "# own " + std::to_string(++own_comments_) + line_end_;
    }

    std::string scalar(const std::string& word, bool is_value) {
        bool needs_quotes = word.find(':') != word.npos || word.empty();
        if (is_value && !needs_quotes && one_in(12)) {
            std::string name = "p" + std::to_string(++names_);
            parameters_ += "  " + name + ": " + word + line_end_;
            return "$" + name;
        }
        if (needs_quotes || one_in(8))
            return one_in(2) ? '"' + word + '"' : '\'' + word + '\'';
        return word;
    }

    // An anchor before the first of several that are the same, or an alias.
    std::optional<std::string> alias(const json& value, std::string& anchor) {
        std::string key = value.dump();
        if (auto known = anchors_.find(key); known != anchors_.end() && one_in(2))
            return "*" + known->second;
        if (!anchors_.contains(key) && one_in(5))
            anchor = "&" + (anchors_[key] = "a" + std::to_string(++names_)) + " ";
        return std::nullopt;
    }

    std::string flow(const json& value, int depth, bool may_break) {
        std::string anchor;
        if (auto known = alias(value, anchor))
            return *known;
        if (value.is_string())
            return anchor + scalar(value, true);
        bool breaks = may_break && !value.empty() && one_in(3);
        std::string inner;
        std::size_t left = value.size();
        for (const auto& [key, item] : value.items()) {
            if (breaks)
                inner += line_end_ + margin(depth + 2);
            if (value.is_object())
                inner += scalar(key, false) + ": ";
            inner += flow(item, depth + 2, breaks);
            inner += --left != 0 ? (breaks ? "," : ", ") : breaks && one_in(3) ? "," : "";
            if (breaks)
                inner += comment();
        }
        if (breaks)
            inner += line_end_ + margin(depth + 1);
        else if (one_in(5) && !inner.empty())
            inner = " " + inner + " ";
        return anchor + (value.is_object() ? "{" + inner + "}" : "[" + inner + "]");
    }

    // Behind `key:` or `-`.
    void value_behind(const json& value, int depth, std::string& out) {
        bool is_block = value.is_structured() && !value.empty() && !one_in(3);
        if (!is_block) {
            out += " " + flow(value, depth, true) + comment() + line_end_;
            return;
        }
        std::string anchor;
        if (auto known = alias(value, anchor)) {
            out += " " + *known + comment() + line_end_;
            return;
        }
        out += (anchor.empty() ? "" : " " + anchor) + comment() + line_end_;
        block(value, depth + 1, out);
    }

    void block(const json& collection, int depth, std::string& out) {
        for (const auto& [key, item] : collection.items()) {
            own_line(depth, out);
            out += margin(depth) + (collection.is_object() ? scalar(key, false) + ":" : "-");
            if (collection.is_array() && item.is_object() && !item.empty() && one_in(2)) {
                std::string inner; // the first key stands behind the dash
                block(item, depth + 1, inner);
                bool starts_with_key = inner.find_first_not_of(' ') == margin(depth + 1).size()
                                       && inner[margin(depth + 1).size()] != '#';
                out += starts_with_key ? " " + inner.substr(margin(depth + 1).size())
                                       : line_end_ + inner;
            } else {
                value_behind(item, depth, out);
            }
        }
    }

    std::mt19937 random_;
    std::string line_end_;
    std::string text_;
    std::string parameters_;
    std::map<std::string, std::string> anchors_; // by what they stand for
    int names_ = 0;
    int own_comments_ = 0;
};

plan::Plan plan_of(const std::string& text) {
    plan::Reading reading = plan::read(text, "t");
    for (const plan::Problem& p : reading.problems)
        FAIL_CHECK(plan::to_string(p.at, "t") << ": " << p.message << '\n' << text);
    REQUIRE(reading.plan.has_value());
    return reading.plan->written();
}

std::map<std::string, int> lines_of(const std::string& text) {
    std::map<std::string, int> lines;
    std::istringstream in(text);
    for (std::string line; std::getline(in, line);)
        ++lines[line];
    return lines;
}

// Lines of one text that the other does not have.
int lines_beyond(const std::string& one, const std::string& other) {
    int count = 0;
    std::map<std::string, int> known = lines_of(other);
    for (const auto& [line, times] : lines_of(one))
        count += std::max(0, times - known[line]);
    return count;
}

int occurrences(const std::string& text, std::string_view word) {
    int count = 0;
    for (std::size_t at = text.find(word); at != text.npos; at = text.find(word, at + 1))
        ++count;
    return count;
}

} // namespace

TEST_CASE("every kind of change reads as it should and changes what is looked at") {
    const plan::Plan plan = plan_of(base);
    const std::string before = meaning(plan);
    std::set<plan::Move> moves;
    for (const Row& row : rows(plan)) {
        CAPTURE(std::string(row.line));
        moves.insert(row.edit.move);
        CHECK(plan::to_line(row.edit) == row.line);
        CHECK((meaning(plan::apply(plan, {row.edit}).plan.value()) != before));
    }
    CHECK(moves.size() == static_cast<std::size_t>(plan::Move::set_size) + 1); // the last one
}

TEST_CASE("changes are written into any layout of a plan, and nothing else moves") {
    const auto parsed = nlohmann::ordered_json::parse(base);
    const plan::Plan plan = plan_of(base);
    const std::vector<Row> all = rows(plan);
    std::vector<std::string> meant;
    for (const Row& row : all)
        meant.push_back(meaning(plan::apply(plan, {row.edit}).plan.value()));
    for (std::uint64_t seed : judge::seeds(60, 1)) {
        const Layout layout(parsed, static_cast<unsigned>(seed));
        const std::string& text = layout.text();
        CAPTURE(seed);
        CAPTURE(text);
        REQUIRE((plan_of(text) == plan));
        auto expected = meant.begin();
        for (const Row& row : all) {
            CAPTURE(std::string(row.line));
            const std::string& means = *expected++;
            plan::Writing written = plan::write(text, {row.edit});
            for (const plan::Problem& p : written.problems)
                FAIL_CHECK(plan::to_string(p.at, "t") << ": " << p.message);
            if (!written.text)
                continue;
            CAPTURE(*written.text);
            CHECK((meaning(plan_of(*written.text)) == means));
            const bool removes =
                std::string_view(row.line).find("remove") != std::string_view::npos;
            if (!removes)
                CHECK(occurrences(*written.text, "# own") == layout.own_comments());
            CHECK(lines_beyond(*written.text, text) <= 6);
            if (!removes)
                CHECK(lines_beyond(text, *written.text) <= 4);
        }
    }
}

TEST_CASE("a change is written where only what it means changes") {
    const std::string head = "lab: t\nparams: {one: 10.50.1.0/24, two: 1400}\n"
                             "subnets:\n  quay: {prefix: $one}   # of stone\n";
    using Edits = std::vector<plan::Edit> (*)(const plan::Plan&);
    struct Case {
        const char* before;
        Edits edits;
        const char* after;
    };
    const Edits second = [](const plan::Plan& plan) {
        return std::vector{plan::set_nic_mtu(plan, "desk-2", 0, 1300)};
    };
    const std::vector<Case> cases = {
        // One of a count is written out, what all have in common stays at their entry.
        {"guests:\n  desk: {count: 3, nics: [{subnet: quay}]} # three\n", second,
         "guests:\n  desk: {template: true, nics: [{subnet: quay}]} # three\n  desk-1: {like: "
         "desk}\n  desk-2: {like: desk, nics: [{subnet: quay, mtu: 1300}]}\n  desk-3: {like: "
         "desk}\n"},
        {"guests: {desk: {count: 2, nics: [{subnet: quay}]}}\n", second,
         "guests: {desk: {template: true, nics: [{subnet: quay}]}, desk-1: {like: desk}, desk-2: "
         "{like: desk, nics: [{subnet: quay, mtu: 1300}]}}\n"},
        {"guests:\n  desk: {count: 2, nics: [{subnet: quay}]} # two\n",
         [](const plan::Plan& plan) {
             return std::vector{plan::set_nic_mtu(plan, "desk-1", 0, 1300),
                                plan::set_nic_mtu(plan, "desk-2", 0, 1300)};
         },
         "guests:\n  desk: {count: 2, nics: [{subnet: quay, mtu: 1300}]} # two\n"},
        // What an entry has from another.
        {"guests:\n  a:\n    nics:\n      - {subnet: quay} # here\n    routes: [{to: default, via: "
         "b}]\n  b: {like: a}\n",
         [](const plan::Plan& plan) { return std::vector{plan::remove_route(plan, "b", 0)}; },
         "guests:\n  a:\n    nics:\n      - {subnet: quay} # here\n    routes: [{to: default, via: "
         "b}]\n  b: {like: a, routes: []}\n"},
        // An alias, and what others are aliases of.
        {"guests:\n  a: {nics: &n [{subnet: quay}]}\n  b: {nics: *n}\n",
         [](const plan::Plan& plan) { return std::vector{plan::set_nic_mtu(plan, "b", 0, 1300)}; },
         "guests:\n  a: {nics: &n [{subnet: quay}]}\n  b: {nics: [{subnet: quay, mtu: 1300}]}\n"},
        {"guests:\n  a: {nics: &n [{subnet: quay}]}\n  b: {nics: *n}\n  c: {nics: *n}\n",
         [](const plan::Plan& plan) { return std::vector{plan::set_nic_mtu(plan, "a", 0, 1300)}; },
         "guests:\n  a: {nics: [{subnet: quay, mtu: 1300}]}\n  b: {nics: &n [{subnet: quay}]}\n  "
         "c: {nics: *n}\n"},
        // A parameter of several uses.
        {"guests:\n  a: {nics: [{subnet: quay, mtu: $two}]}\n  b: {nics: [{subnet: quay, mtu: "
         "$two}]}\n",
         [](const plan::Plan& plan) { return std::vector{plan::set_nic_mtu(plan, "a", 0, 1300)}; },
         "guests:\n  a: {nics: [{subnet: quay, mtu: 1300}]}\n  b: {nics: [{subnet: quay, mtu: "
         "$two}]}\n"},
        // A list where the list beside it has lines of its own, and no last line break.
        {"guests:\n  a:\n    nics:\n      - subnet: quay\n    # the end",
         [](const plan::Plan& plan) {
             return std::vector{
                 plan::add_route(plan, "a", plan::Route::Default{}, std::string("b"))};
         },
         "guests:\n  a:\n    nics:\n      - subnet: quay\n    routes:\n      - {to: default, via: "
         "b}\n    # the end"},
    };
    for (const Case& row : cases) {
        CAPTURE(row.before);
        std::string others = std::string_view(row.after).find("via: b") != std::string::npos
                                     && std::string_view(row.before).find("b:") == std::string::npos
                                 ? "routers: {b: {nics: [{subnet: quay}]}}\n"
                                 : "";
        const std::string text = head + others + row.before;
        plan::Writing written = plan::write(text, row.edits(plan_of(text)));
        for (const plan::Problem& p : written.problems)
            FAIL_CHECK(p.message);
        if (written.text)
            CHECK(*written.text == head + others + row.after);
    }
    plan::Writing alone = plan::write(
        head, {plan::set_subnet_prefix(plan_of(head), "quay", *net::parse_prefix("10.50.9.0/24"))});
    CHECK(alone.text.value_or("")
          == "lab: t\nparams: {one: 10.50.9.0/24, two: 1400}\nsubnets:\n  quay: {prefix: $one}   # "
             "of stone\n");
    CHECK(plan::write(
              head,
              {plan::set_subnet_prefix(plan_of(head), "quay", *net::parse_prefix("10.50.9.0/24"))},
              {{"one", "10.50.7.0/24"}})
              .text.value_or("")
              .find("{prefix: 10.50.9.0/24}   # of stone")
          != std::string::npos);
}

TEST_CASE("a change by place is read, made, or refused") {
    const std::string text = "lab: t\nabout: |-  # why\n  long\nsubnets:\n"
                             "  quay: {hosts: 9, reserve: [+1, +2]} # stone\n"
                             "guests:\n  desk: {count: 2, nics: [{subnet: quay}]}\n";
    struct Case {
        const char* change;
        const char* shows; // in the text, or in the problem
    };
    for (const Case& row : std::vector<Case>{
             {"subnets.quay.hosts=20", "quay: {hosts: 20, reserve: [+1, +2]} # stone\n"},
             {"about=short", "about: short # why\nsubnets:"},
             {"subnets.quay.reserve+=+7", "reserve: [+1, +2, +7]}"},
             {"subnets.quay.reserve-=+1", "reserve: [+2]}"},
             {"subnets.quay.reserve[1]-", "reserve: [+1]}"},
             {"subnets.quay.reserve-", "quay: {hosts: 9} # stone\n"},
             {"subnets.pier={hosts: 5}", "# stone\n  pier: {hosts: 5}\nguests:"},
             {"guests.desk-2.state=down", "  desk-2: {like: desk, state: down}\n"},
             {"routers.r1={nics: [{subnet: quay}]}", "routers:\n  r1: {nics: [{subnet: quay}]}\n"},
             {"subnets.quay.hosts=many", "is not a whole number"},
             {"subnets.quay.hosts={", "cannot be written here"},
             {"guests.bell.state=up", "  bell: {state: up}\n"},
             {"guests.bell.state-", "nothing stands at guests.bell.state"},
             {"guests.desk.nics[4].mtu=1300", "there is no such item"},
         }) {
        CAPTURE(row.change);
        auto change = plan::parse_change(row.change);
        REQUIRE(change.has_value());
        plan::Writing written = plan::write(text, std::vector{*change});
        std::string shown = written.text ? *written.text : written.problems.front().message;
        CHECK_MESSAGE(shown.find(row.shows) != std::string::npos, shown);
    }
    for (const char* wrong :
         {"", "=", "a", "a.b", "a..b=1", "a[x]=1", "a[1=1", "a=", "a+=", ".a=1"})
        CHECK_FALSE_MESSAGE(plan::parse_change(wrong).has_value(), wrong);
}
