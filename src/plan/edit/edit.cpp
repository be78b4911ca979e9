#include "jackal/plan/edit.h"

#include "duties.h"
#include "jackal/plan/outside.h"
#include "jackal/plan/sites.h"
#include "jackal/plan/validate.h"

#include <algorithm>
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <stdexcept>

namespace jackal::plan {

namespace {

template <class PlanT>
auto& machine_of(PlanT& plan, const std::string& name) {
    if (auto* machine = plan.machine(name))
        return *machine;
    throw std::out_of_range(fmt::format("the plan has no machine {}", name));
}

template <class PlanT>
auto& subnet_of(PlanT& plan, const std::string& name) {
    if (auto* subnet = plan.subnet(name))
        return *subnet;
    throw std::out_of_range(fmt::format("the plan has no subnet {}", name));
}

template <class PlanT>
auto& site_of(PlanT& plan, const std::string& name) {
    for (auto& site : plan.sites)
        if (site.name == name)
            return site;
    throw std::out_of_range(fmt::format("the plan has no site {}", name));
}

// The site whose core has that name, or null if a machine of the plan has it.
template <class PlanT>
auto* site_of_core(PlanT& plan, const std::string& name) {
    auto found = std::ranges::find_if(plan.sites, [&](const Site& site) {
        return site.automatic && core_name(site.name) == name;
    });
    return found == plan.sites.end() || plan.machine(name) != nullptr ? nullptr : &*found;
}

// A machine's own routes: those of its site for a core.
template <class PlanT>
auto& routes_of(PlanT& plan, const std::string& name) {
    auto* site = site_of_core(plan, name);
    return site == nullptr ? machine_of(plan, name).routes : site->routes;
}

template <class PlanT>
auto& side_of(PlanT& plan, std::size_t peering, const std::string& site) {
    auto& entry = plan.peerings.at(peering);
    int side = entry.side_of(site);
    if (side < 0)
        throw std::out_of_range(fmt::format("peering {} has no side {}", peering, site));
    return entry.sides[side];
}

template <class PlanT>
auto& filter_of(PlanT& plan, const std::string& name) {
    for (auto& filter : plan.filters)
        if (filter.name == name)
            return filter;
    throw std::out_of_range(fmt::format("the plan has no filter {}", name));
}

template <class PlanT>
auto& port_of(PlanT& plan, const std::string& name) {
    if (auto* port = plan.port(name))
        return *port;
    throw std::out_of_range(fmt::format("the plan has no switch port {}", name));
}

template <class PlanT>
auto& switch_of(PlanT& plan, const std::string& name) {
    for (auto& entry : plan.switches)
        if (entry.name == name)
            return entry;
    throw std::out_of_range(fmt::format("the plan has no switch {}", name));
}

template <class PlanT>
auto& member_of(PlanT& plan, const SetBondMemberUp& e) {
    auto& nic = machine_of(plan, e.machine).nics.at(e.nic);
    if (!nic.options)
        throw std::out_of_range(fmt::format("NIC {} of {} is no bond", e.nic, e.machine));
    return nic.options->bond.at(e.member);
}

// `switches.hut-sw.ports.p1`
std::string port_path(const std::string& name) {
    auto [owner, port] = split_endpoint(name);
    return fmt::format("switches.{}.ports.{}", owner, port);
}

std::string machine_path(const Machine& machine) {
    std::string_view section = machine.kind == MachineKind::guest ? "guests" : "routers";
    if (machine.clone_digits == 0)
        return fmt::format("{}.{}", section, machine.name);
    return fmt::format("{}.{} (for {} alone)", section, machine.entry_name(), machine.name);
}

// A machine that the plan stands for without writing it, a core or one outside: where it would
// stand. No change moves it.
struct Place {
    std::string path;
    Mark at;
};

bool is_made(const Plan& plan, const std::string& name) {
    return plan.machine(name) == nullptr
           && (site_of_core(plan, name) != nullptr || name == outside::workstation
               || name == outside::lan_gateway || name == outside::internet
               || std::ranges::find(plan.outside.hosts, name, &OutsideHost::name)
                      != plan.outside.hosts.end());
}

Place place_of(const Plan& plan, const std::string& name) {
    if (!is_made(plan, name))
        return {machine_path(machine_of(plan, name)), machine_of(plan, name).at};
    auto host = std::ranges::find(plan.outside.hosts, name, &OutsideHost::name);
    if (host != plan.outside.hosts.end())
        return {fmt::format("guests.{}", name), host->at};
    Mark at = plan.outside.at;
    if (const Site* site = site_of_core(plan, name))
        at = site->at;
    for (const Subnet& subnet : plan.subnets)
        if (!at && (subnet.uplink == Uplink::host || subnet.uplink == Uplink::nat))
            at = subnet.uplink_at;
    return {fmt::format("routers.{}", name), at};
}

std::string nic_path(const Plan& plan, const std::string& name, std::size_t nic) {
    return fmt::format("{}.nics[{}]", machine_path(machine_of(plan, name)), nic);
}

Mark nic_mark(const Plan& plan, const std::string& name, std::size_t nic) {
    return machine_of(plan, name).nics.at(nic).at;
}

std::string routes_path(const Plan& plan, const std::string& name) {
    const Site* site = site_of_core(plan, name);
    return site == nullptr ? machine_path(machine_of(plan, name)) + ".routes"
                           : fmt::format("sites.{}.routes", site->name);
}

std::string route_path(const Plan& plan, const std::string& name, std::size_t route) {
    return fmt::format("{}[{}]", routes_path(plan, name), route);
}

// The entry that a link stands in: `links[2]` or `tunnels[0]`.
std::string link_path(const Plan& plan, std::size_t number) {
    const Link& link = plan.links.at(number);
    auto before =
        std::count_if(plan.links.begin(), plan.links.begin() + static_cast<std::ptrdiff_t>(number),
                      [&](const Link& other) { return bool(other.tunnel) == bool(link.tunnel); });
    return fmt::format("{}[{}]", link.tunnel ? "tunnels" : "links", before);
}

std::string side_path(std::size_t peering, const std::string& site) {
    return fmt::format("peerings[{}].{}", peering, site);
}

Mark side_mark(const Plan& plan, std::size_t peering, const std::string& site) {
    const PeeringSide& side = side_of(plan, peering, site);
    return side.at ? side.at : plan.peerings[peering].at;
}

std::string side_text(const std::string& border) {
    return border.empty() ? "{accept: true}" : fmt::format("{{accept: true, border: {}}}", border);
}

// The value of one family among those written, as text; empty if there is none.
template <class T>
std::string of_family(const std::vector<Placed<T>>& values, net::Family family) {
    for (const Placed<T>& value : values)
        if (value.value.family() == family)
            return net::to_string(value.value);
    return "";
}

constexpr unsigned uplink_length = 28;

// What the machine is told of routing protocols; nothing if it is told nothing.
const Protocols& protocols_of(const Machine& machine) {
    static const Protocols none;
    return machine.duties && machine.duties->protocols ? *machine.duties->protocols : none;
}

// The names that a NIC may go by in the machine's protocols.
std::vector<std::string> names_of(const Plan& plan, const Machine& machine,
                                  const std::string& nic) {
    std::vector<std::string> names{nic};
    std::size_t position = machine.nics.size();
    for (std::size_t i = 0; i < machine.nics.size(); ++i)
        if (nic_name(machine, i) == nic)
            names.push_back(machine.nics[i].subnet.value);
    for (const Link& link : plan.links) {
        bool first = link.first.value == machine.name;
        if (!first && link.second.value != machine.name)
            continue;
        if (nic_name(machine, position++) == nic)
            names.push_back((first ? link.second : link.first).value);
    }
    return names;
}

// --- in words ------------------------------------------------------------------------------

struct Words {
    const Plan& plan;

