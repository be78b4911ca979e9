// Every kind of change, made in the plan and written by hand where it says: both must mean the
// same.
#include "jackal/jackal.h"
#include "lab_of.h"

#include <doctest/doctest.h>
#include <set>

using namespace jackal;

namespace {

constexpr const char* base = R"(lab: changes
sites:
  shore: {space: 10.50.0.0/16}
  isle:  {space: 10.60.0.0/16}
  rock:  {space: 10.70.0.0/16, routing: automatic}
  reef:  {space: 10.80.0.0/16, routing: automatic}
subnets:
  quay:  {site: shore, prefix: 10.50.1.0/24, gateway: 10.50.1.1, dhcp: {size: 8, server: hermit}}
  pier:  {site: shore, prefix: 10.50.2.0/24}
  lamp:  {site: isle, prefix: 10.60.1.0/24}
  cliff: {site: rock, prefix: 10.70.1.0/24}
  coral: {site: reef, prefix: 10.80.1.0/24}
guests:
  desk:  {nics: [{subnet: quay, address: 10.50.1.20, state: down, mac: "02:00:00:00:00:07"}], gateway: 10.50.1.1}
  chart: {nics: [{subnet: pier, bond: [{name: one, state: down, port: sw/p4}, {name: two, state: down}]}], starts-after: desk}
  bell:  {state: down, nics: [{subnet: lamp}]}
  hermit: {nics: [{subnet: cliff}]}
routers:
  r1: {nics: [{subnet: quay, address: 10.50.1.1}, {subnet: pier}], routes: [{to: 10.99.0.0/16, via: 10.50.1.9}], nat: [{out: eth1}], ospf: {areas: {0: [quay, pier]}, passive: pier, stub: 7}, router-id: 1.1.1.1, bgp: {as: 65001, neighbours: {r2: {as: 65009}}}}
  r2: {nics: [{subnet: quay}, {subnet: lamp}], ospf: {areas: {0: quay, 5: lamp}}, bgp: {as: 65002, neighbours: {r1: {as: 65001, state: down}}}}
links:
  - {between: [r1, r2], state: down}
  - {between: [sw/p1, mast/p1], state: down}
peerings:
  - {between: [rock, reef], rock: {accept: false}, reef: {}}
  - {between: [isle, rock], isle: {border: r2}, rock: {accept: true}, state: down}
switches:
  sw:   {ports: {p1: {trunk: [10]}, p2: {vlan: 10, segment: quay}, p3: {vlan: 20, state: down}, p4: {vlan: 30}}}
  mast: {state: down, ports: {p1: {trunk: [10]}}}
filters:
  quiet: {default: deny, rules: [{do: allow, proto: icmp}, {do: deny, proto: tcp, port: 22}]}
)";

struct Row {
    plan::Edit edit;
    const char* line; // how it reads
    const char* old;  // in the text above
    const char* now;
};

net::Address address(const char* text) {
    return *net::parse_address(text);
}
net::Prefix prefix(const char* text) {
    return *net::parse_prefix(text);
}

