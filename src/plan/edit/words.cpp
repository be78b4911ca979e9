#include "jackal/plan/outside.h"
#include "jackal/plan/validate.h"
#include "plan/edit/entries.h"
#include "plan/edit/layout.h"
#include "plan/edit/resolved.h"
#include "plan/fields/codecs.h"
#include "plan/nic_names.h"

#include <fmt/ranges.h>

namespace jackal::plan {

namespace {

using Verb = PlaceChange::Verb;

// A change and what goes with it.
struct Told {
    Place place;
    Verb verb;
    std::string value;
    Mark at;
    std::string before = {};
    std::vector<Told> also = {};
};

Place port_path(const std::string& name) {
    auto [owner, port] = split_endpoint(name);
    return Place{}.key("switches").name(owner).key("ports").name(port);
}

Place machine_path(const Machine& machine) {
    Place section = Place{}.key(machine.kind == MachineKind::guest ? "guests" : "routers");
    if (machine.clone_digits == 0)
        return section.name(machine.name);
    return section.one_of(machine.entry_name(), machine.name);
}

// The prefix length of the subnet that AddUplink adds.
constexpr unsigned uplink_length = 28;

// True for a machine that the plan stands for without writing it: a core, or one outside.
bool is_made(const Plan& plan, const std::string& name) {
    return plan.machine(name) == nullptr
           && (site_of_core(plan, name) != nullptr || name == outside::workstation
               || name == outside::lan_gateway || name == outside::internet
               || std::ranges::find(plan.outside.hosts, name, &OutsideHost::name)
                      != plan.outside.hosts.end());
}

const BondMember& member_of(const Plan& plan, const SetBondMemberUp& e) {
    const Nic& nic = item_of(machine_of(plan, e.machine).nics, "NIC", e.nic);
    if (!nic.options)
        throw std::out_of_range(fmt::format("NIC {} of {} is no bond", e.nic, e.machine));
    return item_of(nic.options->bond, "wire", e.member);
}

// A machine that the plan stands for without writing it, a core or one outside: where it would
// stand. No change moves it.
struct Stand {
    Place path;
    Mark at;
};

Stand stand_of(const Plan& plan, const std::string& name) {
    if (!is_made(plan, name))
        return {machine_path(machine_of(plan, name)), machine_of(plan, name).at};
    auto host = std::ranges::find(plan.outside.hosts, name, &OutsideHost::name);
    if (host != plan.outside.hosts.end())
        return {Place{}.key("guests").name(name), host->at};
    Mark at = plan.outside.at;
    if (const Site* site = site_of_core(plan, name))
        at = site->at;
    for (const Subnet& subnet : plan.subnets)
        if (!at && (subnet.uplink == Uplink::host || subnet.uplink == Uplink::nat))
            at = subnet.uplink_at;
    return {Place{}.key("routers").name(name), at};
}

std::string join_text(const std::string& first, const std::string& second,
                      std::chrono::microseconds delay) {
    double delay_ms = static_cast<double>(delay.count()) / 1000;
    return fmt::format("{{between: [{}, {}]{}}}", first, second,
                       delay_ms == 0 ? "" : fmt::format(", delay: {:g}ms", delay_ms));
}

Place nic_path(const Plan& plan, const std::string& name, std::size_t nic) {
    return machine_path(machine_of(plan, name)).key("nics").index(nic);
}

// An address as a NIC's entry has it; empty if it does not.
std::string written_at(const Nic& nic, net::Address address) {
    for (const auto& given : nic.address.given)
        if (given.value.address == address)
            return given.value.length
                       ? fmt::format("{}/{}", net::to_string(address), *given.value.length)
                       : net::to_string(address);
    return "";
}

Mark nic_mark(const Plan& plan, const std::string& name, std::size_t nic) {
    return item_of(machine_of(plan, name).nics, "NIC", nic).at;
}

Place routes_path(const Plan& plan, const std::string& name) {
    const Site* site = site_of_core(plan, name);
    Place owner = site == nullptr ? machine_path(machine_of(plan, name))
                                  : Place{}.key("sites").name(site->name);
    return owner.key("routes");
}

Place route_path(const Plan& plan, const std::string& name, std::size_t route) {
    return routes_path(plan, name).index(route);
}

// The entry that a link stands in: `links[2]` or `tunnels[0]`. Wires between switches stand among
// the links.
Place link_path(const Plan& plan, std::size_t number) {
    const Link& link = item_of(plan.links, "link", number);
    auto before =
        std::count_if(plan.links.begin(), plan.links.begin() + static_cast<std::ptrdiff_t>(number),
                      [&](const Link& other) { return bool(other.tunnel) == bool(link.tunnel); });
    if (!link.tunnel && link.at)
        before += std::ranges::count_if(plan.cables, [&](const Cable& cable) {
            return std::pair(cable.at.line, cable.at.column)
                   < std::pair(link.at.line, link.at.column);
        });
    return Place{}.key(link.tunnel ? "tunnels" : "links").index(static_cast<std::size_t>(before));
}

Place side_path(std::size_t peering, const std::string& site) {
    return Place{}.key("peerings").index(peering).key(site);
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

// Where a value stands that is told from others of its list by what it is: a list of one may be
// written without brackets, and is its value.
template <class T, class Is>
Place place_in(Place list, const std::vector<T>& values, Is is) {
    const auto found = std::ranges::find_if(values, is);
    if (values.size() < 2 || found == values.end())
        return list;
    return list.index(static_cast<std::size_t>(found - values.begin()));
}

template <class T>
Place place_of_family(Place list, const std::vector<Placed<T>>& values, net::Family family) {
    return place_in(std::move(list), values,
                    [&](const Placed<T>& value) { return value.value.family() == family; });
}

// `set` where one of the family is written or none at all, else `add`.
template <class T>
Verb verb_for(const std::vector<Placed<T>>& values, net::Family family) {
    return values.empty() || !of_family(values, family).empty() ? Verb::set : Verb::add;
}

Told removal(Place place, Mark at, std::string value = {}) {
    return {std::move(place), Verb::remove, std::move(value), at};
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

// The parts of a subnet that are others once one prefix takes the place of another.
class MovedParts {
  public:
    MovedParts(const Subnet& before, const net::Prefix& from, const net::Prefix& to, Place subnet) {
        Subnet after = before;
        move_parts(after, from, to);
        add_list(before.reserve, after.reserve, subnet.key("reserve"));
        if (!before.dhcp)
            return;
        const DhcpRange& old = *before.dhcp;
        const DhcpRange& now = *after.dhcp;
        Place dhcp = subnet.key("dhcp");
        if (old.range)
            add(dhcp.key("range"), old.range->at, Stretch::text(old.range->value),
                Stretch::text(now.range->value));
        add_list(old.exclude, now.exclude, dhcp.key("exclude"));
        for (std::size_t i = 0; i < old.reservations.size(); ++i) {
            const auto& client = old.reservations[i].client;
            const auto* name = std::get_if<std::string>(&client);
            add(dhcp.key("reservations")
                    .name(name != nullptr ? *name : net::to_string(std::get<net::Mac>(client))),
                old.reservations[i].at, Stretch::text(old.reservations[i].address.value),
                Stretch::text(now.reservations[i].address.value));
        }
        if (old.router)
            add(dhcp.key("router"), old.router->at, net::to_string(old.router->value),
                net::to_string(now.router->value));
    }

    std::vector<Told> texts;

  private:
    void add_list(const std::vector<Placed<Region>>& before,
                  const std::vector<Placed<Region>>& after, const Place& place) {
        for (std::size_t i = 0; i < before.size(); ++i)
            add(before.size() == 1 ? place : place.index(i), before[i].at,
                Stretch::text(before[i].value), Stretch::text(after[i].value));
    }
    void add(Place place, Mark at, const std::string& before, const std::string& now) {
        if (before != now)
            texts.push_back({std::move(place), Verb::set, now, at, before});
    }
};

// What the machine is told of routing protocols; nothing if it is told nothing.
const Protocols& told_of(const Machine& machine) {
    static const Protocols none;
    return machine.duties && machine.duties->protocols ? *machine.duties->protocols : none;
}

// The names that a NIC may go by in the machine's protocols: its own, that of its subnet or of the
// machine that its link leads to.
std::vector<std::string> names_in_protocols(const Plan& plan, const Machine& machine,
                                            const std::string& nic) {
    std::vector<std::string> names{nic};
    NicNames all(plan);
    auto number = static_cast<std::size_t>(&machine - plan.machines.data());
    std::size_t position = machine.nics.size();
    for (std::size_t i = 0; i < machine.nics.size(); ++i)
        if (all.name(number, i) == nic)
            names.push_back(machine.nics[i].subnet.value);
    for (const Link& link : plan.links) {
        bool first = link.first.value == machine.name;
        if (!first && link.second.value != machine.name)
            continue;
        if (all.name(number, position++) == nic)
            names.push_back((first ? link.second : link.first).value);
    }
    return names;
}

void check_speaks(const Machine& machine, RouteSource protocol) {
    const Protocols& told = told_of(machine);
    if (!(protocol == RouteSource::ospf  ? bool(told.ospf)
          : protocol == RouteSource::rip ? bool(told.rip)
                                         : bool(told.bgp)))
        throw std::out_of_range(
            fmt::format("{} does not speak {}", machine.name, to_string(protocol)));
}

struct Words {
    const Plan& plan;

    Told operator()(const AddSiteSpace& e) const {
        return {Place{}.key("sites").name(e.site).key("space"), Verb::add, net::to_string(e.space),
                entry_of(plan.sites, "site", e.site).at};
    }
    Told operator()(const SetSubnetPrefix& e) const {
        const Subnet& subnet = subnet_of(plan, e.subnet);
        Place path = Place{}.key("subnets").name(e.subnet);
        Told text{place_of_family(path.key("prefix"), subnet.prefixes, e.to.family()),
                  verb_for(subnet.prefixes, e.to.family()), net::to_string(e.to), subnet.at,
                  of_family(subnet.prefixes, e.to.family())};
        if (subnet.hosts)
            text.also.push_back(removal(path.key("hosts"), subnet.hosts->at));
        if (subnet.growth_percent != 0)
            text.also.push_back(removal(path.key("growth"), subnet.at));
        if (subnet.size)
            text.also.push_back(
                removal(path.key("size"), subnet.size->at, fmt::format("/{}", subnet.size->value)));
        for (const auto& prefix : subnet.prefixes)
            if (prefix.value.family() == e.to.family())
                std::ranges::move(MovedParts(subnet, prefix.value, e.to, path).texts,
                                  std::back_inserter(text.also));
        return text;
    }
    Told operator()(const SetSubnetGateway& e) const {
        const Subnet& subnet = subnet_of(plan, e.subnet);
        Place path = Place{}.key("subnets").name(e.subnet).key("gateway");
        Mark at = subnet.gateway.at ? subnet.gateway.at : subnet.at;
        if (!e.to)
            return removal(path, at);
        return {path, verb_for(subnet.gateway.given, e.to->family()), net::to_string(*e.to), at,
                of_family(subnet.gateway.given, e.to->family())};
    }
    Told operator()(const SetNicAddress& e) const {
        const Nic& nic = item_of(machine_of(plan, e.machine).nics, "NIC", e.nic);
        std::string before = e.to ? written_at(nic, e.from) : "";
        Place path = nic_path(plan, e.machine, e.nic).key("address");
        if (e.to)
            path = place_in(std::move(path), nic.address.given,
                            [&](const auto& given) { return given.value.address == e.from; });
        return {std::move(path),
                e.to && before.empty() && !nic.address.given.empty() ? Verb::add : Verb::set,
                e.to ? net::to_string(*e.to) : "auto", nic.address.at ? nic.address.at : nic.at,
                before};
    }
    Told operator()(const SetNicSubnet& e) const {
        const Nic& nic = item_of(machine_of(plan, e.machine).nics, "NIC", e.nic);
        return {nic_path(plan, e.machine, e.nic).key("subnet"), Verb::set, e.subnet, nic.subnet.at,
                nic.subnet.value};
    }
    Told operator()(const SetNicUp& e) const {
        return {nic_path(plan, e.machine, e.nic).key("state"), Verb::set, "up",
                nic_mark(plan, e.machine, e.nic)};
    }
    Told operator()(const RemoveNicMac& e) const {
        return {nic_path(plan, e.machine, e.nic).key("mac"), Verb::remove, "",
                nic_mark(plan, e.machine, e.nic)};
    }
    Told operator()(const AddNic& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        return {machine_path(machine).key("nics"), Verb::add,
                fmt::format("{{subnet: {}}}", e.subnet), machine.at};
    }
    Told operator()(const AddRouter& e) const {
        std::vector<std::string> nics;
        for (const std::string& subnet : e.subnets)
            nics.push_back(fmt::format("{{subnet: {}}}", subnet));
        return {Place{}.key("routers").name(e.name),
                Verb::add,
                fmt::format("{{nics: [{}]}}", fmt::join(nics, ", ")),
                {}};
    }
    Told operator()(const SetMachineUp& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        return {machine_path(machine).key("state"), Verb::set, "up", machine.at};
    }
    Told operator()(const SetForwards& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        return {machine_path(machine).key("forwards"), Verb::set, e.to ? "true" : "false",
                machine.at};
    }
    Told operator()(const SetMachineGateway& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        Mark at = machine.gateway && machine.gateway->at ? machine.gateway->at : machine.at;
        Place path = machine_path(machine).key("gateway");
        if (!e.to)
            return {path, Verb::set, "auto", at};
        if (!machine.gateway)
            return {path, Verb::set, net::to_string(*e.to), at};
        return {place_of_family(path, machine.gateway->given, e.to->family()),
                verb_for(machine.gateway->given, e.to->family()), net::to_string(*e.to), at,
                of_family(machine.gateway->given, e.to->family())};
    }
    Told operator()(const AddRoute& e) const {
        return {routes_path(plan, e.machine), Verb::add,
                fmt::format("{{to: {}, via: {}{}}}", written_value(to_string(e.to)),
                            written_value(to_string(e.via)),
                            e.nic.empty() ? "" : ", nic: " + e.nic),
                site_of_core(plan, e.machine) != nullptr ? site_of_core(plan, e.machine)->at
                                                         : machine_of(plan, e.machine).at};
    }
    Told operator()(const SetRouteVia& e) const {
        const Route& route = item_of(routes_of(plan, e.machine), "route", e.route);
        Place path = route_path(plan, e.machine, e.route);
        Told text{path.key("via"), Verb::set, to_string(e.via), route.via.at,
                  to_string(route.via.value)};
        if (route.nic)
            text.also.push_back(removal(path.key("nic"), route.nic->at));
        return text;
    }
    Told operator()(const RemoveRoute& e) const {
        return {route_path(plan, e.machine, e.route), Verb::remove, "",
                item_of(routes_of(plan, e.machine), "route", e.route).at};
    }
    Told operator()(const SetLinkUp& e) const {
        return {link_path(plan, e.link).key("state"), Verb::set, "up",
                item_of(plan.links, "link", e.link).at};
    }
    Told operator()(const SetLinkMtu& e) const {
        return {link_path(plan, e.link).key("mtu"), Verb::set, fmt::format("{}", e.bytes),
                item_of(plan.links, "link", e.link).at};
    }
    Told operator()(const SetPeeringUp& e) const {
        return {Place{}.key("peerings").index(e.peering).key("state"), Verb::set, "up",
                item_of(plan.peerings, "peering", e.peering).at};
    }
    Told operator()(const SetPeeringMtu& e) const {
        return {Place{}.key("peerings").index(e.peering).key("mtu"), Verb::set,
                fmt::format("{}", e.bytes), item_of(plan.peerings, "peering", e.peering).at};
    }
    Told operator()(const SetNicMtu& e) const {
        return {nic_path(plan, e.machine, e.nic).key("mtu"), Verb::set, fmt::format("{}", e.bytes),
                nic_mark(plan, e.machine, e.nic)};
    }
    Told operator()(const AddFilterRule& e) const {
        const Filter& filter = entry_of(plan.filters, "filter", e.filter);
        bool last = e.position >= filter.rules.size();
        Place rules = Place{}.key("filters").name(e.filter).key("rules");
        return {last ? rules : rules.index(e.position), Verb::add, to_string(e.rule),
                last ? filter.at : filter.rules[e.position].at};
    }
    Told operator()(const RemoveFilterRule& e) const {
        return {Place{}.key("filters").name(e.filter).key("rules").index(e.position), Verb::remove,
                "",
                item_of(entry_of(plan.filters, "filter", e.filter).rules, "rule", e.position).at};
    }
    Told operator()(const AddTranslation& e) const {
        Stand place = stand_of(plan, e.machine);
        return {place.path.key("nat"), Verb::add, fmt::format("{{out: {}}}", e.nic), place.at};
    }
    Told operator()(const RemoveTranslation& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        if (!machine.duties)
            throw std::out_of_range(fmt::format("{} translates nothing", e.machine));
        return {machine_path(machine).key("nat").index(e.position), Verb::remove, "",
                item_of(machine.duties->translations, "translation", e.position).at};
    }
    Told operator()(const SetTranslationNic& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        if (!machine.duties)
            throw std::out_of_range(fmt::format("{} translates nothing", e.machine));
        const Translation& rule = item_of(machine.duties->translations, "translation", e.position);
        return {machine_path(machine)
                    .key("nat")
                    .index(e.position)
                    .key(rule.kind == Translation::Kind::source ? "out" : "in"),
                Verb::set, e.nic, rule.at, rule.nic.value};
    }
    Told operator()(const AddService& e) const {
        Stand place = stand_of(plan, e.machine);
        return {place.path.key("listens"), Verb::add, net::to_string(e.service), place.at};
    }
    Told operator()(const SetPortVlan& e) const {
        const SwitchPort& port = port_of(plan, e.port);
        Told text{port_path(e.port).key(port.is_trunk ? "native" : "vlan"), Verb::set,
                  fmt::format("{}", e.vlan), port.at,
                  port.untagged == 0 ? "" : fmt::format("{}", port.untagged)};
        if (std::ranges::find(port.tagged, e.vlan) != port.tagged.end())
            text.also.push_back(
                removal(port_path(e.port).key("trunk"), port.at, fmt::format("{}", e.vlan)));
        return text;
    }
    Told operator()(const AllowVlan& e) const {
        const SwitchPort& port = port_of(plan, e.port);
        Told text{port_path(e.port).key("trunk"), Verb::add, fmt::format("{}", e.vlan), port.at};
        if (!port.is_trunk) {
            text.also.push_back(removal(port_path(e.port).key("vlan"), port.at));
            text.also.push_back({port_path(e.port).key("native"), Verb::set,
                                 fmt::format("{}", port.untagged), port.at});
        }
        return text;
    }
    Told operator()(const SetTrunk& e) const {
        const SwitchPort& port = port_of(plan, e.port);
        const Place path = port_path(e.port).key("trunk");
        std::vector<Told> texts;
        for (std::uint16_t vlan : e.vlans)
            if (!port.carries(vlan))
                texts.push_back({path, Verb::add, fmt::format("{}", vlan), port.at});
        for (std::uint16_t vlan : port.tagged)
            if (std::ranges::find(e.vlans, vlan) == e.vlans.end())
                texts.push_back(removal(path, port.at, fmt::format("{}", vlan)));
        if (texts.empty())
            return {path, Verb::set, fmt::format("[{}]", fmt::join(e.vlans, ", ")), port.at};
        Told first = std::move(texts.front());
        texts.erase(texts.begin());
        first.also = std::move(texts);
        return first;
    }
    Told operator()(const SetPortUp& e) const {
        return {port_path(e.port).key("state"), Verb::set, e.to ? "up" : "down",
                port_of(plan, e.port).at};
    }
    Told operator()(const SetSwitchUp& e) const {
        return {Place{}.key("switches").name(e.name).key("state"), Verb::set, "up",
                entry_of(plan.switches, "switch", e.name).at};
    }
    Told operator()(const SetCableUp& e) const {
        const Cable& cable = item_of(plan.cables, "cable", e.cable);
        return {Place{}.key("links").between(cable.first.value, cable.second.value).key("state"),
                Verb::set, e.to ? "up" : "down", cable.at};
    }
    Told operator()(const SetBondMemberUp& e) const {
        return {nic_path(plan, e.machine, e.nic).key("bond").index(e.member).key("state"),
                Verb::set, "up", member_of(plan, e).at};
    }
    Told operator()(const SetDhcpSize& e) const {
        const Subnet& subnet = subnet_of(plan, e.subnet);
        bool written = bool(subnet.dhcp);
        Place path = Place{}.key("subnets").name(e.subnet).key("dhcp");
        if (!written)
            return {path, Verb::set, fmt::format("{{size: {}}}", e.size), subnet.at};
        if (subnet.dhcp->size)
            return {path.key("size"), Verb::set, fmt::format("{}", e.size), subnet.dhcp->at,
                    fmt::format("{}", subnet.dhcp->size->value)};
        Told text{path.key("size"), Verb::set, fmt::format("{}", e.size), subnet.dhcp->at};
        text.also.push_back(removal(path.key("range"), subnet.dhcp->at));
        return text;
    }
    Told operator()(const RemoveDhcp& e) const {
        const Subnet& subnet = subnet_of(plan, e.subnet);
        return {Place{}.key("subnets").name(e.subnet).key("dhcp"), Verb::remove, "",
                subnet.dhcp ? subnet.dhcp->at : subnet.at};
    }
    Told operator()(const SetDhcpRelay& e) const {
        const Subnet& subnet = subnet_of(plan, e.subnet);
        return {Place{}.key("subnets").name(e.subnet).key("dhcp").key("relay"), Verb::set, e.relay,
                subnet.dhcp ? subnet.dhcp->at : subnet.at};
    }
    Told operator()(const RemoveStartsAfter& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        return {machine_path(machine).key("starts-after"), Verb::remove, e.other, machine.at};
    }
    Told operator()(const AddNameServer& e) const {
        Stand place = stand_of(plan, e.machine);
        return {place.path.key("dns"), Verb::add, to_string(e.server), place.at};
    }
    Told operator()(const AcceptPeering& e) const {
        const PeeringSide& side = side_of(plan, e.peering, e.site);
        Mark at = side_mark(plan, e.peering, e.site);
        Place path = side_path(e.peering, e.site);
        if (!side.declared)
            return {path, Verb::set, side_text(e.border), at};
        Told text{path.key("accept"), Verb::set, "true", at, side.accepts ? "" : "false"};
        if (side.border.value.empty() && !e.border.empty())
            text.also.push_back({path.key("border"), Verb::set, e.border, at});
        return text;
    }
    Told operator()(const TakeRelayed& e) const {
        return {side_path(e.peering, e.site).key("relay"), Verb::set, "true",
                side_mark(plan, e.peering, e.site)};
    }
    Told operator()(const SetPeeringExit& e) const {
        return {side_path(e.peering, e.site).key("exit"), Verb::set, std::string(to_string(e.to)),
                side_mark(plan, e.peering, e.site)};
    }
    Told operator()(const AddPeering& e) const {
        return {Place{}.key("peerings"),
                Verb::add,
                fmt::format("{{between: [{}, {}], {}: {}, {}: {}}}", e.sites[0], e.sites[1],
                            e.sites[0], side_text(e.borders[0]), e.sites[1],
                            side_text(e.borders[1])),
                {}};
    }
    Told operator()(const SetSiteRelay& e) const {
        return {Place{}.key("sites").name(e.site).key("relay"), Verb::set, e.relay,
                entry_of(plan.sites, "site", e.site).at};
    }
    Told operator()(const SetSiteSpace& e) const {
        return {Place{}.key("sites").name(e.site).key("space"), Verb::set, net::to_string(e.to),
                entry_of(plan.sites, "site", e.site).at, net::to_string(e.from)};
    }
    Told operator()(const AddUplink& e) const {
        return {Place{}.key("subnets").name(e.subnet),
                Verb::add,
                fmt::format("{{site: {}, size: /{}, uplink: nat}}", e.site, uplink_length),
                {}};
    }
    Told operator()(const AddLink& e) const {
        return {Place{}.key("links"), Verb::add, join_text(e.first, e.second, e.delay), {}};
    }
    Told operator()(const AddTunnel& e) const {
        return {Place{}.key("tunnels"), Verb::add, join_text(e.first, e.second, {}), {}};
    }
    Told operator()(const SetOspfNic& e) const {
        using What = SetOspfNic::What;
        const Machine& machine = machine_of(plan, e.machine);
        Place path = machine_path(machine).key("ospf");
        static const Ospf nothing;
        const Ospf& ospf = told_of(machine).ospf ? *told_of(machine).ospf : nothing;
        Mark at = ospf.at ? ospf.at : machine.at;
        const std::vector<std::string> names = names_in_protocols(plan, machine, e.nic);
        auto is_named = [&](const std::string& name) {
            return std::ranges::find(names, name) != names.end();
        };
        auto set = [&](std::string_view key, const auto& values, std::string value) -> Told {
            for (const auto& entry : values)
                if (is_named(entry.nic.value))
                    return {path.key(key).name(entry.nic.value), Verb::set, value, entry.nic.at};
            return {path.key(key).name(e.nic), Verb::set, value, at};
        };
        switch (e.what) {
        case What::area: return area_text(ospf, e, path, is_named, at);
        case What::active:
            for (const auto& passive : ospf.passive)
                if (is_named(passive.value))
                    return removal(path.key("passive"), at, passive.value);
            return removal(path.key("passive"), at, e.nic);
        case What::hello: return set("hello", ospf.hello_s, fmt::format("{}s", e.value));
        case What::dead: return set("dead", ospf.dead_s, fmt::format("{}s", e.value));
        case What::network:
            return set("network", ospf.point_to_point,
                       e.value != 0 ? "point-to-point" : "broadcast");
        case What::priority: break;
        }
        return set("priority", ospf.priorities, fmt::format("{}", e.value));
    }
    template <class IsNamed>
    static Told area_text(const Ospf& ospf, const SetOspfNic& e, const Place& ospf_path,
                          IsNamed is_named, Mark at) {
        auto path = [&](std::uint32_t area) {
            return ospf_path.key("areas").name(fmt::format("{}", area));
        };
        if (e.nic.empty() && ospf.areas.size() == 1) {
            const OspfArea& own = ospf.areas.front();
            std::string list = "all";
            if (!own.nics.all) {
                list.clear();
                for (const auto& name : own.nics.names)
                    list += (list.empty() ? "[" : ", ") + name.value;
                list += "]";
            }
            Told text{path(e.value), Verb::set, list, at};
            text.also.push_back(removal(path(own.number), at));
            return text;
        }
        std::vector<Told> removals;
        bool is_in_all = false;
        for (const OspfArea& area : ospf.areas) {
            is_in_all |= area.number == e.value && area.nics.all;
            for (const auto& name : area.nics.names)
                if (is_named(name.value) && area.number != e.value)
                    removals.push_back(removal(path(area.number), name.at, name.value));
        }
        Told text{path(e.value), Verb::add, e.nic, at};
        if (is_in_all && !removals.empty()) {
            text = std::move(removals.front());
            removals.erase(removals.begin());
        }
        text.also = std::move(removals);
        return text;
    }
    Told operator()(const SpeakProtocol& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        return {machine_path(machine).key(to_string(e.protocol)), Verb::set,
                e.protocol == RouteSource::ospf ? fmt::format("{{areas: {{{}: all}}}}", e.area)
                                                : "{nics: all}",
                machine.at};
    }
    Told operator()(const Redistribute& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        check_speaks(machine, e.into);
        return {machine_path(machine).key(to_string(e.into)).key("redistribute"), Verb::add,
                std::string(to_string(e.from)), machine.at};
    }
    Told operator()(const AnnounceDefault& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        check_speaks(machine, e.into);
        return {machine_path(machine).key(to_string(e.into)).key("default"), Verb::set, "true",
                machine.at};
    }
    Told operator()(const SetOspfStub& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        check_speaks(machine, RouteSource::ospf);
        return {machine_path(machine).key("ospf").key(e.is_nssa ? "nssa" : "stub"),
                e.to ? Verb::add : Verb::remove, fmt::format("{}", e.area), machine.at};
    }
    Told operator()(const AddVirtualLink& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        check_speaks(machine, RouteSource::ospf);
        return {
            machine_path(machine).key("ospf").key("virtual-links").name(fmt::format("{}", e.area)),
            Verb::add, e.to, machine.at};
    }
    Told operator()(const SetRouterId& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        const auto& written = told_of(machine).router_id;
        return {machine_path(machine).key("router-id"), Verb::set, net::to_string(e.to),
                written ? written->at : machine.at, written ? net::to_string(written->value) : ""};
    }
    Told operator()(const SetBgpNeighbour& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        Place path = machine_path(machine).key("bgp").key("neighbours").name(e.neighbour);
        std::string_view distant = e.distant ? ", distant: true" : "";
        check_speaks(machine, RouteSource::bgp);
        for (const BgpNeighbour& known : told_of(machine).bgp->neighbours)
            if (to_string(known.peer.value) == e.neighbour) {
                std::vector<Told> texts;
                if (known.as != e.as)
                    texts.push_back({path.key("as"), Verb::set, fmt::format("{}", e.as), known.at,
                                     fmt::format("{}", known.as)});
                if (!known.up)
                    texts.push_back({path.key("state"), Verb::set, "up", known.at});
                if (e.distant && !known.distant)
                    texts.push_back({path.key("distant"), Verb::set, "true", known.at});
                if (texts.empty()) // it is there already
                    texts.push_back({path.key("as"), Verb::set, fmt::format("{}", e.as), known.at});
                Told text = std::move(texts.front());
                texts.erase(texts.begin());
                text.also = std::move(texts);
                return text;
            }
        return {path, Verb::add, fmt::format("{{as: {}{}}}", e.as, distant), machine.at};
    }
    Told operator()(const RemovePolicy& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        check_speaks(machine, RouteSource::bgp);
        Mark at = machine.at;
        for (const BgpNeighbour& known : told_of(machine).bgp->neighbours)
            if (to_string(known.peer.value) == e.neighbour)
                at = known.at;
        return removal(
            machine_path(machine).key("bgp").key("neighbours").name(e.neighbour).key("takes"), at);
    }
    Told operator()(const SetSize& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        const Sizes& sizes = machine.sizes;
        auto set = [&](std::string_view key, std::string to, std::string before) -> Told {
            return {machine_path(machine).key(key), Verb::set, std::move(to), machine.at,
                    std::move(before)};
        };
        switch (e.what) {
        case SetSize::What::cpus:
            return set("cpus", fmt::format("{}", e.to), fmt::format("{}", sizes.cpus));
        case SetSize::What::memory:
            return set("memory", size_text(e.to), size_text(sizes.memory_mib));
        case SetSize::What::disk: break;
        }
        return set("disk", size_text(e.to), size_text(sizes.disk_mib));
    }
    Told operator()(const AddSegmentPort& e) const {
        return {Place{}.key("switches").name(e.owner).key("ports").name(e.name), Verb::add,
                fmt::format("{{vlan: {}, segment: {}}}", e.vlan, e.subnet),
                entry_of(plan.switches, "switch", e.owner).at};
    }
};

} // namespace

Resolved resolved(const Edit& edit, const Plan& plan) {
    Resolved found;
    auto add = [&](Told& text) {
        found.changes.push_back({std::move(text.place), text.verb, std::move(text.value),
                                 std::move(text.before), text.at});
    };
    try {
        edit.visit([&](const auto& change) {
            Told text = Words{plan}(change);
            add(text);
            std::ranges::for_each(text.also, add);
        });
    } catch (const std::out_of_range& missing) { // thrown where an entry is looked for
        found.problem = missing.what();
    }
    return found;
}

std::vector<PlaceChange> changes_of(const Edit& edit, const Plan& plan) {
    return resolved(edit, plan).changes;
}

std::vector<std::vector<PlaceChange>> changes_of(const std::vector<Edit>& edits, const Plan& plan) {
    std::vector<std::vector<PlaceChange>> all;
    Plan current; // a copy only where a change comes after another
    for (std::size_t i = 0; i < edits.size(); ++i) {
        const Plan& now = i == 0 ? plan : current;
        all.push_back(changes_of(edits[i], now));
        if (i + 1 == edits.size())
            break;
        if (Applied made = jackal::plan::apply(now, all.back()); made.plan)
            current = *std::move(made.plan);
        else if (i == 0)
            current = plan;
    }
    return all;
}

} // namespace jackal::plan
