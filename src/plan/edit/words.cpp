#include "jackal/plan/outside.h"
#include "jackal/plan/validate.h"
#include "plan/edit/duties.h"
#include "plan/edit/entries.h"
#include "plan/edit/layout.h"

#include <fmt/ranges.h>

namespace jackal::plan {

bool is_made(const Plan& plan, const std::string& name) {
    return plan.machine(name) == nullptr
           && (site_of_core(plan, name) != nullptr || name == outside::workstation
               || name == outside::lan_gateway || name == outside::internet
               || std::ranges::find(plan.outside.hosts, name, &OutsideHost::name)
                      != plan.outside.hosts.end());
}

namespace {

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
    return machine_of(plan, name).nics.at(nic).at;
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
    const Link& link = plan.links.at(number);
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
const char* verb_for(const std::vector<Placed<T>>& values, net::Family family) {
    return values.empty() || !of_family(values, family).empty() ? "set" : "add";
}

EditText removal(Place place, Mark at, std::string value = {}) {
    return {std::move(place), "remove", std::move(value), at};
}

std::string region_text(const Region& region) {
    if (const auto* range = std::get_if<net::Range>(&region))
        return range->first == range->last ? net::to_string(range->first)
                                           : fmt::format("{}-{}", net::to_string(range->first),
                                                         net::to_string(range->last));
    const auto& places = std::get<Places>(region);
    return places.first == places.last ? fmt::format("+{}", places.first)
                                       : fmt::format("+{}-+{}", places.first, places.last);
}

// The parts of a subnet that are others after a change of its prefix.
class MovedParts {
  public:
    MovedParts(const Subnet& before, const Subnet& after, Place subnet) {
        add_list(before.reserve, after.reserve, subnet.key("reserve"));
        if (!before.dhcp)
            return;
        const DhcpRange& old = *before.dhcp;
        const DhcpRange& now = *after.dhcp;
        Place dhcp = subnet.key("dhcp");
        if (old.range)
            add(dhcp.key("range"), old.range->at, region_text(old.range->value),
                region_text(now.range->value));
        add_list(old.exclude, now.exclude, dhcp.key("exclude"));
        for (std::size_t i = 0; i < old.reservations.size(); ++i) {
            const auto& client = old.reservations[i].client;
            const auto* name = std::get_if<std::string>(&client);
            add(dhcp.key("reservations")
                    .name(name != nullptr ? *name : net::to_string(std::get<net::Mac>(client))),
                old.reservations[i].at, region_text(old.reservations[i].address.value),
                region_text(now.reservations[i].address.value));
        }
        if (old.router)
            add(dhcp.key("router"), old.router->at, net::to_string(old.router->value),
                net::to_string(now.router->value));
    }

    std::vector<EditText> texts;

  private:
    void add_list(const std::vector<Placed<Region>>& before,
                  const std::vector<Placed<Region>>& after, const Place& place) {
        for (std::size_t i = 0; i < before.size(); ++i)
            add(before.size() == 1 ? place : place.index(i), before[i].at,
                region_text(before[i].value), region_text(after[i].value));
    }
    void add(Place place, Mark at, const std::string& before, const std::string& now) {
        if (before != now)
            texts.push_back({std::move(place), "set", now, at, before});
    }
};

// What the machine is told of routing protocols; nothing if it is told nothing.
const Protocols& told_of(const Machine& machine) {
    static const Protocols none;
    return machine.duties && machine.duties->protocols ? *machine.duties->protocols : none;
}

struct Words {
    const Plan& plan;

