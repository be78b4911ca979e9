#include "plan/validate/validate.h"

#include "jackal/plan/cause.h"
#include "jackal/plan/name_index.h"
#include "jackal/plan/sites.h"
#include "jackal/plan/validate.h"

#include <algorithm>
#include <array>
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <set>
#include <unordered_map>
#include <unordered_set>

namespace jackal::plan {

namespace {

// Names of one sort of entry, for looking up and for suggesting.
template <class Entry>
class Names {
  public:
    Names(std::string what, const std::vector<Entry>& entries)
        : what_(std::move(what)), entries_(entries) {}

    bool add(std::uint32_t row) { return index_.add(row, entries_[row].name, name_of()); }
    std::optional<std::uint32_t> row(std::string_view name) const {
        return index_.find(name, name_of());
    }
    bool has(std::string_view name) const { return row(name).has_value(); }

    std::string unknown(std::string_view name) { return unknown(name, what_); }
    /// `what` for what it might have been instead.
    std::string unknown(std::string_view name, std::string_view what) {
        std::vector<std::string_view> known;
        if (suggestions_++ < most_suggestions)
            for (const Entry& entry : entries_)
                known.push_back(entry.name);
        std::string_view near = nearest_word(name, known);
        if (!near.empty())
            return fmt::format("there is no {} \"{}\"; did you mean {}?", what, name, near);
        return fmt::format("there is no {} \"{}\"", what, name);
    }

  private:
    static constexpr int most_suggestions = 50; // searching among many names takes its time

    auto name_of() const {
        return [this](std::uint32_t r) -> std::string_view { return entries_[r].name; };
    }

    std::string what_;
    const std::vector<Entry>& entries_;
    NameIndex index_;
    int suggestions_ = 0;
};

class Validator {
  public:
    explicit Validator(const Complete& whole) : Validator(whole, whole.entries()) {}

  private:
    Validator(const Complete& whole, const Plan& plan)
        : whole_(whole), plan_(plan), sites_("site", plan.sites), pools_("pool", plan.pools),
          subnets_("subnet", plan.subnets), machines_("machine", plan.machines),
          filters_("filter", plan.filters), policies_("policy", plan.policies),
          switches_("switch", plan.switches), link_nics_(plan.machines.size()) {}

  public:
    std::vector<Problem> run() {
        check_lab_name();
        collect_names();
        check_pools();
        check_sites();
        for (const Subnet& subnet : plan_.subnets)
            check_subnet(subnet);
        count_link_nics();
        check_switches();
        check_outside();
        for (const Filter& filter : plan_.filters)
            check_filter(filter);
        for (const Machine& machine : plan_.machines)
            check_machine(machine);
        for (const Link& link : plan_.links)
            check_link(link);
        check_peerings();
        for (const Expectation& expectation : plan_.expectations)
            check_expectation(expectation);
        return std::move(problems_);
    }

  private:
    void problem(Mark at, std::string message) { problems_.push_back({at, std::move(message)}); }

    void check_lab_name() {
        if (plan_.lab.empty())
            problem({1, 1}, "a plan needs `lab: NAME`");
        else
            check_name(plan_.lab, {1, 1});
    }

    void check_name(std::string_view name, Mark at) {
        if (!is_name(name))
            problem(at, fmt::format("the name \"{}\" is not a host-name label: a-z, 0-9 and inner "
                                    "hyphens, at most 63 of them",
                                    name.substr(0, 80)));
    }

    template <class Entry>
    void collect(const std::vector<Entry>& entries, Names<Entry>& names) {
        for (std::uint32_t i = 0; i < entries.size(); ++i) {
            check_name(entries[i].name, entries[i].at);
            if (!names.add(i))
                problem(entries[i].at,
                        fmt::format("the name \"{}\" is taken already", entries[i].name));
        }
    }

    void collect_names() {
        collect(plan_.sites, sites_);
        collect(plan_.pools, pools_);
        collect(plan_.subnets, subnets_);
        collect(plan_.machines, machines_);
        collect(plan_.filters, filters_);
        collect(plan_.policies, policies_);
        collect(plan_.switches, switches_);
        for (const Switch& entry : plan_.switches)
            if (machines_.has(entry.name))
                problem(entry.at, fmt::format("the name \"{}\" is that of a machine", entry.name));
    }