const std::vector<Row>& rows() {
    using namespace plan;
    using Ospf = SetOspfNic::What;
    static const std::vector<Row> all = {
        {AddSiteSpace{"isle", prefix("10.61.0.0/16")}, "sites.isle.space: add 10.61.0.0/16",
         "space: 10.60.0.0/16", "space: [10.60.0.0/16, 10.61.0.0/16]"},
        {SetSubnetPrefix{"pier", prefix("10.50.9.0/24")},
         "subnets.pier.prefix: set 10.50.9.0/24 (was 10.50.2.0/24)", "10.50.2.0/24",
         "10.50.9.0/24"},
        {SetSubnetGateway{"quay", address("10.50.1.7")},
         "subnets.quay.gateway: set 10.50.1.7 (was 10.50.1.1)", "gateway: 10.50.1.1, dhcp",
         "gateway: 10.50.1.7, dhcp"},
        {SetNicAddress{"desk", 0, address("10.50.1.20"), address("10.50.1.30")},
         "guests.desk.nics[0].address: set 10.50.1.30 (was 10.50.1.20)", "10.50.1.20",
         "10.50.1.30"},
        {SetNicSubnet{"chart", 0, "quay"}, "guests.chart.nics[0].subnet: set quay (was pier)",
         "chart: {nics: [{subnet: pier", "chart: {nics: [{subnet: quay"},
        {SetNicUp{"desk", 0}, "guests.desk.nics[0].state: set up", "state: down, mac",
         "state: up, mac"},
        {RemoveNicMac{"desk", 0}, "guests.desk.nics[0].mac: remove", ", mac: \"02:00:00:00:00:07\"",
         ""},
        {AddNic{"r2", "pier"}, "routers.r2.nics: add {subnet: pier}",
         "{subnet: quay}, {subnet: lamp}]", "{subnet: quay}, {subnet: lamp}, {subnet: pier}]"},
        {AddRouter{"r3", {"pier", "lamp"}},
         "routers.r3: add {nics: [{subnet: pier}, {subnet: lamp}]}", "links:\n  - {between: [r1",
         "  r3: {nics: [{subnet: pier}, {subnet: lamp}]}\nlinks:\n  - {between: [r1"},
        {SetMachineUp{"bell"}, "guests.bell.state: set up", "bell:  {state: down",
         "bell:  {state: up"},
        {SetForwards{"r2", false}, "routers.r2.forwards: set false", "r2: {nics",
         "r2: {forwards: false, nics"},
        {SetMachineGateway{"desk", address("10.50.1.5")},
         "guests.desk.gateway: set 10.50.1.5 (was 10.50.1.1)", "gateway: 10.50.1.1}",
         "gateway: 10.50.1.5}"},
        {AddRoute{"rock-core", Route::Target(prefix("10.50.0.0/16")), address("10.70.1.9")},
         "sites.rock.routes: add {to: 10.50.0.0/16, via: 10.70.1.9}",
         "space: 10.70.0.0/16, routing: automatic",
         "space: 10.70.0.0/16, routing: automatic, routes: [{to: 10.50.0.0/16, via: 10.70.1.9}]"},
        {SetRouteVia{"r1", 0, address("10.50.1.8")},
         "routers.r1.routes[0].via: set 10.50.1.8 (was 10.50.1.9)", "10.50.1.9", "10.50.1.8"},
        {RemoveRoute{"r1", 0}, "routers.r1.routes[0]: remove", "{to: 10.99.0.0/16, via: 10.50.1.9}",
         ""},
        {SetLinkUp{0}, "links[0].state: set up", "[r1, r2], state: down", "[r1, r2], state: up"},
        {SetLinkMtu{0, 1400}, "links[0].mtu: set 1400", "[r1, r2]", "[r1, r2], mtu: 1400"},
        {SetPeeringUp{1}, "peerings[1].state: set up", "rock: {accept: true}, state: down",
         "rock: {accept: true}, state: up"},
        {SetPeeringMtu{1, 1400}, "peerings[1].mtu: set 1400", "[isle, rock]",
         "[isle, rock], mtu: 1400"},
        {SetNicMtu{"r1", 1, 1400}, "routers.r1.nics[1].mtu: set 1400", "{subnet: pier}]",
         "{subnet: pier, mtu: 1400}]"},
        {AddFilterRule{"quiet", 0, {.allows = true, .protocol = net::Protocol::udp}},
         "filters.quiet.rules[0]: add {do: allow, proto: udp}", "rules: [",
         "rules: [{do: allow, proto: udp}, "},
        {RemoveFilterRule{"quiet", 1}, "filters.quiet.rules[1]: remove",
         ", {do: deny, proto: tcp, port: 22}", ""},
        {AddTranslation{"r2", "eth1"}, "routers.r2.nat: add {out: eth1}", "r2: {nics",
         "r2: {nat: [{out: eth1}], nics"},
        {RemoveTranslation{"r1", 0}, "routers.r1.nat[0]: remove", ", nat: [{out: eth1}]", ""},
        {AddService{"chart", {net::Protocol::tcp, 80}}, "guests.chart.listens: add tcp/80",
         "chart: {", "chart: {listens: tcp/80, "},
        {SetPortVlan{"sw/p2", 40}, "switches.sw.ports.p2.vlan: set 40 (was 10)", "p2: {vlan: 10",
         "p2: {vlan: 40"},
        {AllowVlan{"sw/p1", 20}, "switches.sw.ports.p1.trunk: add 20", "p1: {trunk: [10]}, p2",
         "p1: {trunk: [10, 20]}, p2"},
        {SetPortUp{"sw/p3"}, "switches.sw.ports.p3.state: set up", "vlan: 20, state: down",
         "vlan: 20, state: up"},
        {SetSwitchUp{"mast"}, "switches.mast.state: set up", "mast: {state: down",
         "mast: {state: up"},
        {SetCableUp{0}, "links (sw/p1 -- mast/p1).state: set up", "mast/p1], state: down",
         "mast/p1], state: up"},
        {SetBondMemberUp{"chart", 0, 1}, "guests.chart.nics[0].bond[1].state: set up",
         "two, state: down", "two, state: up"},
        {AddSegmentPort{"mast", "p9", 10, "pier"},
         "switches.mast.ports.p9: add {vlan: 10, segment: pier}", "{p1: {trunk: [10]}}}\nfilters",
         "{p1: {trunk: [10]}, p9: {vlan: 10, segment: pier}}}\nfilters"},
        {SetDhcpSize{"quay", 20}, "subnets.quay.dhcp.size: set 20 (was 8)", "size: 8", "size: 20"},
        {RemoveDhcp{"quay"}, "subnets.quay.dhcp: remove", ", dhcp: {size: 8, server: hermit}", ""},
        {SetDhcpRelay{"quay", "r1"}, "subnets.quay.dhcp.relay: set r1", "server: hermit}",
         "server: hermit, relay: r1}"},
        {RemoveStartsAfter{"chart", "desk"}, "guests.chart.starts-after: remove desk",
         ", starts-after: desk", ""},
        {AddNameServer{"chart", Host(std::string("r1"))}, "guests.chart.dns: add r1", "chart: {",
         "chart: {dns: r1, "},
        {AcceptPeering{0, "rock", ""}, "peerings[0].rock.accept: set true (was false)",
         "rock: {accept: false}", "rock: {accept: true}"},
        {TakeRelayed{0, "reef"}, "peerings[0].reef.relay: set true", "reef: {}",
         "reef: {relay: true}"},
        {SetPeeringExit{0, "reef", Exit::lend}, "peerings[0].reef.exit: set lend", "reef: {}",
         "reef: {exit: lend}"},
        {AddPeering{{"shore", "isle"}, {"r1", "r2"}},
         "peerings: add {between: [shore, isle], shore: {accept: true, border: r1}, "
         "isle: {accept: true, border: r2}}",
         "switches:\n",
         "  - {between: [shore, isle], shore: {accept: true, border: r1}, isle: {accept: true, "
         "border: r2}}\nswitches:\n"},
        {SetSiteRelay{"rock", "hermit"}, "sites.rock.relay: set hermit", "rock:  {",
         "rock:  {relay: hermit, "},
        {SetSiteSpace{"reef", prefix("10.80.0.0/16"), prefix("10.80.0.0/17")},
         "sites.reef.space: set 10.80.0.0/17 (was 10.80.0.0/16)", "10.80.0.0/16", "10.80.0.0/17"},
        {AddUplink{"way-out", "shore"},
         "subnets.way-out: add {site: shore, size: /28, uplink: nat}", "guests:\n",
         "  way-out: {site: shore, size: /28, uplink: nat}\nguests:\n"},
        {AddLink{"r1", "r2", std::chrono::milliseconds(2)},
         "links: add {between: [r1, r2], delay: 2ms}", "peerings:\n",
         "  - {between: [r1, r2], delay: 2ms}\npeerings:\n"},
        {AddTunnel{"r1", "r2"}, "tunnels: add {between: [r1, r2]}", "peerings:\n",
         "tunnels: [{between: [r1, r2]}]\npeerings:\n"},
        {SetOspfNic{"r1", "eth0", Ospf::area, 3}, "routers.r1.ospf.areas.3: add eth0",
         "areas: {0: [quay, pier]}, passive", "areas: {0: [pier], 3: [eth0]}, passive"},
        {SetOspfNic{"r1", "eth0", Ospf::hello, 7}, "routers.r1.ospf.hello.eth0: set 7s",
         "passive: pier", "passive: pier, hello: {eth0: 7s}"},
        {SetOspfNic{"r1", "eth1", Ospf::active, 0}, "routers.r1.ospf.passive: remove eth1",
         ", passive: pier", ""},
        {Redistribute{"r1", RouteSource::ospf, RouteSource::static_routes},
         "routers.r1.ospf.redistribute: add static", "passive: pier",
         "passive: pier, redistribute: static"},
        {AnnounceDefault{"r1", RouteSource::ospf}, "routers.r1.ospf.default: set true",
         "passive: pier", "passive: pier, default: true"},
        {SetOspfStub{"r1", 7, false}, "routers.r1.ospf.stub: remove 7", ", stub: 7", ""},
        {SetRouterId{"r1", address("2.2.2.2")}, "routers.r1.router-id: set 2.2.2.2 (was 1.1.1.1)",
         "router-id: 1.1.1.1", "router-id: 2.2.2.2"},
        {SetBgpNeighbour{"r1", "r2", 65002, false},
         "routers.r1.bgp.neighbours.r2.as: set 65002 (was 65009)", "as: 65009", "as: 65002"},
        {SetBgpNeighbour{"r2", "r1", 65001, false}, "routers.r2.bgp.neighbours.r1.state: set up",
         "as: 65001, state: down", "as: 65001, state: up"},
    };
    return all;
}