    EditText operator()(const AddSiteSpace& e) const {
        return {fmt::format("sites.{}.space", e.site), "add", net::to_string(e.space),
                site_of(plan, e.site).at};
    }
    EditText operator()(const SetSubnetPrefix& e) const {
        const Subnet& subnet = subnet_of(plan, e.subnet);
        return {fmt::format("subnets.{}.prefix", e.subnet), "set", net::to_string(e.to), subnet.at,
                of_family(subnet.prefixes, e.to.family())};
    }
    EditText operator()(const SetSubnetGateway& e) const {
        const Subnet& subnet = subnet_of(plan, e.subnet);
        return {fmt::format("subnets.{}.gateway", e.subnet), "set",
                e.to ? net::to_string(*e.to) : "first",
                subnet.gateway.at ? subnet.gateway.at : subnet.at,
                e.to ? of_family(subnet.gateway.given, e.to->family()) : ""};
    }
    EditText operator()(const SetNicAddress& e) const {
        const Nic& nic = machine_of(plan, e.machine).nics.at(e.nic);
        return {nic_path(plan, e.machine, e.nic) + ".address", "set",
                e.to ? net::to_string(*e.to) : "auto", nic.address.at ? nic.address.at : nic.at,
                e.to && e.from != *e.to ? net::to_string(e.from) : ""};
    }
    EditText operator()(const SetNicUp& e) const {
        return {nic_path(plan, e.machine, e.nic) + ".state", "set", "up",
                nic_mark(plan, e.machine, e.nic)};
    }
    EditText operator()(const RemoveNicMac& e) const {
        return {nic_path(plan, e.machine, e.nic) + ".mac", "remove", "",
                nic_mark(plan, e.machine, e.nic)};
    }
    EditText operator()(const AddNic& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        return {machine_path(machine) + ".nics", "add", fmt::format("{{subnet: {}}}", e.subnet),
                machine.at};
    }
    EditText operator()(const AddRouter& e) const {
        std::vector<std::string> nics;
        for (const std::string& subnet : e.subnets)
            nics.push_back(fmt::format("{{subnet: {}}}", subnet));
        return {fmt::format("routers.{}", e.name),
                "add",
                fmt::format("{{nics: [{}]}}", fmt::join(nics, ", ")),
                {}};
    }
    EditText operator()(const SetMachineUp& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        return {machine_path(machine) + ".state", "set", "up", machine.at};
    }
    EditText operator()(const SetForwards& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        return {machine_path(machine) + ".forwards", "set", e.to ? "true" : "false", machine.at};
    }
    EditText operator()(const SetMachineGateway& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        Mark at = machine.gateway && machine.gateway->at ? machine.gateway->at : machine.at;
        return {machine_path(machine) + ".gateway", "set", e.to ? net::to_string(*e.to) : "auto",
                at,
                e.to && machine.gateway ? of_family(machine.gateway->given, e.to->family()) : ""};
    }
    EditText operator()(const AddRoute& e) const {
        return {routes_path(plan, e.machine), "add",
                fmt::format("{{to: {}, via: {}}}", to_string(e.to), to_string(e.via)),
                site_of_core(plan, e.machine) != nullptr ? site_of_core(plan, e.machine)->at
                                                         : machine_of(plan, e.machine).at};
    }
    EditText operator()(const SetRouteVia& e) const {
        const Route& route = routes_of(plan, e.machine).at(e.route);
        return {route_path(plan, e.machine, e.route) + ".via", "set", to_string(e.via),
                route.via.at, to_string(route.via.value)};
    }
    EditText operator()(const RemoveRoute& e) const {
        return {route_path(plan, e.machine, e.route), "remove", "",
                routes_of(plan, e.machine).at(e.route).at};
    }
    EditText operator()(const SetLinkUp& e) const {
        return {link_path(plan, e.link) + ".state", "set", "up", plan.links.at(e.link).at};
    }
    EditText operator()(const SetLinkMtu& e) const {
        return {link_path(plan, e.link) + ".mtu", "set", fmt::format("{}", e.bytes),
                plan.links.at(e.link).at};
    }
    EditText operator()(const SetPeeringUp& e) const {
        return {fmt::format("peerings[{}].state", e.peering), "set", "up",
                plan.peerings.at(e.peering).at};
    }
    EditText operator()(const SetPeeringMtu& e) const {
        return {fmt::format("peerings[{}].mtu", e.peering), "set", fmt::format("{}", e.bytes),
                plan.peerings.at(e.peering).at};
    }
    EditText operator()(const SetNicMtu& e) const {
        return {nic_path(plan, e.machine, e.nic) + ".mtu", "set", fmt::format("{}", e.bytes),
                nic_mark(plan, e.machine, e.nic)};
    }
    EditText operator()(const AddFilterRule& e) const {
        const Filter& filter = filter_of(plan, e.filter);
        bool last = e.position >= filter.rules.size();
        return {fmt::format("filters.{}.rules{}", e.filter,
                            last ? "" : fmt::format("[{}]", e.position)),
                "add", to_string(e.rule), last ? filter.at : filter.rules[e.position].at};
    }
    EditText operator()(const RemoveFilterRule& e) const {
        return {fmt::format("filters.{}.rules[{}]", e.filter, e.position), "remove", "",
                filter_of(plan, e.filter).rules.at(e.position).at};
    }
    EditText operator()(const AddTranslation& e) const {
        Place place = place_of(plan, e.machine);
        return {place.path + ".nat", "add", fmt::format("{{out: {}}}", e.nic), place.at};
    }
    EditText operator()(const AddService& e) const {
        Place place = place_of(plan, e.machine);
        return {place.path + ".listens", "add", net::to_string(e.service), place.at};
    }
    EditText operator()(const SetPortVlan& e) const {
        const SwitchPort& port = port_of(plan, e.port);
        return {port_path(e.port) + (port.is_trunk ? ".native" : ".vlan"), "set",
                fmt::format("{}", e.vlan), port.at,
                port.untagged == 0 ? "" : fmt::format("{}", port.untagged)};
    }
    EditText operator()(const AllowVlan& e) const {
        return {port_path(e.port) + ".trunk", "add", fmt::format("{}", e.vlan),
                port_of(plan, e.port).at};
    }
    EditText operator()(const SetPortUp& e) const {
        return {port_path(e.port) + ".state", "set", e.to ? "up" : "down",
                port_of(plan, e.port).at};
    }
    EditText operator()(const SetSwitchUp& e) const {
        return {fmt::format("switches.{}.state", e.name), "set", "up", switch_of(plan, e.name).at};
    }
    EditText operator()(const SetCableUp& e) const {
        const Cable& cable = plan.cables.at(e.cable);
        return {fmt::format("links ({} -- {}).state", cable.first.value, cable.second.value), "set",
                e.to ? "up" : "down", cable.at};
    }
    EditText operator()(const SetBondMemberUp& e) const {
        return {fmt::format("{}.bond[{}].state", nic_path(plan, e.machine, e.nic), e.member), "set",
                "up", member_of(plan, e).at};
    }
    EditText operator()(const SetDhcpSize& e) const {
        const Subnet& subnet = subnet_of(plan, e.subnet);
        bool written = bool(subnet.dhcp);
        std::string path = fmt::format("subnets.{}.dhcp", e.subnet);
        if (!written)
            return {path, "set", fmt::format("{{size: {}}}", e.size), subnet.at};
        if (subnet.dhcp->size)
            return {path + ".size", "set", fmt::format("{}", e.size), subnet.dhcp->at,
                    fmt::format("{}", subnet.dhcp->size->value)};
        return {path, "set", fmt::format("{{size: {}}} instead of its range", e.size),
                subnet.dhcp->at};
    }
    EditText operator()(const RemoveDhcp& e) const {
        const Subnet& subnet = subnet_of(plan, e.subnet);
        return {fmt::format("subnets.{}.dhcp", e.subnet), "remove", "",
                subnet.dhcp ? subnet.dhcp->at : subnet.at};
    }
    EditText operator()(const SetDhcpRelay& e) const {
        const Subnet& subnet = subnet_of(plan, e.subnet);
        return {fmt::format("subnets.{}.dhcp.relay", e.subnet), "set", e.relay,
                subnet.dhcp ? subnet.dhcp->at : subnet.at};
    }
    EditText operator()(const RemoveStartsAfter& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        return {fmt::format("{}.starts-after", machine_path(machine)), "remove", e.other,
                machine.at};
    }
    EditText operator()(const AddNameServer& e) const {
        Place place = place_of(plan, e.machine);
        return {place.path + ".dns", "add", to_string(e.server), place.at};
    }
    EditText operator()(const AcceptPeering& e) const {
        const PeeringSide& side = side_of(plan, e.peering, e.site);
        Mark at = side_mark(plan, e.peering, e.site);
        if (side.declared)
            return {side_path(e.peering, e.site) + ".accept", "set", "true", at, "false"};
        return {side_path(e.peering, e.site), "set", side_text(e.border), at};
    }
    EditText operator()(const TakeRelayed& e) const {
        return {side_path(e.peering, e.site) + ".relay", "set", "true",
                side_mark(plan, e.peering, e.site)};
    }
    EditText operator()(const SetPeeringExit& e) const {
        return {side_path(e.peering, e.site) + ".exit", "set", std::string(to_string(e.to)),
                side_mark(plan, e.peering, e.site)};
    }
    EditText operator()(const AddPeering& e) const {
        return {"peerings",
                "add",
                fmt::format("{{between: [{}, {}], {}: {}, {}: {}}}", e.sites[0], e.sites[1],
                            e.sites[0], side_text(e.borders[0]), e.sites[1],
                            side_text(e.borders[1])),
                {}};
    }
    EditText operator()(const SetSiteRelay& e) const {
        return {fmt::format("sites.{}.relay", e.site), "set", e.relay, site_of(plan, e.site).at};
    }
    EditText operator()(const SetSiteSpace& e) const {
        return {fmt::format("sites.{}.space", e.site), "set", net::to_string(e.to),
                site_of(plan, e.site).at, net::to_string(e.from)};
    }
    EditText operator()(const AddUplink& e) const {
        return {fmt::format("subnets.{}", e.subnet),
                "add",
                fmt::format("{{site: {}, size: /{}, uplink: nat}}", e.site, uplink_length),
                {}};
    }
    EditText operator()(const AddLink& e) const {
        double delay_ms = static_cast<double>(e.delay.count()) / 1000;
        std::string delay = delay_ms == 0 ? "" : fmt::format(", delay: {:g}ms", delay_ms);
        return {
            "links", "add", fmt::format("{{between: [{}, {}]{}}}", e.first, e.second, delay), {}};
    }
    EditText operator()(const AddTunnel& e) const {
        return {"tunnels", "add", fmt::format("{{between: [{}, {}]}}", e.first, e.second), {}};
    }
    EditText operator()(const SetOspfNic& e) const {
        using What = SetOspfNic::What;
        const Machine& machine = machine_of(plan, e.machine);
        std::string path = machine_path(machine) + ".ospf.";
        Mark at = protocols_of(machine).ospf ? protocols_of(machine).ospf->at : machine.at;
        switch (e.what) {
        case What::area: return {fmt::format("{}areas.{}", path, e.value), "add", e.nic, at};
        case What::active: return {path + "passive", "remove", e.nic, at};
        case What::hello: return {path + "hello." + e.nic, "set", fmt::format("{}s", e.value), at};
        case What::dead: return {path + "dead." + e.nic, "set", fmt::format("{}s", e.value), at};
        case What::network:
            return {path + "network." + e.nic, "set", e.value != 0 ? "point-to-point" : "broadcast",
                    at};
        case What::priority: break;
        }
        return {path + "priority." + e.nic, "set", fmt::format("{}", e.value), at};
    }
    EditText operator()(const SetOspfStub& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        return {machine_path(machine) + ".ospf.stub", e.to ? "add" : "remove",
                fmt::format("{}", e.area), machine.at};
    }
    EditText operator()(const SetRouterId& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        const auto& written = protocols_of(machine).router_id;
        return {machine_path(machine) + ".router-id", "set", net::to_string(e.to),
                written ? written->at : machine.at, written ? net::to_string(written->value) : ""};
    }
    EditText operator()(const SetBgpNeighbour& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        std::string path = fmt::format("{}.bgp.neighbours.{}", machine_path(machine), e.neighbour);
        std::string_view distant = e.distant ? ", distant: true" : "";
        for (const BgpNeighbour& known : protocols_of(machine).bgp->neighbours)
            if (to_string(known.peer.value) == e.neighbour) {
                if (known.as != e.as)
                    return {path + ".as", "set", fmt::format("{}", e.as), known.at,
                            fmt::format("{}", known.as)};
                if (!known.up)
                    return {path + ".state", "set", "up", known.at};
                return {path + ".distant", "set", "true", known.at};
            }
        return {path, "add", fmt::format("{{as: {}{}}}", e.as, distant), machine.at};
    }
    EditText operator()(const AddSegmentPort& e) const {
        return {fmt::format("switches.{}.ports.{}", e.owner, e.name), "add",
                fmt::format("{{vlan: {}, segment: {}}}", e.vlan, e.subnet),
                switch_of(plan, e.owner).at};
    }
};

// --- in deed -------------------------------------------------------------------------------

template <class T>
void replace_of_family(std::vector<Placed<T>>& values, const T& value, Mark at) {
    std::erase_if(values, [&](const Placed<T>& v) { return v.value.family() == value.family(); });
    values.emplace_back(value, at);
}

struct Deed {
    Plan& plan;