    void count_link_nics() {
        for (const Link& link : plan_.links)
            for (const auto* end : {&link.first, &link.second})
                if (auto row = machines_.row(end->value))
                    ++link_nics_[*row];
    }

    std::size_t nic_count(const Machine& machine) const {
        return machine.nics.size()
               + link_nics_[static_cast<std::size_t>(&machine - plan_.machines.data())];
    }

    void check_pools() {
        std::vector<const Placed<net::Prefix>*> spaces;
        for (const Pool& pool : plan_.pools) {
            if (pool.name == "auto" || pool.name == "none")
                problem(pool.at, fmt::format("a pool cannot be named \"{}\"", pool.name));
            if (pool.space.empty())
                problem(pool.at, fmt::format("pool {} needs `space`", pool.name));
            for (const auto& prefix : pool.space)
                spaces.push_back(&prefix);
        }
        std::ranges::stable_sort(spaces, [](const auto* a, const auto* b) {
            return std::pair(a->value.first(), a->value.bits128())
                   < std::pair(b->value.first(), b->value.bits128());
        });
        for (std::size_t i = 1, around = 0; i < spaces.size(); ++i)
            if (spaces[around]->value.contains(spaces[i]->value))
                problem(spaces[i]->at,
                        fmt::format("{} overlaps {} of a pool", net::to_string(spaces[i]->value),
                                    net::to_string(spaces[around]->value)));
            else
                around = i;
    }

    void check_sites() {
        std::set<std::string_view> regions;
        for (const SiteRegion& region : plan_.regions) {
            check_name(region.name, region.at);
            if (!regions.insert(region.name).second)
                problem(region.at, fmt::format("the name \"{}\" is taken already", region.name));
        }
        for (const Site& site : plan_.sites) {
            check_filter_name(site.filter);
            if (!site.relay.value.empty() && !is_on(site.relay, site.name, "relay"))
                continue;
            if (site.automatic && !is_name(core_name(site.name)) && is_name(site.name))
                problem(site.at, fmt::format("the name of the core of site {} would be longer "
                                             "than 63 letters",
                                             site.name));
            if (site.automatic)
                continue;
            if (!site.routes.empty())
                problem(site.routes.front().at, no_core(site.name, "routes"));
            if (!site.filter.value.empty())
                problem(site.filter.at, no_core(site.name, "filter"));
        }
    }

    static std::string no_core(std::string_view site, std::string_view key) {
        return fmt::format("site {} has no core that `{}` would be for; write `routing: automatic`",
                           site, key);
    }

    // A machine with a NIC on the site; else a problem.
    bool is_on(const Placed<std::string>& name, std::string_view site, std::string_view what) {
        auto row = machines_.row(name.value);
        if (!row) {
            problem(name.at, machines_.unknown(name.value));
            return false;
        }
        for (const Nic& nic : plan_.machines[*row].nics)
            if (auto subnet = subnets_.row(nic.subnet.value))
                if (const auto& on = plan_.subnets[*subnet].site; on && on->value == site)
                    return true;
        problem(name.at, fmt::format("{} has no NIC on site {}, whose {} it is to be", name.value,
                                     site, what));
        return false;
    }

    // --- peerings --------------------------------------------------------------------------

