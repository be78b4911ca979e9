#include "jackal/plan/validate.h"
#include "plan/edit/duties.h"
#include "plan/edit/entries.h"

#include <stdexcept>

namespace jackal::plan {

namespace {

template <class T>
void replace_of_family(std::vector<Placed<T>>& values, const T& value, Mark at) {
    for (Placed<T>& known : values)
        if (known.value.family() == value.family()) {
            known.value = value;
            return;
        }
    values.emplace_back(value, at);
}

// Has a part of one prefix be the same part of another.
void move_part(Region& part, const net::Prefix& from, const net::Prefix& to) {
    auto* range = std::get_if<net::Range>(&part);
    if (range == nullptr || !from.contains(range->first) || !from.contains(range->last))
        return;
    *range = {net::moved(range->first, from, to), net::moved(range->last, from, to)};
}

void move_parts(Subnet& subnet, const net::Prefix& from, const net::Prefix& to) {
    for (auto& part : subnet.reserve)
        move_part(part.value, from, to);
    if (!subnet.dhcp)
        return;
    if (subnet.dhcp->range)
        move_part(subnet.dhcp->range->value, from, to);
    for (auto& part : subnet.dhcp->exclude)
        move_part(part.value, from, to);
    for (Reservation& reservation : subnet.dhcp->reservations)
        move_part(reservation.address.value, from, to);
    if (auto& router = subnet.dhcp->router; router && from.contains(router->value))
        router->value = net::moved(router->value, from, to);
}

// What the machine is told of a protocol. Throws std::out_of_range if it does not speak it.
template <class Told>
Told& spoken(Rare<Told>& told, const std::string& machine) {
    if (!told)
        throw std::out_of_range(machine + " does not speak that protocol");
    return *told;
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
        const std::vector<std::string> names = names_in_protocols(plan, machine, e.nic);
        auto is_named = [&](const Placed<std::string>& name) {
            return std::ranges::find(names, name.value) != names.end();
        };
        auto set = [&](auto& values, auto value) {
            auto known = std::ranges::find_if(
                values, [&](const auto& entry) { return is_named(entry.nic); });
            if (known != values.end())
                known->value = value;
            else
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
        if (e.nic.empty() && ospf.areas.size() == 1) {
            ospf.areas.front().number = e.value;
            return;
        }
        std::erase_if(ospf.areas, [&](OspfArea& area) {
            return std::erase_if(area.nics.names, is_named) != 0 && area.nics.names.empty()
                   && area.number != e.value;
        });
        auto area = std::ranges::find(ospf.areas, e.value, &OspfArea::number);
        if (area == ospf.areas.end())
            area = ospf.areas.insert(area, {.number = e.value, .nics = {}, .at = ospf.at});
        if (!area->nics.all)
            area->nics.names.emplace_back(e.nic);
    }
    void operator()(const SpeakProtocol& e) const {
        Machine& machine = machine_of(plan, e.machine);
        Protocols& told = protocols_of(machine);
        NicList nics;
        nics.all = true;
        if (e.protocol == RouteSource::ospf)
            told.ospf = Ospf{.areas = {{.number = e.area, .nics = nics, .at = machine.at}},
                             .at = machine.at};
        else
            told.rip = Rip{.nics = nics, .at = machine.at};
    }
    void operator()(const SetOspfStub& e) const {
        plan::Ospf& ospf = spoken(protocols_of(machine_of(plan, e.machine)).ospf, e.machine);
        auto& areas = e.is_nssa ? ospf.nssas : ospf.stubs;
        auto is_it = [&](const auto& area) { return area.value == e.area; };
        if (!e.to)
            std::erase_if(areas, is_it);
        else if (std::ranges::none_of(areas, is_it))
            areas.emplace_back(e.area);
    }
    void operator()(const AddVirtualLink& e) const {
        plan::Ospf& ospf = spoken(protocols_of(machine_of(plan, e.machine)).ospf, e.machine);
        ospf.virtual_links.push_back({e.area, Placed<std::string>(e.to)});
    }
    void operator()(const SetRouterId& e) const {
        protocols_of(machine_of(plan, e.machine)).router_id = Placed<net::Address>(e.to);
    }
    void operator()(const SetBgpNeighbour& e) const {
        Bgp& bgp = spoken(protocols_of(machine_of(plan, e.machine)).bgp, e.machine);
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

    void operator()(const RemovePolicy& e) const {
        Bgp& bgp = spoken(protocols_of(machine_of(plan, e.machine)).bgp, e.machine);
        for (BgpNeighbour& neighbour : bgp.neighbours)
            if (to_string(neighbour.peer.value) == e.neighbour)
                neighbour.takes = {};
    }
    void operator()(const SetSize& e) const {
        Sizes& sizes = machine_of(plan, e.machine).sizes;
        (e.what == SetSize::What::cpus     ? sizes.cpus
         : e.what == SetSize::What::memory ? sizes.memory_mib
                                           : sizes.disk_mib) = e.to;
    }

    void operator()(const AddSiteSpace& e) const {
        site_of(plan, e.site).space.emplace_back(e.space);
    }
    void operator()(const SetSubnetPrefix& e) const {
        Subnet& subnet = subnet_of(plan, e.subnet);
        for (const auto& prefix : subnet.prefixes)
            if (prefix.value.family() == e.to.family())
                move_parts(subnet, net::Prefix(prefix.value), e.to);
        replace_of_family(subnet.prefixes, e.to, subnet.at);
        subnet.hosts.reset();
        subnet.growth_percent = 0;
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
        if (std::ranges::none_of(address.given,
                                 [&](const auto& given) { return given.value.address == e.from; }))
            address.given.emplace_back(GivenAddress{*e.to, std::nullopt});
        for (auto& given : address.given)
            if (given.value.address == e.from)
                given.value = {*e.to, std::nullopt};
    }
    // What a machine is told of a protocol that redistributes.
    template <class Use>
    void with_protocol(const std::string& name, RouteSource protocol, Use use) const {
        Protocols& told = protocols_of(machine_of(plan, name));
        if (protocol == RouteSource::ospf)
            use(spoken(told.ospf, name));
        else if (protocol == RouteSource::rip)
            use(spoken(told.rip, name));
        else
            use(spoken(told.bgp, name));
    }
    void operator()(const Redistribute& e) const {
        with_protocol(e.machine, e.into, [&](auto& protocol) {
            if (std::ranges::find(protocol.redistribute, e.from, &Redistribution::from)
                == protocol.redistribute.end()) // else it is proposed twice
                protocol.redistribute.push_back({.from = e.from});
        });
    }
    void operator()(const AnnounceDefault& e) const {
        with_protocol(e.machine, e.into,
                      [](auto& protocol) { protocol.default_route = DefaultRoute::held; });
    }
    void operator()(const SetNicSubnet& e) const {
        machine_of(plan, e.machine).nics.at(e.nic).subnet.value = e.subnet;
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
        auto same = std::ranges::find(plan.machines, e.name, &Machine::name);
        if (same != plan.machines.end()
            && std::ranges::equal(
                same->nics, e.subnets, {},
                [](const Nic& nic) -> const std::string& { return nic.subnet.value; }))
            return; // proposed twice
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
        Route route{.to = e.to, .via = e.via};
        if (!e.nic.empty())
            route.nic = e.nic;
        routes_of(plan, e.machine).push_back(std::move(route));
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
    void operator()(const RemoveTranslation& e) const {
        auto& rules = duties_of(e.machine).translations;
        rules.at(e.position);
        rules.erase(rules.begin() + static_cast<std::ptrdiff_t>(e.position));
    }
    void operator()(const SetTranslationNic& e) const {
        duties_of(e.machine).translations.at(e.position).nic.value = e.nic;
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
    void operator()(const SetTrunk& e) const {
        SwitchPort& port = port_of(plan, e.port);
        port.tagged = e.vlans;
        std::ranges::sort(port.tagged);
        std::erase(port.tagged, port.untagged);
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
        subnet.static_only = false;
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
        auto& ports = switch_of(plan, e.owner).ports;
        if (std::ranges::none_of(ports, [&](const SwitchPort& port) { // proposed twice
                return port.name == e.name && port.untagged == e.vlan
                       && port.segment.value == e.subnet;
            }))
            ports.push_back({.name = e.name, .untagged = e.vlan, .segment = e.subnet});
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
        for (const Peering& known : plan.peerings)
            if ((known.first.value == e.sites[0] && known.second.value == e.sites[1])
                || (known.first.value == e.sites[1] && known.second.value == e.sites[0]))
                return; // proposed twice
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
        if (const Subnet* same = plan.subnet(e.subnet); same != nullptr
                                                        && same->uplink == Uplink::nat && same->site
                                                        && same->site->value == e.site)
            return; // proposed twice
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
        plan.links.push_back(
            {.first = e.first, .second = e.second, .delay = e.delay, .tunnel = Tunnel{}});
    }
};

} // namespace

Plan apply(Plan plan, const std::vector<Edit>& edits) {
    for (const Edit& edit : edits)
        edit.visit(Deed{plan});
    return plan;
}

} // namespace jackal::plan