    void operator()(const SetOspfNic& e) const {
        using What = SetOspfNic::What;
        Machine& machine = machine_of(plan, e.machine);
        Protocols& told = protocols_of(machine);
        if (!told.ospf)
            told.ospf = Ospf{.at = machine.at};
        Ospf& ospf = *told.ospf;
        std::vector<std::string> names = names_of(plan, machine, e.nic);
        auto is_named = [&](const Placed<std::string>& name) {
            return std::ranges::find(names, name.value) != names.end();
        };
        auto set = [&](auto& values, auto value) {
            std::erase_if(values, [&](const auto& entry) { return is_named(entry.nic); });
            values.push_back({e.nic, value});
        };
        switch (e.what) {
        case What::area: return set_area(ospf, e, is_named);
        case What::active: std::erase_if(ospf.passive, is_named); return;
        case What::hello: return set(ospf.hello_s, e.value);
        case What::dead: return set(ospf.dead_s, e.value);
        case What::network: return set(ospf.point_to_point, e.value != 0);
        case What::priority: return set(ospf.priorities, static_cast<std::uint8_t>(e.value));
        }
    }
    template <class IsNamed>
    static void set_area(Ospf& ospf, const SetOspfNic& e, IsNamed is_named) {
        for (OspfArea& area : ospf.areas)
            std::erase_if(area.nics.names, is_named);
        auto area = std::ranges::find(ospf.areas, e.value, &OspfArea::number);
        if (area == ospf.areas.end())
            area = ospf.areas.insert(area, {.number = e.value, .nics = {}, .at = ospf.at});
        area->nics.names.emplace_back(e.nic);
    }
    void operator()(const SetOspfStub& e) const {
        auto& stubs = protocols_of(machine_of(plan, e.machine)).ospf->stubs;
        std::erase_if(stubs, [&](const auto& stub) { return stub.value == e.area; });
        if (e.to)
            stubs.emplace_back(e.area);
    }
    void operator()(const SetRouterId& e) const {
        protocols_of(machine_of(plan, e.machine)).router_id = Placed<net::Address>(e.to);
    }
    void operator()(const SetBgpNeighbour& e) const {
        Bgp& bgp = *protocols_of(machine_of(plan, e.machine)).bgp;
        auto known = std::ranges::find_if(bgp.neighbours, [&](const BgpNeighbour& n) {
            return to_string(n.peer.value) == e.neighbour;
        });
        if (known == bgp.neighbours.end()) {
            BgpNeighbour added;
            if (auto address = net::parse_address(e.neighbour))
                added.peer.value = *address;
            else
                added.peer.value = e.neighbour;
            known = bgp.neighbours.insert(known, std::move(added));
        }
        known->as = e.as;
        known->up = true;
        known->distant = known->distant || e.distant;
    }