    void check_peerings() {
        if (plan_.peerings.size() > most_peerings)
            return problem(plan_.peerings[most_peerings].at,
                           fmt::format("more than {} peerings", most_peerings));
        std::set<std::pair<std::string_view, std::string_view>> seen;
        for (const Peering& peering : plan_.peerings) {
            const std::string& one = peering.first.value;
            const std::string& other = peering.second.value;
            if (one.empty() || other.empty())
                continue;
            bool known = check_site(peering.first) && check_site(peering.second);
            if (one == other)
                problem(peering.second.at, fmt::format("a peering of {} with itself", one));
            else if (known && !seen.insert(std::minmax<std::string_view>(one, other)).second)
                problem(peering.at, fmt::format("{} and {} have a peering already", one, other));
            check_link_prefixes(peering.prefixes, peering.pool);
            for (int side : {0, 1})
                if (known && peering.sides[side].declared)
                    check_side(peering, side);
        }
        std::size_t implied = 0;
        for (std::size_t i = 0; i < plan_.machines.size(); ++i)
            if (const auto& routes = plan_.machines[i].routes;
                !routes.empty() && whole_.is_implied_route(i, routes.size() - 1))
                implied += routes.size();
        if (implied >= most_implied_routes)
            problem(plan_.peerings.empty() ? Mark{} : plan_.peerings.front().at,
                    fmt::format("the peerings bring more than {} routes", most_implied_routes));
    }

    bool check_site(const Placed<std::string>& name) {
        auto row = sites_.row(name.value);
        if (row && !whole_.is_outside_site(*row))
            return true;
        problem(name.at, row ? fmt::format("{} is no site of the lab", name.value)
                             : sites_.unknown(name.value));
        return false;
    }

    void check_side(const Peering& peering, int number) {
        const PeeringSide& side = peering.sides[number];
        const std::string& site = peering.site(number);
        bool automatic = plan_.sites[*sites_.row(site)].automatic;
        if (automatic && !side.border.value.empty())
            problem(side.border.at,
                    fmt::format("the core of {} is its border, as its routing is automatic", site));
        else if (automatic && !machines_.has(core_name(site)))
            problem(side.at,
                    fmt::format("site {} has no subnet, and so no core to peer with", site));
        else if (!automatic && side.border.value.empty() && side.accepts)
            problem(side.at,
                    fmt::format("name the router of {} that the peering ends at: `border`", site));
        else if (!automatic && !side.border.value.empty())
            is_on(side.border, site, "border");
    }

    void check_subnet(const Subnet& subnet) {
        if (subnet.site && !sites_.has(subnet.site->value))
            problem(subnet.site->at, sites_.unknown(subnet.site->value));
        if (!subnet.site && plan_.sites.size() > 1)
            problem(subnet.at,
                    fmt::format("subnet {} needs `site`, as there are several sites", subnet.name));
        int ways =
            (subnet.prefixes.empty() ? 0 : 1) + (subnet.hosts ? 1 : 0) + (subnet.size ? 1 : 0);
        bool both_ways = !subnet.prefixes.empty() && subnet.ipv6_size != Subnet{}.ipv6_size;
        if (ways > 1 || both_ways)
            problem(subnet.at, fmt::format("subnet {} has more than one of prefix, hosts and size",
                                           subnet.name));
        check_filter_name(subnet.filter);
        for (const auto& region : subnet.reserve)
            check_region(subnet, region);
        if (subnet.dhcp)
            check_dhcp(subnet, *subnet.dhcp);
        if (auto site = subnet.site ? sites_.row(subnet.site->value) : std::nullopt;
            !subnet.joined && !(site && plan_.sites[*site].automatic))
            problem(subnet.at, fmt::format("subnet {} has `core: false`, but its site has no core; "
                                           "that has routing: automatic",
                                           subnet.name));
        if (subnet.uplink == Uplink::bridge) {
            if (!bridge_.empty())
                problem(
                    subnet.uplink_at,
                    fmt::format("{} is the physical network already, and there is one", bridge_));
            bridge_ = subnet.name;
        }
    }

    // A range in addresses must be part of a prefix that the subnet's own entry writes.
    void check_region(const Subnet& subnet, const Placed<Region>& region) {
        const auto* range = std::get_if<net::Range>(&region.value);
        if (range == nullptr)
            return;
        if (subnet.prefixes.empty())
            return problem(region.at,
                           fmt::format("subnet {} has no `prefix` for {} to be part of; count from "
                                       "its first address instead: +10-+19",
                                       subnet.name, net::to_string(*range)));
        auto holds = [&](const Placed<net::Prefix>& prefix) {
            return prefix.value.contains(range->first) && prefix.value.contains(range->last);
        };
        if (std::ranges::none_of(subnet.prefixes, holds))
            problem(region.at, fmt::format("{} is not part of subnet {}", net::to_string(*range),
                                           subnet.name));
    }