    EditText operator()(const AddSiteSpace& e) const {
        return {Place{}.key("sites").name(e.site).key("space"), "add", net::to_string(e.space),
                site_of(plan, e.site).at};
    }
    EditText operator()(const SetSubnetPrefix& e) const {
        const Subnet& subnet = subnet_of(plan, e.subnet);
        Place path = Place{}.key("subnets").name(e.subnet);
        EditText text{place_of_family(path.key("prefix"), subnet.prefixes, e.to.family()),
                      verb_for(subnet.prefixes, e.to.family()), net::to_string(e.to), subnet.at,
                      of_family(subnet.prefixes, e.to.family())};
        if (subnet.hosts)
            text.also.push_back(removal(path.key("hosts"), subnet.hosts->at));
        if (subnet.growth_percent != 0)
            text.also.push_back(removal(path.key("growth"), subnet.at));
        if (subnet.size)
            text.also.push_back(
                removal(path.key("size"), subnet.size->at, fmt::format("/{}", subnet.size->value)));
        Plan alone;
        alone.subnets.push_back(subnet);
        alone = apply(std::move(alone), {e});
        MovedParts moved(subnet, alone.subnets.front(), path);
        std::ranges::move(moved.texts, std::back_inserter(text.also));
        return text;
    }
    EditText operator()(const SetSubnetGateway& e) const {
        const Subnet& subnet = subnet_of(plan, e.subnet);
        Place path = Place{}.key("subnets").name(e.subnet).key("gateway");
        Mark at = subnet.gateway.at ? subnet.gateway.at : subnet.at;
        if (!e.to)
            return removal(path, at);
        return {path, verb_for(subnet.gateway.given, e.to->family()), net::to_string(*e.to), at,
                of_family(subnet.gateway.given, e.to->family())};
    }
    EditText operator()(const SetNicAddress& e) const {
        const Nic& nic = machine_of(plan, e.machine).nics.at(e.nic);
        std::string before = e.to ? written_at(nic, e.from) : "";
        Place path = nic_path(plan, e.machine, e.nic).key("address");
        if (e.to)
            path = place_in(std::move(path), nic.address.given,
                            [&](const auto& given) { return given.value.address == e.from; });
        return {std::move(path),
                e.to && before.empty() && !nic.address.given.empty() ? "add" : "set",
                e.to ? net::to_string(*e.to) : "auto", nic.address.at ? nic.address.at : nic.at,
                before};
    }
    EditText operator()(const SetNicSubnet& e) const {
        const Nic& nic = machine_of(plan, e.machine).nics.at(e.nic);
        return {nic_path(plan, e.machine, e.nic).key("subnet"), "set", e.subnet, nic.subnet.at,
                nic.subnet.value};
    }
    EditText operator()(const SetNicUp& e) const {
        return {nic_path(plan, e.machine, e.nic).key("state"), "set", "up",
                nic_mark(plan, e.machine, e.nic)};
    }
    EditText operator()(const RemoveNicMac& e) const {
        return {nic_path(plan, e.machine, e.nic).key("mac"), "remove", "",
                nic_mark(plan, e.machine, e.nic)};
    }
    EditText operator()(const AddNic& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        return {machine_path(machine).key("nics"), "add", fmt::format("{{subnet: {}}}", e.subnet),
                machine.at};
    }
    EditText operator()(const AddRouter& e) const {
        std::vector<std::string> nics;
        for (const std::string& subnet : e.subnets)
            nics.push_back(fmt::format("{{subnet: {}}}", subnet));
        return {Place{}.key("routers").name(e.name),
                "add",
                fmt::format("{{nics: [{}]}}", fmt::join(nics, ", ")),
                {}};
    }
    EditText operator()(const SetMachineUp& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        return {machine_path(machine).key("state"), "set", "up", machine.at};
    }
    EditText operator()(const SetForwards& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        return {machine_path(machine).key("forwards"), "set", e.to ? "true" : "false", machine.at};
    }
    EditText operator()(const SetMachineGateway& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        Mark at = machine.gateway && machine.gateway->at ? machine.gateway->at : machine.at;
        Place path = machine_path(machine).key("gateway");
        if (!e.to)
            return {path, "set", "auto", at};
        if (!machine.gateway)
            return {path, "set", net::to_string(*e.to), at};
        return {place_of_family(path, machine.gateway->given, e.to->family()),
                verb_for(machine.gateway->given, e.to->family()), net::to_string(*e.to), at,
                of_family(machine.gateway->given, e.to->family())};
    }
    EditText operator()(const AddRoute& e) const {
        return {routes_path(plan, e.machine), "add",
                fmt::format("{{to: {}, via: {}{}}}", written_value(to_string(e.to)),
                            written_value(to_string(e.via)),
                            e.nic.empty() ? "" : ", nic: " + e.nic),
                site_of_core(plan, e.machine) != nullptr ? site_of_core(plan, e.machine)->at
                                                         : machine_of(plan, e.machine).at};
    }
    EditText operator()(const SetRouteVia& e) const {
        const Route& route = routes_of(plan, e.machine).at(e.route);
        Place path = route_path(plan, e.machine, e.route);
        EditText text{path.key("via"), "set", to_string(e.via), route.via.at,
                      to_string(route.via.value)};
        if (route.nic)
            text.also.push_back(removal(path.key("nic"), route.nic->at));
        return text;
    }
    EditText operator()(const RemoveRoute& e) const {
        return {route_path(plan, e.machine, e.route), "remove", "",
                routes_of(plan, e.machine).at(e.route).at};
    }
    EditText operator()(const SetLinkUp& e) const {
        return {link_path(plan, e.link).key("state"), "set", "up", plan.links.at(e.link).at};
    }
    EditText operator()(const SetLinkMtu& e) const {
        return {link_path(plan, e.link).key("mtu"), "set", fmt::format("{}", e.bytes),
                plan.links.at(e.link).at};
    }
    EditText operator()(const SetPeeringUp& e) const {
        return {Place{}.key("peerings").index(e.peering).key("state"), "set", "up",
                plan.peerings.at(e.peering).at};
    }
    EditText operator()(const SetPeeringMtu& e) const {
        return {Place{}.key("peerings").index(e.peering).key("mtu"), "set",
                fmt::format("{}", e.bytes), plan.peerings.at(e.peering).at};
    }
    EditText operator()(const SetNicMtu& e) const {
        return {nic_path(plan, e.machine, e.nic).key("mtu"), "set", fmt::format("{}", e.bytes),
                nic_mark(plan, e.machine, e.nic)};
    }
    EditText operator()(const AddFilterRule& e) const {
        const Filter& filter = filter_of(plan, e.filter);
        bool last = e.position >= filter.rules.size();
        Place rules = Place{}.key("filters").name(e.filter).key("rules");
        return {last ? rules : rules.index(e.position), "add", to_string(e.rule),
                last ? filter.at : filter.rules[e.position].at};
    }
    EditText operator()(const RemoveFilterRule& e) const {
        return {Place{}.key("filters").name(e.filter).key("rules").index(e.position), "remove", "",
                filter_of(plan, e.filter).rules.at(e.position).at};
    }
    EditText operator()(const AddTranslation& e) const {
        Stand place = stand_of(plan, e.machine);
        return {place.path.key("nat"), "add", fmt::format("{{out: {}}}", e.nic), place.at};
    }
    EditText operator()(const RemoveTranslation& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        if (!machine.duties)
            throw std::out_of_range(fmt::format("{} translates nothing", e.machine));
        return {machine_path(machine).key("nat").index(e.position), "remove", "",
                machine.duties->translations.at(e.position).at};
    }
    EditText operator()(const SetTranslationNic& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        if (!machine.duties)
            throw std::out_of_range(fmt::format("{} translates nothing", e.machine));
        const Translation& rule = machine.duties->translations.at(e.position);
        return {machine_path(machine)
                    .key("nat")
                    .index(e.position)
                    .key(rule.kind == Translation::Kind::source ? "out" : "in"),
                "set", e.nic, rule.at, rule.nic.value};
    }
    EditText operator()(const AddService& e) const {
        Stand place = stand_of(plan, e.machine);
        return {place.path.key("listens"), "add", net::to_string(e.service), place.at};
    }
    EditText operator()(const SetPortVlan& e) const {
        const SwitchPort& port = port_of(plan, e.port);
        EditText text{port_path(e.port).key(port.is_trunk ? "native" : "vlan"), "set",
                      fmt::format("{}", e.vlan), port.at,
                      port.untagged == 0 ? "" : fmt::format("{}", port.untagged)};
        if (std::ranges::find(port.tagged, e.vlan) != port.tagged.end())
            text.also.push_back(
                removal(port_path(e.port).key("trunk"), port.at, fmt::format("{}", e.vlan)));
        return text;
    }
    EditText operator()(const AllowVlan& e) const {
        const SwitchPort& port = port_of(plan, e.port);
        EditText text{port_path(e.port).key("trunk"), "add", fmt::format("{}", e.vlan), port.at};
        if (!port.is_trunk) {
            text.also.push_back(removal(port_path(e.port).key("vlan"), port.at));
            text.also.push_back({port_path(e.port).key("native"), "set",
                                 fmt::format("{}", port.untagged), port.at});
        }
        return text;
    }
    EditText operator()(const SetTrunk& e) const {
        const SwitchPort& port = port_of(plan, e.port);
        const Place path = port_path(e.port).key("trunk");
        std::vector<EditText> texts;
        for (std::uint16_t vlan : e.vlans)
            if (!port.carries(vlan))
                texts.push_back({path, "add", fmt::format("{}", vlan), port.at});
        for (std::uint16_t vlan : port.tagged)
            if (std::ranges::find(e.vlans, vlan) == e.vlans.end())
                texts.push_back(removal(path, port.at, fmt::format("{}", vlan)));
        if (texts.empty())
            return {path, "set", fmt::format("[{}]", fmt::join(e.vlans, ", ")), port.at};
        EditText first = std::move(texts.front());
        texts.erase(texts.begin());
        first.also = std::move(texts);
        return first;
    }
    EditText operator()(const SetPortUp& e) const {
        return {port_path(e.port).key("state"), "set", e.to ? "up" : "down",
                port_of(plan, e.port).at};
    }
    EditText operator()(const SetSwitchUp& e) const {
        return {Place{}.key("switches").name(e.name).key("state"), "set", "up",
                switch_of(plan, e.name).at};
    }
    EditText operator()(const SetCableUp& e) const {
        const Cable& cable = plan.cables.at(e.cable);
        return {Place{}.key("links").between(cable.first.value, cable.second.value).key("state"),
                "set", e.to ? "up" : "down", cable.at};
    }
    EditText operator()(const SetBondMemberUp& e) const {
        return {nic_path(plan, e.machine, e.nic).key("bond").index(e.member).key("state"), "set",
                "up", member_of(plan, e).at};
    }
    EditText operator()(const SetDhcpSize& e) const {
        const Subnet& subnet = subnet_of(plan, e.subnet);
        bool written = bool(subnet.dhcp);
        Place path = Place{}.key("subnets").name(e.subnet).key("dhcp");
        if (!written)
            return {path, "set", fmt::format("{{size: {}}}", e.size), subnet.at};
        if (subnet.dhcp->size)
            return {path.key("size"), "set", fmt::format("{}", e.size), subnet.dhcp->at,
                    fmt::format("{}", subnet.dhcp->size->value)};
        EditText text{path.key("size"), "set", fmt::format("{}", e.size), subnet.dhcp->at};
        text.also.push_back(removal(path.key("range"), subnet.dhcp->at));
        return text;
    }
    EditText operator()(const RemoveDhcp& e) const {
        const Subnet& subnet = subnet_of(plan, e.subnet);
        return {Place{}.key("subnets").name(e.subnet).key("dhcp"), "remove", "",
                subnet.dhcp ? subnet.dhcp->at : subnet.at};
    }
    EditText operator()(const SetDhcpRelay& e) const {
        const Subnet& subnet = subnet_of(plan, e.subnet);
        return {Place{}.key("subnets").name(e.subnet).key("dhcp").key("relay"), "set", e.relay,
                subnet.dhcp ? subnet.dhcp->at : subnet.at};
    }
    EditText operator()(const RemoveStartsAfter& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        return {machine_path(machine).key("starts-after"), "remove", e.other, machine.at};
    }
    EditText operator()(const AddNameServer& e) const {
        Stand place = stand_of(plan, e.machine);
        return {place.path.key("dns"), "add", to_string(e.server), place.at};
    }
    EditText operator()(const AcceptPeering& e) const {
        const PeeringSide& side = side_of(plan, e.peering, e.site);
        Mark at = side_mark(plan, e.peering, e.site);
        Place path = side_path(e.peering, e.site);
        if (!side.declared)
            return {path, "set", side_text(e.border), at};
        EditText text{path.key("accept"), "set", "true", at, side.accepts ? "" : "false"};
        if (side.border.value.empty() && !e.border.empty())
            text.also.push_back({path.key("border"), "set", e.border, at});
        return text;
    }
    EditText operator()(const TakeRelayed& e) const {
        return {side_path(e.peering, e.site).key("relay"), "set", "true",
                side_mark(plan, e.peering, e.site)};
    }
    EditText operator()(const SetPeeringExit& e) const {
        return {side_path(e.peering, e.site).key("exit"), "set", std::string(to_string(e.to)),
                side_mark(plan, e.peering, e.site)};
    }
    EditText operator()(const AddPeering& e) const {
        return {Place{}.key("peerings"),
                "add",
                fmt::format("{{between: [{}, {}], {}: {}, {}: {}}}", e.sites[0], e.sites[1],
                            e.sites[0], side_text(e.borders[0]), e.sites[1],
                            side_text(e.borders[1])),
                {}};
    }
    EditText operator()(const SetSiteRelay& e) const {
        return {Place{}.key("sites").name(e.site).key("relay"), "set", e.relay,
                site_of(plan, e.site).at};
    }
    EditText operator()(const SetSiteSpace& e) const {
        return {Place{}.key("sites").name(e.site).key("space"), "set", net::to_string(e.to),
                site_of(plan, e.site).at, net::to_string(e.from)};
    }
    EditText operator()(const AddUplink& e) const {
        return {Place{}.key("subnets").name(e.subnet),
                "add",
                fmt::format("{{site: {}, size: /{}, uplink: nat}}", e.site, uplink_length),
                {}};
    }
    EditText operator()(const AddLink& e) const {
        return {Place{}.key("links"), "add", join_text(e.first, e.second, e.delay), {}};
    }
    EditText operator()(const AddTunnel& e) const {
        return {Place{}.key("tunnels"), "add", join_text(e.first, e.second, e.delay), {}};
    }
    EditText operator()(const SetOspfNic& e) const {
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
        auto set = [&](std::string_view key, const auto& values, std::string value) -> EditText {
            for (const auto& entry : values)
                if (is_named(entry.nic.value))
                    return {path.key(key).name(entry.nic.value), "set", value, entry.nic.at};
            return {path.key(key).name(e.nic), "set", value, at};
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
    static EditText area_text(const Ospf& ospf, const SetOspfNic& e, const Place& ospf_path,
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
            EditText text{path(e.value), "set", list, at};
            text.also.push_back(removal(path(own.number), at));
            return text;
        }
        std::vector<EditText> removals;
        bool is_in_all = false;
        for (const OspfArea& area : ospf.areas) {
            is_in_all |= area.number == e.value && area.nics.all;
            for (const auto& name : area.nics.names)
                if (is_named(name.value))
                    removals.push_back(removal(path(area.number), name.at, name.value));
        }
        EditText text{path(e.value), "add", e.nic, at};
        if (is_in_all && !removals.empty()) {
            text = std::move(removals.front());
            removals.erase(removals.begin());
        }
        text.also = std::move(removals);
        return text;
    }
    EditText operator()(const SpeakProtocol& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        return {machine_path(machine).key(to_string(e.protocol)), "set",
                e.protocol == RouteSource::ospf ? fmt::format("{{areas: {{{}: all}}}}", e.area)
                                                : "{nics: all}",
                machine.at};
    }
    EditText operator()(const Redistribute& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        return {machine_path(machine).key(to_string(e.into)).key("redistribute"), "add",
                std::string(to_string(e.from)), machine.at};
    }
    EditText operator()(const AnnounceDefault& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        return {machine_path(machine).key(to_string(e.into)).key("default"), "set", "true",
                machine.at};
    }
    EditText operator()(const SetOspfStub& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        return {machine_path(machine).key("ospf").key(e.is_nssa ? "nssa" : "stub"),
                e.to ? "add" : "remove", fmt::format("{}", e.area), machine.at};
    }
    EditText operator()(const AddVirtualLink& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        return {
            machine_path(machine).key("ospf").key("virtual-links").name(fmt::format("{}", e.area)),
            "add", e.to, machine.at};
    }
    EditText operator()(const SetRouterId& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        const auto& written = told_of(machine).router_id;
        return {machine_path(machine).key("router-id"), "set", net::to_string(e.to),
                written ? written->at : machine.at, written ? net::to_string(written->value) : ""};
    }
    EditText operator()(const SetBgpNeighbour& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        Place path = machine_path(machine).key("bgp").key("neighbours").name(e.neighbour);
        std::string_view distant = e.distant ? ", distant: true" : "";
        for (const BgpNeighbour& known : told_of(machine).bgp->neighbours)
            if (to_string(known.peer.value) == e.neighbour) {
                std::vector<EditText> texts;
                if (known.as != e.as)
                    texts.push_back({path.key("as"), "set", fmt::format("{}", e.as), known.at,
                                     fmt::format("{}", known.as)});
                if (!known.up)
                    texts.push_back({path.key("state"), "set", "up", known.at});
                if ((e.distant && !known.distant) || texts.empty())
                    texts.push_back({path.key("distant"), "set", "true", known.at});
                EditText text = std::move(texts.front());
                texts.erase(texts.begin());
                text.also = std::move(texts);
                return text;
            }
        return {path, "add", fmt::format("{{as: {}{}}}", e.as, distant), machine.at};
    }
    EditText operator()(const RemovePolicy& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        Mark at = machine.at;
        if (told_of(machine).bgp)
            for (const BgpNeighbour& known : told_of(machine).bgp->neighbours)
                if (to_string(known.peer.value) == e.neighbour)
                    at = known.at;
        return removal(
            machine_path(machine).key("bgp").key("neighbours").name(e.neighbour).key("takes"), at);
    }
    EditText operator()(const SetSize& e) const {
        const Machine& machine = machine_of(plan, e.machine);
        const Sizes& sizes = machine.sizes;
        auto set = [&](std::string_view key, std::string to, std::string before) -> EditText {
            return {machine_path(machine).key(key), "set", std::move(to), machine.at,
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
    EditText operator()(const AddSegmentPort& e) const {
        return {Place{}.key("switches").name(e.owner).key("ports").name(e.name), "add",
                fmt::format("{{vlan: {}, segment: {}}}", e.vlan, e.subnet),
                switch_of(plan, e.owner).at};
    }
};

} // namespace

EditText to_text(const Edit& edit, const Plan& plan) {
    EditText text;
    edit.visit([&](const auto& change) { text = Words{plan}(change); });
    return text;
}

std::vector<EditText> to_texts(const std::vector<Edit>& edits, const Plan& plan) {
    std::vector<EditText> texts;
    Plan current; // a copy only where a change comes after another
    for (std::size_t i = 0; i < edits.size(); ++i) {
        texts.push_back(to_text(edits[i], i == 0 ? plan : current));
        if (i + 1 < edits.size())
            current = apply(i == 0 ? plan : std::move(current), {edits[i]});
    }
    return texts;
}

} // namespace jackal::plan