std::string changed(const Row& row) {
    std::string text = base;
    std::size_t at = text.find(row.old);
    REQUIRE_MESSAGE(at != text.npos, row.old << " does not stand in the plan");
    REQUIRE_MESSAGE(text.find(row.old, at + 1) == text.npos, row.old << " stands there twice");
    return text.replace(at, std::string(row.old).size(), row.now);
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
        if (speaker.ospf) {
            for (std::uint32_t stub : speaker.ospf->stubs)
                add("stub", number(stub));
            for (const lab::Redistribution& from : speaker.ospf->redistribute)
                add("redistribute", plan::to_string(from.from));
            add("default", number(speaker.ospf->default_route));
            for (const lab::OspfNic& nic : speaker.ospf->nics)
                add(number(nic.area), number(nic.hello_s), number(nic.passive));
        }
        if (speaker.bgp)
            for (const lab::BgpNeighbour& neighbour : speaker.bgp->neighbours)
                add(neighbour.name, number(neighbour.as), number(neighbour.up));
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

} // namespace

TEST_CASE("every kind of change means what the text means that it names") {
    plan::Reading reading = plan::read(base, "t");
    for (const plan::Problem& p : reading.problems)
        FAIL_CHECK(plan::to_string(p.at, "t") << ": " << p.message);
    REQUIRE(reading.plan.has_value());
    const plan::Plan plan = reading.plan->written();
    const std::string before = meaning(plan);
    std::set<std::size_t> kinds;
    for (const Row& row : rows()) {
        CAPTURE(std::string(row.line));
        kinds.insert(row.edit.kind());
        CHECK(plan::to_line(plan::to_text(row.edit, plan)) == row.line);
        plan::Reading again = plan::read(changed(row), "t");
        for (const plan::Problem& p : again.problems)
            FAIL_CHECK(plan::to_string(p.at, "t") << ": " << p.message);
        if (!again.plan)
            continue;
        std::string made = meaning(plan::apply(plan, {row.edit}));
        CHECK((made == meaning(again.plan->written())));
        CHECK_MESSAGE((made != before), "the change changes nothing that is looked at");
    }
    CHECK(kinds.size() == plan::Changes::count);
}