    void check_dhcp(const Subnet& subnet, const DhcpRange& dhcp) {
        if (dhcp.range)
            check_dhcp_region(subnet, *dhcp.range);
        for (const auto& region : dhcp.exclude)
            check_dhcp_region(subnet, region);
        for (const Reservation& entry : dhcp.reservations) {
            check_dhcp_region(subnet, entry.address);
            if (const auto* name = std::get_if<std::string>(&entry.client);
                name != nullptr && !machines_.has(*name))
                problem(entry.at, machines_.unknown(*name, "MAC or machine"));
        }
        for (const auto* name : {&dhcp.server, &dhcp.relay})
            if (!name->value.empty() && !machines_.has(name->value))
                problem(name->at, machines_.unknown(name->value));
        if (!dhcp.relay.value.empty() && dhcp.server.value.empty())
            problem(dhcp.relay.at, "a relay needs to know its `server`");
        check_hosts(dhcp.dns);
    }

    void check_hosts(const std::vector<Placed<Host>>& hosts) {
        for (const auto& [host, at] : hosts)
            if (const auto* name = std::get_if<std::string>(&host);
                name != nullptr && !machines_.has(*name))
                problem(at, machines_.unknown(*name));
    }

    void check_dhcp_region(const Subnet& subnet, const Placed<Region>& region) {
        const auto* range = std::get_if<net::Range>(&region.value);
        if (range != nullptr && range->first.family() == net::Family::ipv6)
            return problem(region.at, "a DHCP range is one of IPv4 addresses (RFC 2131)");
        check_region(subnet, region);
    }

    void check_pool(const Placed<std::string>& pool) {
        if (!pool.value.empty() && !pools_.has(pool.value))
            problem(pool.at, pools_.unknown(pool.value));
    }

    void check_machine(const Machine& machine) {
        for (const Nic& nic : machine.nics)
            if (!nic.subnet.value.empty() && !subnets_.has(nic.subnet.value))
                problem(nic.subnet.at, subnets_.unknown(nic.subnet.value));
        for (const Nic& nic : machine.nics) {
            check_addresses(nic.address.given);
            if (nic.options)
                check_options(*nic.options, machine);
        }
        bool named = std::ranges::any_of(machine.nics, [](const Nic& n) { return bool(n.name); });
        if (named)
            check_nic_names(machine);
        if (machine.loopback)
            check_pool(machine.loopback->pool);
        for (const Route& route : machine.routes)
            check_route(route, machine);
        if (machine.duties) {
            check_filter_name(machine.duties->filter);
            for (const Translation& translation : machine.duties->translations)
                check_translation(translation, machine);
            if (machine.duties->protocols)
                check_protocols(*machine.duties->protocols, machine);
            check_hosts(machine.duties->dns);
            for (const auto& other : machine.duties->starts_after) {
                if (!machines_.has(other.value))
                    problem(other.at, machines_.unknown(other.value));
                else if (other.value == machine.name)
                    problem(other.at, fmt::format("{} cannot start after itself", other.value));
            }
        }
    }

    // Hosts far away stand at addresses that are nobody's (RFC 5737, RFC 3849).
    void check_outside() {
        static const std::array documentation{net::parse_prefix("192.0.2.0/24").value(),
                                              net::parse_prefix("198.51.100.0/24").value(),
                                              net::parse_prefix("203.0.113.0/24").value(),
                                              net::parse_prefix("2001:db8::/32").value()};
        std::set<net::Address> seen;
        for (const OutsideHost& host : plan_.outside.hosts) {
            if (host.addresses.empty())
                problem(host.at, fmt::format("the host {} needs `address`", host.name));
            for (const auto& [address, at] : host.addresses) {
                auto holds = [&](const net::Prefix& prefix) { return prefix.contains(address); };
                if (std::ranges::none_of(documentation, holds))
                    problem(at, fmt::format("{} may be somebody's; hosts outside stand in "
                                            "192.0.2.0/24, 198.51.100.0/24, 203.0.113.0/24 or "
                                            "2001:db8::/32",
                                            net::to_string(address)));
                else if (!seen.insert(address).second)
                    problem(at, fmt::format("{} stands here twice", net::to_string(address)));
            }
        }
    }