    void operator()(const AddSiteSpace& e) const {
        site_of(plan, e.site).space.emplace_back(e.space);
    }
    void operator()(const SetSubnetPrefix& e) const {
        Subnet& subnet = subnet_of(plan, e.subnet);
        replace_of_family(subnet.prefixes, e.to, subnet.at);
        subnet.hosts.reset();
        subnet.size.reset();
    }
    void operator()(const SetSubnetGateway& e) const {
        SubnetGateway& gateway = subnet_of(plan, e.subnet).gateway;
        if (!e.to) {
            gateway = {};
            return;
        }
        gateway.kind = SubnetGateway::Kind::given;
        gateway.written = true;
        replace_of_family(gateway.given, *e.to, gateway.at);
    }
    void operator()(const SetNicAddress& e) const {
        NicAddress& address = machine_of(plan, e.machine).nics.at(e.nic).address;
        if (!e.to) {
            address = {.kind = NicAddress::Kind::automatic, .given = {}, .at = address.at};
            return;
        }
        address.kind = NicAddress::Kind::given;
        for (auto& given : address.given)
            if (given.value.address == e.from)
                given.value = {*e.to, std::nullopt};
    }
    void operator()(const SetNicUp& e) const {
        machine_of(plan, e.machine).nics.at(e.nic).up = true;
    }
    void operator()(const RemoveNicMac& e) const {
        machine_of(plan, e.machine).nics.at(e.nic).mac.reset();
    }
    void operator()(const AddNic& e) const {
        machine_of(plan, e.machine).nics.push_back({.subnet = e.subnet});
    }
    void operator()(const AddRouter& e) const {
        Machine router{.kind = MachineKind::router, .name = e.name};
        for (const std::string& subnet : e.subnets)
            router.nics.push_back({.subnet = subnet});
        plan.machines.push_back(std::move(router));
    }
    void operator()(const SetMachineUp& e) const { machine_of(plan, e.machine).up = true; }
    void operator()(const SetForwards& e) const { machine_of(plan, e.machine).forwards = e.to; }
    void operator()(const SetMachineGateway& e) const {
        Machine& machine = machine_of(plan, e.machine);
        MachineGateway gateway = machine.gateway.value_or(MachineGateway{});
        if (e.to) {
            gateway.kind = MachineGateway::Kind::given;
            replace_of_family(gateway.given, *e.to, gateway.at);
        } else {
            gateway = {.kind = MachineGateway::Kind::automatic, .given = {}, .at = gateway.at};
        }
        machine.gateway = gateway;
    }
    void operator()(const AddRoute& e) const {
        routes_of(plan, e.machine).push_back({.to = e.to, .via = e.via});
    }
    void operator()(const SetRouteVia& e) const {
        Route& route = routes_of(plan, e.machine).at(e.route);
        route.via.value = e.via;
        route.nic.reset();
    }
    void operator()(const RemoveRoute& e) const {
        auto& routes = routes_of(plan, e.machine);
        routes.at(e.route);
        routes.erase(routes.begin() + static_cast<std::ptrdiff_t>(e.route));
    }
    void operator()(const SetLinkUp& e) const { plan.links.at(e.link).up = true; }
    void operator()(const SetLinkMtu& e) const { plan.links.at(e.link).mtu_bytes = e.bytes; }
    void operator()(const SetPeeringUp& e) const { plan.peerings.at(e.peering).up = true; }
    void operator()(const SetPeeringMtu& e) const {
        plan.peerings.at(e.peering).mtu_bytes = e.bytes;
    }
    void operator()(const SetNicMtu& e) const {
        machine_of(plan, e.machine).nics.at(e.nic).mtu_bytes = e.bytes;
    }
    void operator()(const AddFilterRule& e) const {
        auto& rules = filter_of(plan, e.filter).rules;
        auto position = std::min(e.position, rules.size());
        rules.insert(rules.begin() + static_cast<std::ptrdiff_t>(position), e.rule);
    }
    void operator()(const RemoveFilterRule& e) const {
        auto& rules = filter_of(plan, e.filter).rules;
        rules.at(e.position);
        rules.erase(rules.begin() + static_cast<std::ptrdiff_t>(e.position));
    }
    Duties& duties_of(const std::string& name) const {
        return jackal::plan::duties_of(machine_of(plan, name));
    }
    void operator()(const AddTranslation& e) const {
        if (!is_made(plan, e.machine))
            duties_of(e.machine).translations.push_back({.nic = e.nic});
    }
    void operator()(const AddService& e) const {
        if (!is_made(plan, e.machine))
            duties_of(e.machine).listens.emplace_back(e.service);
    }
    void operator()(const SetPortVlan& e) const {
        SwitchPort& port = port_of(plan, e.port);
        port.untagged = e.vlan;
        std::erase(port.tagged, e.vlan);
    }
    void operator()(const AllowVlan& e) const {
        SwitchPort& port = port_of(plan, e.port);
        port.is_trunk = true;
        if (!port.carries(e.vlan))
            port.tagged.insert(std::ranges::lower_bound(port.tagged, e.vlan), e.vlan);
    }
    void operator()(const SetPortUp& e) const { port_of(plan, e.port).up = e.to; }
    void operator()(const SetSwitchUp& e) const { switch_of(plan, e.name).up = true; }
    void operator()(const SetCableUp& e) const { plan.cables.at(e.cable).up = e.to; }
    void operator()(const SetDhcpSize& e) const {
        Subnet& subnet = subnet_of(plan, e.subnet);
        DhcpRange dhcp = subnet.dhcp.value_or(DhcpRange{});
        dhcp.range.reset();
        dhcp.size = {e.size, dhcp.at};
        subnet.dhcp = std::move(dhcp);
    }
    void operator()(const RemoveDhcp& e) const { subnet_of(plan, e.subnet).dhcp.reset(); }
    void operator()(const SetDhcpRelay& e) const {
        if (Subnet& subnet = subnet_of(plan, e.subnet); subnet.dhcp)
            subnet.dhcp->relay = e.relay;
    }
    void operator()(const RemoveStartsAfter& e) const {
        std::erase_if(duties_of(e.machine).starts_after,
                      [&](const auto& other) { return other.value == e.other; });
    }
    void operator()(const AddNameServer& e) const {
        if (!is_made(plan, e.machine))
            duties_of(e.machine).dns.emplace_back(e.server);
    }
    void operator()(const AddSegmentPort& e) const {
        switch_of(plan, e.owner)
            .ports.push_back({.name = e.name, .untagged = e.vlan, .segment = e.subnet});
    }
    void operator()(const SetBondMemberUp& e) const { member_of(plan, e).up = true; }
    void operator()(const AcceptPeering& e) const {
        PeeringSide& side = side_of(plan, e.peering, e.site);
        side.declared = true;
        side.accepts = true;
        if (side.border.value.empty())
            side.border = e.border;
    }
    void operator()(const TakeRelayed& e) const { side_of(plan, e.peering, e.site).relayed = true; }
    void operator()(const SetPeeringExit& e) const { side_of(plan, e.peering, e.site).exit = e.to; }
    void operator()(const AddPeering& e) const {
        Peering peering{.first = e.sites[0], .second = e.sites[1]};
        for (int side : {0, 1}) {
            peering.sides[side].declared = true;
            peering.sides[side].border = e.borders[side];
        }
        plan.peerings.push_back(std::move(peering));
    }
    void operator()(const SetSiteRelay& e) const { site_of(plan, e.site).relay = e.relay; }
    void operator()(const SetSiteSpace& e) const {
        for (auto& space : site_of(plan, e.site).space)
            if (space.value == e.from)
                space.value = e.to;
    }
    void operator()(const AddUplink& e) const {
        Subnet subnet;
        subnet.name = e.subnet;
        subnet.site = Placed<std::string>(e.site);
        subnet.size = uplink_length;
        subnet.uplink = Uplink::nat;
        plan.subnets.push_back(std::move(subnet));
    }
    void operator()(const AddLink& e) const {
        plan.links.push_back({.first = e.first, .second = e.second, .delay = e.delay});
    }
    void operator()(const AddTunnel& e) const {
        plan.links.push_back({.first = e.first, .second = e.second, .tunnel = Tunnel{}});
    }
};

} // namespace

std::string to_string(const Route::Target& target) {
    if (const auto* prefix = std::get_if<net::Prefix>(&target))
        return net::to_string(*prefix);
    const auto* subnet = std::get_if<std::string>(&target);
    return subnet == nullptr ? "default" : *subnet;
}

std::string to_string(const Route::NextHop& next_hop) {
    const auto* address = std::get_if<net::Address>(&next_hop);
    return address == nullptr ? std::get<std::string>(next_hop) : net::to_string(*address);
}

namespace {

// One value as it is, several as a list.
template <class List, class Words>
std::string one_or_list(const List& list, Words words) {
    std::vector<std::string> texts;
    for (const auto& item : list)
        texts.push_back(words(item));
    return texts.size() == 1 ? texts.front() : fmt::format("[{}]", fmt::join(texts, ", "));
}

} // namespace

std::string to_string(const FilterRule& rule) {
    std::string text = rule.allows ? "{do: allow" : "{do: deny";
    auto ends = [](const Placed<Ends>& end) {
        std::string word = to_string(end.value);
        return word.find(':') == word.npos ? word : fmt::format("\"{}\"", word);
    };
    if (rule.way)
        text += fmt::format(", way: {}", to_string(*rule.way));
    if (rule.protocol != net::Protocol::any)
        text += fmt::format(", proto: {}", net::to_string(rule.protocol));
    if (!rule.ports.empty())
        text += fmt::format(", port: {}", one_or_list(rule.ports, [](net::Ports ports) {
                                return net::to_string(ports);
                            }));
    if (!rule.from.empty())
        text += fmt::format(", from: {}", one_or_list(rule.from, ends));
    if (!rule.to.empty())
        text += fmt::format(", to: {}", one_or_list(rule.to, ends));
    return text + "}";
}

EditText to_text(const Edit& edit, const Plan& plan) {
    EditText text;
    edit.visit([&](const auto& change) { text = Words{plan}(change); });
    return text;
}

std::string to_line(const EditText& text) {
    std::string line = fmt::format("{}: {}", text.path, text.verb);
    if (!text.value.empty())
        line += " " + text.value;
    if (!text.before.empty())
        line += fmt::format(" (was {})", text.before);
    return line;
}

Plan apply(Plan plan, const std::vector<Edit>& edits) {
    for (const Edit& edit : edits)
        edit.visit(Deed{plan});
    return plan;
}

} // namespace jackal::plan