    // --- switches --------------------------------------------------------------------------

    void check_switches() {
        for (const Switch& entry : plan_.switches) {
            std::unordered_set<std::string_view> seen;
            for (const SwitchPort& port : entry.ports) {
                check_name(port.name, port.at);
                ports_.insert(entry.name + "/" + port.name);
                if (!seen.insert(port.name).second)
                    problem(port.at,
                            fmt::format("{} has two ports named \"{}\"", entry.name, port.name));
                const auto& segment = port.segment;
                if (!segment.value.empty() && !subnets_.has(segment.value))
                    problem(segment.at, subnets_.unknown(segment.value));
                else if (!segment.value.empty())
                    plug(entry.name + "/" + port.name, segment.at, "the segment of a subnet");
            }
        }
        for (const Cable& cable : plan_.cables) {
            if (cable.first.value == cable.second.value)
                problem(cable.second.at,
                        fmt::format("a link from {} to itself", cable.first.value));
            for (const auto* end : {&cable.first, &cable.second})
                if (check_port(*end))
                    plug(end->value, end->at, "a link");
        }
    }

    bool check_port(const Placed<std::string>& port) {
        auto [name, rest] = split_endpoint(port.value);
        auto row = switches_.row(name);
        if (!row) {
            problem(port.at, switches_.unknown(name));
            return false;
        }
        if (ports_.contains(port.value))
            return true;
        std::vector<std::string_view> known;
        if (port_suggestions_++ < most_port_suggestions)
            for (const SwitchPort& entry : plan_.switches[*row].ports)
                known.push_back(entry.name);
        std::string_view near = nearest_word(rest, known);
        problem(port.at, fmt::format("{} has no port \"{}\"{}", name, rest,
                                     near.empty() ? "" : fmt::format("; did you mean {}?", near)));
        return false;
    }

    // One thing is plugged into a port; only NICs of one machine share it, each with its VLAN.
    void plug(const std::string& port, Mark at, const std::string& what) {
        auto [known, is_new] = plugged_.emplace(port, what);
        if (!is_new && known->second != what)
            problem(at, fmt::format("{} is plugged into {} already", known->second, port));
        else if (!is_new && what == "a link")
            problem(at, fmt::format("another link is plugged into {} already", port));
    }

    void check_options(const NicOptions& options, const Machine& machine) {
        check_filter_name(options.filter);
        if (!options.port.value.empty() && check_port(options.port))
            plug(options.port.value, options.port.at, machine.name);
        if (!options.port.value.empty() && !options.bond.empty())
            problem(options.port.at, "a bond has no `port`; its members have");
        bool on_port = !options.port.value.empty();
        for (const BondMember& member : options.bond) {
            if (!member.name.empty())
                check_name(member.name, member.at);
            if (!member.port.value.empty() && check_port(member.port))
                plug(member.port.value, member.port.at, machine.name);
            on_port = on_port || !member.port.value.empty();
        }
        if (options.vlan != 0 && !on_port)
            problem(machine.at, fmt::format("a NIC of {} has `vlan`, but is on no switch port: "
                                            "nothing there knows of VLANs",
                                            machine.name));
    }

    void check_filter_name(const Placed<std::string>& name) {
        if (!name.value.empty() && !filters_.has(name.value))
            problem(name.at, filters_.unknown(name.value));
    }

    void check_filter(const Filter& filter) {
        for (const FilterRule& rule : filter.rules) {
            check_ends(rule.from);
            check_ends(rule.to);
        }
    }

    // How many addresses and prefixes an end stands for, at most.
    std::size_t size_of(const Ends& end) const {
        const auto* name = std::get_if<std::string>(&end);
        auto row = name == nullptr ? std::nullopt : machines_.row(*name);
        if (!row)
            return 2;
        const Machine& machine = plan_.machines[*row];
        std::size_t size = 2 * (nic_count(machine) + 1);
        for (const Nic& nic : machine.nics)
            size += nic.address.given.size();
        return size;
    }

    void check_ends(const std::vector<Placed<Ends>>& ends) {
        for (const auto& [value, at] : ends) {
            if (named_ > most_named)
                break;
            named_ += size_of(value);
            if (named_ > most_named)
                problem(at, fmt::format("rules and translations name more than {} addresses in all",
                                        most_named));
        }
        for (const auto& [value, at] : ends)
            if (const auto* name = std::get_if<std::string>(&value);
                name != nullptr && !machines_.has(*name) && !subnets_.has(*name))
                problem(at, machines_.unknown(*name, "machine or subnet"));
    }

    void check_translation(const Translation& translation, const Machine& machine) {
        const std::string& nic = translation.nic.value;
        if (!nic.empty() && !has_nic(machine, nic))
            problem(translation.nic.at, fmt::format("{} has no NIC \"{}\"", machine.name, nic));
        check_ends(translation.from);
        for (const auto& [value, at] : translation.from)
            if (const auto* prefix = std::get_if<net::Prefix>(&value))
                check_translated(prefix->family(), at);
        if (const auto* address = std::get_if<net::Address>(&translation.to.value)) {
            if (translation.to.at)
                check_translated(address->family(), translation.to.at);
        } else if (const auto& name = std::get<std::string>(translation.to.value);
                   !machines_.has(name)) {
            problem(translation.to.at, machines_.unknown(name));
        }
    }

    // --- routing protocols -------------------------------------------------------------------

    void check_protocols(const Protocols& told, const Machine& machine) {
        if (told.ospf)
            check_ospf(*told.ospf, machine);
        if (told.rip) {
            check_nics(told.rip->nics.names, machine);
            check_nics(told.rip->passive, machine);
            check_values(told.rip->costs, machine);
            check_redistributions(told.rip->redistribute);
        }
        if (told.bgp)
            check_bgp(*told.bgp, machine);
    }

    void check_ospf(const Ospf& ospf, const Machine& machine) {
        std::size_t alls = 0;
        for (const OspfArea& area : ospf.areas) {
            check_nics(area.nics.names, machine);
            if (area.nics.all && ++alls > 1)
                problem(area.at, "only one area can have `all`");
        }
        check_nics(ospf.passive, machine);
        check_values(ospf.costs, machine);
        check_values(ospf.hello_s, machine);
        check_values(ospf.dead_s, machine);
        check_values(ospf.priorities, machine);
        check_values(ospf.point_to_point, machine);
        check_redistributions(ospf.redistribute);
    }

    void check_bgp(const Bgp& bgp, const Machine& machine) {
        for (const auto& [network, at] : bgp.networks)
            if (const auto* name = std::get_if<std::string>(&network);
                name != nullptr && !subnets_.has(*name))
                problem(at, subnets_.unknown(*name));
        for (const BgpNeighbour& neighbour : bgp.neighbours) {
            if (const auto* name = std::get_if<std::string>(&neighbour.peer.value)) {
                if (!machines_.has(*name))
                    problem(neighbour.peer.at, machines_.unknown(*name));
                else if (*name == machine.name)
                    problem(neighbour.peer.at,
                            fmt::format("{} cannot be a neighbour of itself", *name));
            }
            if (!neighbour.from.value.empty())
                check_nics({neighbour.from}, machine);
            check_policy(neighbour.takes);
            check_policy(neighbour.gives);
        }
        check_redistributions(bgp.redistribute);
    }

    void check_redistributions(const std::vector<Redistribution>& entries) {
        for (const Redistribution& entry : entries)
            check_policy(entry.policy);
    }

    void check_policy(const Placed<std::string>& name) {
        if (!name.value.empty() && !policies_.has(name.value))
            problem(name.at, policies_.unknown(name.value));
    }

    template <class Value>
    void check_values(const std::vector<NicValue<Value>>& values, const Machine& machine) {
        for (const NicValue<Value>& entry : values)
            check_nics({entry.nic}, machine);
    }

    // A NIC goes by its name, that of its subnet, or that of the machine at a link's other end.
    void check_nics(const std::vector<Placed<std::string>>& names, const Machine& machine) {
        for (const auto& [name, at] : names) {
            auto on_subnet = [&](const Nic& nic) { return nic.subnet.value == name; };
            bool found = has_nic(machine, name) || (name == "lo" && machine.loopback)
                         || std::ranges::any_of(machine.nics, on_subnet)
                         || are_linked(machine.name, name);
            if (!found)
                problem(at, fmt::format("{} has no NIC \"{}\", nor one on a subnet or on a link to "
                                        "a machine of that name",
                                        machine.name, name));
        }
    }

    bool are_linked(const std::string& one, const std::string& other) {
        if (linked_.empty())
            for (const Link& link : plan_.links) {
                linked_.emplace(link.first.value, link.second.value);
                linked_.emplace(link.second.value, link.first.value);
            }
        return linked_.contains(std::pair<std::string_view, std::string_view>(one, other));
    }

    void check_translated(net::Family family, Mark at) {
        if (family == net::Family::ipv6)
            problem(at, "only IPv4 addresses are translated (RFC 3022)");
    }

    void check_addresses(const std::vector<Placed<GivenAddress>>& given) {
        std::set<net::Address> seen;
        for (const auto& [value, at] : given)
            if (!seen.insert(value.address).second)
                problem(at, fmt::format("{} stands here twice", net::to_string(value.address)));
    }

    void check_nic_names(const Machine& machine) {
        std::unordered_set<std::string> seen;
        for (std::size_t i = 0; i < nic_count(machine); ++i) {
            std::string name = nic_name(machine, i);
            Mark at = i < machine.nics.size() ? machine.nics[i].at : machine.at;
            check_name(name, at);
            if (name == "lo" || name == "all" || name == "default")
                problem(at, fmt::format("a NIC cannot be named \"{}\": Linux uses the name", name));
            if (name.size() > 15)
                problem(at, fmt::format("the NIC name \"{}\" is longer than 15 letters", name));
            if (!seen.insert(name).second)
                problem(at, fmt::format("{} has two NICs named \"{}\"", machine.name, name));
        }
    }

    bool has_nic(const Machine& machine, std::string_view name) const {
        if (name == "lo" && machine.loopback)
            return true;
        for (std::size_t i = 0; i < nic_count(machine); ++i)
            if (nic_name(machine, i) == name)
                return true;
        return false;
    }

    void check_route(const Route& route, const Machine& machine) {
        if (const auto* to = std::get_if<std::string>(&route.to.value);
            to != nullptr && !to->empty() && !subnets_.has(*to))
            problem(route.to.at, subnets_.unknown(*to));
        if (const auto* via = std::get_if<std::string>(&route.via.value);
            via != nullptr && !via->empty() && !machines_.has(*via))
            problem(route.via.at, machines_.unknown(*via));
        if (route.nic && !has_nic(machine, route.nic->value))
            problem(route.nic->at,
                    fmt::format("{} has no NIC \"{}\"", machine.name, route.nic->value));
        const auto* to = std::get_if<net::Prefix>(&route.to.value);
        const auto* via = std::get_if<net::Address>(&route.via.value);
        if (to != nullptr && via != nullptr && to->family() != via->family())
            problem(route.via.at,
                    fmt::format("an {} prefix cannot go via an {} address",
                                net::to_string(to->family()), net::to_string(via->family())));
    }

    void check_link(const Link& link) {
        for (const auto* end : {&link.first, &link.second})
            if (!end->value.empty() && !machines_.has(end->value))
                problem(end->at, machines_.unknown(end->value));
        if (!link.first.value.empty() && link.first.value == link.second.value)
            problem(link.second.at, fmt::format("a link from {} to itself", link.first.value));
        check_link_prefixes(link.prefixes, link.pool);
        if (link.tunnel)
            check_tunnel(link);
    }

    void check_link_prefixes(const std::vector<Placed<net::Prefix>>& prefixes,
                             const Placed<std::string>& pool) {
        check_pool(pool);
        if (!pool.value.empty() && !prefixes.empty())
            problem(pool.at, "a link with a `prefix` takes none from a pool");
        for (const auto& prefix : prefixes)
            if (prefix.value.usable() < 2)
                problem(prefix.at, fmt::format("{} has no two addresses for a link",
                                               net::to_string(prefix.value)));
    }

    void check_tunnel(const Link& link) {
        for (int end : {0, 1}) {
            const std::string& name = (end == 0 ? link.first : link.second).value;
            const auto& [nic, at] = link.tunnel->over[end];
            auto row = machines_.row(name);
            if (row && !nic.empty() && !has_nic(plan_.machines[*row], nic))
                problem(at, fmt::format("{} has no NIC \"{}\"", name, nic));
        }
    }

    void check_expectation(const Expectation& expectation) {
        check_endpoint(expectation.from, false);
        check_endpoint(expectation.to, true);
        const std::string& gets = expectation.gets.value;
        std::vector<std::string_view> known = {"reply", "no-reply"};
        if (expectation.service)
            known = {"open", "closed"};
        std::string words = fmt::format("{}", fmt::join(known, ", "));
        if (std::ranges::find(known, gets) != known.end() || cause_from_slug(gets))
            return;
        for (const CauseText& text : all_causes())
            known.push_back(text.slug);
        std::string_view near = nearest_word(gets, known);
        problem(expectation.gets.at,
                fmt::format("\"{}\" is no outcome; {}", gets,
                            near.empty() ? fmt::format("write {} or the slug of a cause", words)
                                         : fmt::format("did you mean {}?", near)));
    }

    void check_endpoint(const Placed<std::string>& end, bool address_allowed) {
        auto [name, nic] = split_endpoint(end.value);
        if (name.empty() || (address_allowed && net::parse_address(end.value)))
            return;
        if (!nic.empty()) {
            check_nic_endpoint(end.at, name, nic);
        } else if (!machines_.has(name) && !subnets_.has(name) && !sites_.has(name)) {
            problem(end.at, machines_.unknown(name, "machine, subnet or site"));
        }
    }

    void check_nic_endpoint(Mark at, std::string_view name, std::string_view nic) {
        auto row = machines_.row(name);
        if (!row)
            return problem(at, machines_.unknown(name));
        if (!has_nic(plan_.machines[*row], nic))
            problem(at, fmt::format("{} has no NIC \"{}\"", name, nic));
    }

    static constexpr std::size_t most_named = 2'000'000;

    const Complete& whole_;
    const Plan& plan_;
    std::vector<Problem> problems_;
    std::string bridge_;    // the subnet that is the physical network
    std::size_t named_ = 0; // addresses, by rules and translations so far
    Names<Site> sites_;
    Names<Pool> pools_;
    Names<Subnet> subnets_;
    Names<Machine> machines_;
    Names<Filter> filters_;
    Names<Policy> policies_;
    std::set<std::pair<std::string_view, std::string_view>> linked_; // machines, both ways round
    Names<Switch> switches_;
    static constexpr int most_port_suggestions = 50; // searching among many takes its time
    int port_suggestions_ = 0;
    std::unordered_set<std::string> ports_;                // `SWITCH/PORT`
    std::unordered_map<std::string, std::string> plugged_; // by port: what
    std::vector<std::size_t> link_nics_;                   // by machine: NICs that links add
};

} // namespace

std::vector<Problem> problems_of(const Complete& plan) {
    return Validator(plan).run();
}

std::pair<std::string_view, std::string_view> split_endpoint(std::string_view text) {
    std::size_t slash = text.find('/');
    if (slash == text.npos)
        return {text, {}};
    return {text.substr(0, slash), text.substr(slash + 1)};
}

std::string nic_name(const Machine& machine, std::size_t position) {
    if (position < machine.nics.size() && machine.nics[position].name)
        return *machine.nics[position].name;
    return fmt::format("eth{}", position);
}

} // namespace jackal::plan
