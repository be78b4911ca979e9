#include "jackal/lab/build.h"

#include "jackal/plan/edit.h"
#include "jackal/plan/sites.h"
#include "jackal/plan/validate.h"
#include "lab/address/allocate.h"
#include "lab/address/assign.h"
#include "protocols.h"

#include <algorithm>
#include <fmt/format.h>
#include <map>

namespace jackal::lab {

namespace {

constexpr std::uint16_t ethernet_mtu_bytes = 1500; // RFC 894

class Builder {
  public:
    explicit Builder(const plan::Complete& plan) : whole_(plan), plan_(plan.entries()) {
        index_names(plan_.sites, lab_.site_index);
        index_names(plan_.subnets, lab_.subnet_index);
        index_names(plan_.machines, lab_.machine_index);
        index_names(plan_.filters, filter_index_);
    }

    Lab run() {
        lab_.name = plan_.lab;
        lab_.source = plan_.source;
        lab_.expectations = plan_.expectations;
        Allocation allocation = choose_prefixes();
        lab_.unplaced = std::move(allocation.unplaced);
        add_sites(allocation);
        add_subnets(allocation);
        add_totals();
        add_machines();
        add_links(allocation);
        add_peerings();
        add_loopbacks(allocation);
        add_switches();
        add_plugs();
        separate_macs();
        mark_shared_macs();
        add_starts_after();
        assign_addresses(whole_, lab_);
        lay_tunnels();
        index_owners();
        add_filters();
        add_guards();
        add_duties();
        add_speakers(plan_, lab_);
        add_routes();
        shrink();
        return std::move(lab_);
    }

    Reasons reasons() {
        Allocation allocation = choose_prefixes();
        auto reasons_of = [](const std::vector<PerFamily<Choice>>& choices) {
            std::vector<PerFamily<Reason>> result;
            for (const PerFamily<Choice>& choice : choices)
                result.push_back({choice.ipv4.reason, choice.ipv6.reason});
            return result;
        };
        return {reasons_of(allocation.subnets), reasons_of(allocation.links),
                reasons_of(allocation.loopbacks)};
    }

  private:
    // --- names: rows of sites, subnets and machines have the numbers of the plan's entries ---

    template <class Entry>
    static void index_names(const std::vector<Entry>& entries, plan::NameIndex& index) {
        for (std::uint32_t i = 0; i < entries.size(); ++i)
            index.add(i, entries[i].name, name_in(entries));
    }

    template <class Entry>
    static auto name_in(const std::vector<Entry>& entries) {
        return [&entries](std::uint32_t i) -> std::string_view { return entries[i].name; };
    }

    SiteId site_named(std::string_view name) const {
        return {lab_.site_index.find(name, name_in(plan_.sites)).value()};
    }
    SubnetId subnet_named(std::string_view name) const {
        return {lab_.subnet_index.find(name, name_in(plan_.subnets)).value()};
    }
    MachineId machine_named(std::string_view name) const {
        return {lab_.machine_index.find(name, name_in(plan_.machines)).value()};
    }

    // --- sites and segments ----------------------------------------------------------------

    // A machine stands on the site of its first subnet, a link on that of its first end that has
    // one.
    Allocation choose_prefixes() const {
        std::vector<SiteId> of_subnets;
        for (const plan::Subnet& subnet : plan_.subnets)
            of_subnets.push_back(subnet.site ? site_named(subnet.site->value) : SiteId{0});
        std::vector<SiteId> of_machines;
        for (const plan::Machine& machine : plan_.machines)
            of_machines.push_back(
                machine.nics.empty()
                    ? SiteId{0}
                    : of_subnets[subnet_named(machine.nics.front().subnet.value).row]);
        std::vector<SiteId> of_links;
        for (const plan::Link& link : plan_.links) {
            MachineId first = machine_named(link.first.value);
            MachineId second = machine_named(link.second.value);
            of_links.push_back(
                of_machines[plan_.machines[first.row].nics.empty() ? second.row : first.row]);
        }
        return allocate(plan_, of_subnets, of_links, of_machines);
    }

    void add_sites(Allocation& allocation) {
        for (const plan::Pool& pool : plan_.pools) {
            Pool row{.name = pool.name, .space = {}};
            for (const auto& prefix : pool.space)
                row.space.push_back(prefix.value);
            lab_.pools.add(std::move(row));
        }
        for (const auto& prefix : plan_.outside.lan)
            lab_.outside_lan.push_back(prefix.value);
        for (std::size_t i = 0; i < allocation.spaces.size(); ++i) {
            Site row;
            row.space = std::move(allocation.spaces[i]);
            row.space_chosen = true;
            if (i < plan_.sites.size()) {
                row.name = plan_.sites[i].name;
                row.space_chosen = plan_.sites[i].space.empty();
                row.outside = whole_.is_outside_site(i);
                row.at = plan_.sites[i].at;
            }
            lab_.sites.add(std::move(row));
        }
    }

    static PerFamily<std::optional<net::Prefix>> prefixes_in(const PerFamily<Choice>& choice) {
        return {choice.ipv4.prefix, choice.ipv6.prefix};
    }

    void add_subnets(const Allocation& allocation) {
        for (std::uint32_t i = 0; i < plan_.subnets.size(); ++i) {
            const plan::Subnet& subnet = plan_.subnets[i];
            Subnet row{.name = subnet.name,
                       .site = subnet.site ? site_named(subnet.site->value) : SiteId{0},
                       .segment = {},
                       .gateway = {},
                       .gateway_kind = subnet.gateway.kind,
                       .gateway_written = subnet.gateway.written,
                       .prefix_written = !subnet.prefixes.empty(),
                       .gateway_at = subnet.gateway.at,
                       .reserved = {},
                       .dhcp = {},
                       .hosts = subnet.hosts ? subnet.hosts->value : 0,
                       .at = subnet.at,
                       .plan_index = i,
                       .vlan = subnet.vlan,
                       .uplink = subnet.uplink,
                       .static_only = subnet.static_only,
                       .outside = whole_.is_outside_subnet(i)};
            for (net::Family family : net::both_families)
                row.gateway[family] =
                    gateway_of(subnet, allocation.subnets[i][family].prefix, family);
            row.segment = lab_.segments.add({.subnet = SubnetId{i},
                                             .link = {},
                                             .loopback = {},
                                             .prefix = prefixes_in(allocation.subnets[i]),
                                             .nics = {}});
            lab_.subnets.add(std::move(row));
        }
    }

    static std::optional<net::Address> gateway_of(const plan::Subnet& subnet,
                                                  const std::optional<net::Prefix>& prefix,
                                                  net::Family family) {
        using Kind = plan::SubnetGateway::Kind;
        if (subnet.gateway.kind == Kind::given) {
            for (const auto& address : subnet.gateway.given)
                if (address.value.family() == family)
                    return address.value;
            return std::nullopt;
        }
        if (!prefix || subnet.gateway.kind == Kind::none)
            return std::nullopt;
        return subnet.gateway.kind == Kind::first ? prefix->first_usable() : prefix->last_usable();
    }

    void add_totals() {
        lab_.limits = plan_.limits;
        for (std::size_t i = 0; i < plan_.machines.size(); ++i) {
            if (whole_.is_outside(i) || whole_.is_core(i))
                continue;
            const plan::Machine& machine = plan_.machines[i];
            SiteId site{0};
            if (!machine.nics.empty())
                site = lab_.subnets[subnet_named(machine.nics.front().subnet.value)].site;
            Totals& totals = lab_.sites[site].totals;
            ++totals.machines;
            totals.cpus += machine.sizes.cpus;
            totals.memory_mib += machine.sizes.memory_mib;
            totals.disk_mib += machine.sizes.disk_mib;
        }
    }

    // --- machines and NICs -----------------------------------------------------------------

    // Rows of machines and of all their NICs; link NICs come after those written at a machine.
    void add_machines() {
        std::vector<std::vector<std::uint32_t>> links_of(plan_.machines.size());
        for (std::uint32_t i = 0; i < plan_.links.size(); ++i) {
            links_of[machine_named(plan_.links[i].first.value).row].push_back(i);
            links_of[machine_named(plan_.links[i].second.value).row].push_back(i);
        }
        link_nics_.resize(plan_.links.size());
        for (std::uint32_t i = 0; i < plan_.machines.size(); ++i) {
            const plan::Machine& machine = plan_.machines[i];
            MachineId id = lab_.machines.add(
                {.name = machine.name,
                 .sizes = machine.sizes,
                 .kind = machine.kind,
                 .forwards = machine.does_forward(),
                 .up = machine.up,
                 .outside = whole_.is_outside(i),
                 .is_core = whole_.is_core(i),
                 .first_nic = NicId{static_cast<std::uint32_t>(lab_.nics.size())},
                 .nic_count = static_cast<std::uint32_t>(machine.nics.size() + links_of[i].size()
                                                         + (machine.loopback ? 1 : 0)),
                 .first_route = {},
                 .route_count = 0,
                 .duties = {},
                 .at = machine.at,
                 .plan_index = i});
            for (std::uint32_t n = 0; n < machine.nics.size(); ++n)
                add_subnet_nic(id, machine, n);
            auto position = static_cast<std::uint32_t>(machine.nics.size());
            for (std::uint32_t link : links_of[i])
                add_link_nic(id, machine, position++, link);
            if (machine.loopback)
                lab_.nics.add({.machine = id,
                               .segment = {},
                               .name = "lo",
                               .mac = {},
                               .up = true,
                               .mtu_bytes = 65535, // what Linux has, as far as IPv4 can tell
                               .first_address = {},
                               .address_count = 0,
                               .guard = {},
                               .at = machine.loopback->at,
                               .plan_index = position});
        }
    }

    void add_subnet_nic(MachineId id, const plan::Machine& machine, std::uint32_t n) {
        const plan::Nic& nic = machine.nics[n];
        SubnetId subnet = subnet_named(nic.subnet.value);
        Nic row{.machine = id,
                .segment = lab_.subnets[subnet].segment,
                .name = plan::nic_name(machine, n),
                .mac = {},
                .up = nic.up,
                .mtu_bytes = nic.mtu_bytes.value_or(ethernet_mtu_bytes),
                .first_address = {},
                .address_count = 0,
                .guard = {},
                .at = nic.at,
                .plan_index = n};
        row.mac = nic.mac.value_or(net::mac_from_names(machine.name, row.name));
        SegmentId segment = row.segment;
        lab_.segments[segment].nics.push_back(lab_.nics.add(std::move(row)));
    }

    void add_link_nic(MachineId id, const plan::Machine& machine, std::uint32_t n,
                      std::uint32_t link) {
        const plan::Link& entry = plan_.links[link];
        std::string name = plan::nic_name(machine, n);
        net::Mac mac = net::mac_from_names(machine.name, name);
        NicId nic = lab_.nics.add({.machine = id,
                                   .segment = {},
                                   .name = std::move(name),
                                   .mac = mac,
                                   .up = true,
                                   .mtu_bytes = entry.mtu_bytes.value_or(ethernet_mtu_bytes),
                                   .first_address = {},
                                   .address_count = 0,
                                   .guard = {},
                                   .at = entry.at,
                                   .plan_index = n});
        bool is_first = machine_named(entry.first.value) == id;
        (is_first ? link_nics_[link].first : link_nics_[link].second) = nic;
    }

    void add_links(const Allocation& allocation) {
        for (std::uint32_t i = 0; i < plan_.links.size(); ++i) {
            const plan::Link& link = plan_.links[i];
            auto [first, second] = link_nics_[i];
            SegmentId segment =
                lab_.segments.add({.subnet = {},
                                   .link = LinkId{i},
                                   .loopback = {},
                                   .prefix = prefixes_in(allocation.links[i]),
                                   .nics = {std::min(first, second), std::max(first, second)}});
            lab_.nics[first].segment = segment;
            lab_.nics[second].segment = segment;
            lab_.links.add({.first = first,
                            .second = second,
                            .segment = segment,
                            .peering = peering_of(i),
                            .delay = link.delay,
                            .jitter = link.jitter,
                            .loss = link.loss,
                            .outer = {},
                            .up = link.up,
                            .is_tunnel = bool(link.tunnel),
                            .at = link.at});
        }
    }

    PeeringId peering_of(std::uint32_t link) const {
        auto peering = whole_.peering_of(link);
        return peering ? PeeringId{*peering} : PeeringId{};
    }

    void add_peerings() {
        for (std::uint32_t i = 0; i < plan_.peerings.size(); ++i) {
            const plan::Peering& peering = plan_.peerings[i];
            Peering row{
                .sites = {site_named(peering.first.value), site_named(peering.second.value)},
                .sides = {peering.sides[0], peering.sides[1]},
                .state = plan::state_of(plan_, peering),
                .overlaps = {},
                .link = {},
                .at = peering.at,
                .plan_index = i};
            if (row.state == plan::PeeringState::blocked)
                row.overlaps = plan::overlaps(plan_, peering);
            const plan::Site& one = plan_.sites[row.sites[0].row];
            const plan::Site& other = plan_.sites[row.sites[1].row];
            plan::Distance regions = plan::distance(plan_, one, other);
            row.delay = peering.delay.value_or(*regions.delay);
            row.hourly_cost = peering.hourly_cost.value_or(*regions.peering_cost);
            row.within_region = one.region == other.region;
            lab_.peerings.add(std::move(row));
        }
        for (LinkId id : lab_.links.ids()) // that of the borders comes first
            if (PeeringId peering = lab_.links[id].peering; peering && !lab_.peerings[peering].link)
                lab_.peerings[peering].link = id;
        for (SiteId id : lab_.sites.ids()) {
            if (id.row >= plan_.sites.size())
                continue;
            const plan::Site& site = plan_.sites[id.row];
            if (!site.relay.value.empty())
                lab_.sites[id].relay = machine_named(site.relay.value);
            if (site.automatic)
                if (auto core = lab_.machine_index.find(plan::core_name(site.name),
                                                        name_in(plan_.machines)))
                    lab_.sites[id].core = MachineId{*core};
        }
    }

    // The outer addresses of tunnels, and what their NICs carry if the plan does not say.
    void lay_tunnels() {
        for (LinkId id : lab_.links.ids()) {
            Link& link = lab_.links[id];
            if (!link.is_tunnel)
                continue;
            const plan::Tunnel& tunnel = *plan_.links[id.row].tunnel;
            for (net::Family family : net::both_families) {
                NicId first = outer_nic(link.first, tunnel.over[0].value, family);
                NicId second = outer_nic(link.second, tunnel.over[1].value, family);
                if (!first || !second)
                    continue;
                link.outer = std::array{lab_.first_address(first, family)->address,
                                        lab_.first_address(second, family)->address};
                if (!plan_.links[id.row].mtu_bytes)
                    for (auto [nic, under] : {std::pair{link.first, first}, {link.second, second}})
                        lab_.nics[nic].mtu_bytes = inner_mtu(lab_.nics[under].mtu_bytes, family);
                break;
            }
        }
    }

    static std::uint16_t inner_mtu(std::uint16_t outer, net::Family family) {
        constexpr unsigned least = 68; // RFC 791
        unsigned overhead = tunnel_overhead_bytes(family);
        return static_cast<std::uint16_t>(outer > least + overhead ? outer - overhead : least);
    }

    // The NIC that a tunnel's outer packets leave by: the one named, or the first with an address
    // that is no tunnel itself.
    NicId outer_nic(NicId inner, const std::string& name, net::Family family) const {
        for (NicId nic : lab_.nics_of(lab_.nics[inner].machine)) {
            LinkId link = lab_.segments[lab_.nics[nic].segment].link;
            bool is_meant = name.empty() ? !(link && lab_.links[link].is_tunnel)
                                         : lab_.nics[nic].name == name && nic != inner;
            if (is_meant && lab_.first_address(nic, family) != nullptr)
                return nic;
        }
        return {};
    }

    void add_loopbacks(const Allocation& allocation) {
        for (NicId id : lab_.nics.ids())
            if (Nic& nic = lab_.nics[id]; nic.is_loopback())
                nic.segment =
                    lab_.segments.add({.subnet = {},
                                       .link = {},
                                       .loopback = nic.machine,
                                       .prefix = prefixes_in(allocation.loopbacks[nic.machine.row]),
                                       .nics = {id}});
    }

    // --- switches --------------------------------------------------------------------------

    void add_switches() {
        for (const plan::Switch& entry : plan_.switches) {
            SwitchId owner =
                lab_.switches.add({.name = entry.name, .up = entry.up, .at = entry.at});
            for (const plan::SwitchPort& port : entry.ports) {
                Port row{.owner = owner,
                         .name = port.name,
                         .is_trunk = port.is_trunk,
                         .up = port.up,
                         .untagged = port.untagged,
                         .tagged = port.tagged,
                         .segment = {},
                         .at = port.at};
                if (!port.segment.value.empty())
                    row.segment = lab_.subnets[subnet_named(port.segment.value)].segment;
                ports_.emplace(entry.name + "/" + port.name, lab_.ports.add(std::move(row)));
            }
        }
        for (const plan::Cable& cable : plan_.cables)
            lab_.cables.add(
                {ports_.at(cable.first.value), ports_.at(cable.second.value), cable.up, cable.at});
    }

    PortId port_named(const std::string& name) const {
        return name.empty() ? PortId{} : ports_.at(name);
    }

    void add_plugs() {
        for (NicId id : lab_.nics.ids()) {
            const auto& nics = plan_.machines[lab_.nics[id].machine.row].nics;
            if (lab_.nics[id].plan_index >= nics.size())
                continue;
            const plan::Nic& nic = nics[lab_.nics[id].plan_index];
            if (!nic.options)
                continue;
            const plan::NicOptions& options = *nic.options;
            if (!options.port.value.empty())
                lab_.plugs.push_back({.nic = id,
                                      .port = port_named(options.port.value),
                                      .vlan = options.vlan,
                                      .member = {},
                                      .at = options.port.at});
            for (std::size_t i = 0; i < options.bond.size(); ++i) {
                const plan::BondMember& member = options.bond[i];
                lab_.plugs.push_back(
                    {.nic = id,
                     .port = port_named(member.port.value),
                     .vlan = options.vlan,
                     .member = member.name.empty() ? fmt::format("wire{}", i) : member.name,
                     .up = member.up,
                     .at = member.at});
            }
        }
    }

    // Two names can hash to one MAC, and a written MAC can be the hash of another NIC's name: then
    // NICs without a written one get the hash of a longer name, but for the first if none is.
    void separate_macs() {
        std::vector<std::pair<net::Mac, NicId>> macs;
        macs.reserve(lab_.nics.size());
        for (NicId id : lab_.nics.ids())
            if (!lab_.nics[id].is_loopback())
                macs.emplace_back(lab_.nics[id].mac, id);
        bool changed = true;
        while (changed) {
            changed = false;
            std::ranges::sort(macs);
            for (auto first = macs.begin(); first != macs.end();) {
                auto last = std::find_if(first, macs.end(), [&](const auto& entry) {
                    return entry.first != first->first;
                });
                changed |= last - first > 1 && separate(std::span(first, last));
                first = last;
            }
        }
    }

    void mark_shared_macs() {
        std::vector<std::pair<SegmentId, net::Mac>> written;
        // Switches may join segments, so there it counts on all of them.
        auto key = [&](NicId id) {
            return std::pair(lab_.has_wiring() ? SegmentId{} : lab_.nics[id].segment,
                             lab_.nics[id].mac);
        };
        for (NicId id : lab_.nics.ids())
            if (has_written_mac(id))
                written.push_back(key(id));
        std::ranges::sort(written);
        for (NicId id : lab_.nics.ids())
            if (has_written_mac(id))
                lab_.nics[id].shares_mac = std::ranges::equal_range(written, key(id)).size() > 1;
    }

    // Among NICs of one MAC; false if nothing can be changed.
    bool separate(std::span<std::pair<net::Mac, NicId>> same) {
        bool keep_first = std::ranges::none_of(
            same, [&](const auto& entry) { return has_written_mac(entry.second); });
        bool changed = false;
        for (auto& [mac, id] : same.subspan(keep_first ? 1 : 0)) {
            if (has_written_mac(id))
                continue;
            Nic& nic = lab_.nics[id];
            nic.mac = net::mac_from_names(lab_.machines[nic.machine].name,
                                          fmt::format("{}/{}", nic.name, mac.bits));
            mac = nic.mac;
            changed = true;
        }
        return changed;
    }

    bool has_written_mac(NicId id) const {
        const Nic& nic = lab_.nics[id];
        const auto& nics = plan_.machines[nic.machine.row].nics;
        return nic.plan_index < nics.size() && nics[nic.plan_index].mac;
    }

    // --- who has which address -----------------------------------------------------------------

    void index_owners() {
        lab_.owners.reserve(lab_.addresses.size());
        for (const InterfaceAddress& row : lab_.addresses)
            lab_.owners.push_back({row.address, row.nic, lab_.nics[row.nic].machine});
        add_anycast_owners();
        std::ranges::sort(lab_.owners, [](const Owner& a, const Owner& b) {
            return std::pair(a.address, a.nic) < std::pair(b.address, b.nic);
        });
    }

    static bool is_anycast(const InterfaceAddress& row) {
        constexpr int longest = 126; // RFC 6164 section 6: not on links of two
        return row.address.family() == net::Family::ipv6 && row.length <= longest
               && row.prefix().is_network_address(row.address);
    }

    void add_anycast_owners() {
        std::vector<net::Address> anycast; // whatever may be asked for, or sent by way of
        for (const InterfaceAddress& row : lab_.addresses) // also /127 and /128, inside others
            if (row.address.family() == net::Family::ipv6 && row.prefix().first() == row.address)
                anycast.push_back(row.address);
        for (const plan::Machine& machine : plan_.machines) {
            for (const plan::Route& route : machine.routes)
                if (const auto* via = std::get_if<net::Address>(&route.via.value);
                    via != nullptr && via->family() == net::Family::ipv6)
                    anycast.push_back(*via);
            if (machine.gateway)
                for (const auto& given : machine.gateway->given)
                    if (given.value.family() == net::Family::ipv6)
                        anycast.push_back(given.value);
        }
        if (anycast.empty())
            return;
        std::ranges::sort(anycast);
        for (const InterfaceAddress& row : lab_.addresses) {
            MachineId machine = lab_.nics[row.nic].machine;
            InterfaceAddress first = row;
            first.address = row.prefix().first();
            if (lab_.machines[machine].forwards && first.address != row.address && is_anycast(first)
                && std::ranges::binary_search(anycast, first.address))
                lab_.owners.push_back({first.address, row.nic, machine});
        }
    }

    // --- filters and duties ----------------------------------------------------------------

    // The prefixes of a subnet, or the addresses of a machine.
    std::vector<net::Prefix> prefixes_of(const plan::Ends& ends) const {
        if (const auto* prefix = std::get_if<net::Prefix>(&ends))
            return {*prefix};
        const auto& name = std::get<std::string>(ends);
        std::vector<net::Prefix> prefixes;
        if (lab_.machine_index.find(name, name_in(plan_.machines))) {
            for (NicId nic : lab_.nics_of(machine_named(name)))
                for (AddressId id : lab_.addresses_of(nic)) {
                    net::Address address = lab_.addresses[id].address;
                    prefixes.emplace_back(address, net::address_bits(address.family()));
                }
            return prefixes;
        }
        const Segment& segment = lab_.segments[lab_.subnets[subnet_named(name)].segment];
        for (net::Family family : net::both_families)
            if (const auto& prefix = segment.prefix[family])
                prefixes.push_back(*prefix);
        return prefixes;
    }

    std::vector<net::Prefix> prefixes_of(const std::vector<plan::Placed<plan::Ends>>& ends) const {
        std::vector<net::Prefix> all;
        for (const auto& end : ends) {
            std::vector<net::Prefix> some = prefixes_of(end.value);
            all.insert(all.end(), some.begin(), some.end());
        }
        return all;
    }

    void add_filters() {
        std::size_t entries_left = RuleIndex::most_entries;
        for (std::uint32_t i = 0; i < plan_.filters.size(); ++i) {
            const plan::Filter& filter = plan_.filters[i];
            Filter row{.name = filter.name,
                       .allows = filter.allows,
                       .rules = {},
                       .index = {},
                       .at = filter.at,
                       .default_at = filter.default_at,
                       .plan_index = i};
            for (const plan::FilterRule& rule : filter.rules)
                row.rules.push_back({.allows = rule.allows,
                                     .way = rule.way,
                                     .protocol = rule.protocol,
                                     .from = prefixes_of(rule.from),
                                     .to = prefixes_of(rule.to),
                                     .any_from = rule.from.empty(),
                                     .any_to = rule.to.empty(),
                                     .ports = rule.ports,
                                     .at = rule.at});
            row.index = RuleIndex(row.rules, entries_left);
            lab_.filters.add(std::move(row));
        }
    }

    // None for the empty name of what has no filter.
    FilterId filter_named(std::string_view name) const {
        auto row = filter_index_.find(name, name_in(plan_.filters));
        return row ? FilterId{*row} : FilterId{};
    }

    void add_guards() {
        if (plan_.filters.empty())
            return;
        std::map<Guard, GuardId> known;
        for (NicId id : lab_.nics.ids()) {
            Nic& nic = lab_.nics[id];
            const plan::Machine& machine = plan_.machines[nic.machine.row];
            if (nic.plan_index >= machine.nics.size()) // of a link, or the loopback
                continue;
            const plan::Nic& entry = machine.nics[nic.plan_index];
            Guard guard;
            if (machine.kind == plan::MachineKind::guest)
                guard.subnet =
                    filter_named(plan_.subnets[subnet_named(entry.subnet.value).row].filter.value);
            if (entry.options)
                guard.nic = filter_named(entry.options->filter.value);
            if (guard == Guard{})
                continue;
            auto [row, is_new] = known.emplace(guard, GuardId{});
            if (is_new)
                row->second = lab_.guards.add(guard);
            nic.guard = row->second;
        }
    }

    void add_starts_after() {
        for (MachineId id : lab_.machines.ids())
            if (const auto& duties = plan_.machines[id.row].duties)
                for (const auto& other : duties->starts_after)
                    lab_.starts_after.emplace_back(id, machine_named(other.value));
    }

    void add_duties() {
        const plan::Duties none;
        for (MachineId id : lab_.machines.ids()) {
            const auto& written = plan_.machines[id.row].duties;
            const plan::Duties& duties = written ? *written : none;
            Duties row{.filter = filter_named(duties.filter.value),
                       .translations = {},
                       .listens = {},
                       .dns = name_servers(id)};
            if (!row.filter && duties.translations.empty() && duties.listens.empty()
                && row.dns.empty())
                continue;
            for (const plan::Translation& entry : duties.translations) {
                row.translations.push_back({.kind = entry.kind,
                                            .nic = *lab_.nic(id, entry.nic.value),
                                            .any_source = entry.from.empty(),
                                            .from = prefixes_of(entry.from),
                                            .protocol = entry.protocol,
                                            .port = entry.port,
                                            .to = translated_to(id, entry),
                                            .to_port = entry.to_port,
                                            .at = entry.at});
                std::erase_if(row.translations.back().from, [](const net::Prefix& prefix) {
                    return prefix.family() == net::Family::ipv6;
                });
            }
            for (const auto& service : duties.listens)
                row.listens.push_back(service.value);
            lab_.machines[id].duties = lab_.duties.add(std::move(row));
        }
    }

    std::vector<net::Address> name_servers(MachineId id) const {
        std::vector<net::Address> servers;
        if (const auto& duties = plan_.machines[id.row].duties)
            for (const auto& server : duties->dns)
                if (auto address = address_of(id, server.value))
                    servers.push_back(*address);
        if (!lab_.leases.empty())
            for (NicId nic : lab_.nics_of(id))
                if (const Lease* lease = lab_.lease_of(nic))
                    servers.insert(servers.end(), lease->dns.begin(), lease->dns.end());
        return servers;
    }

    // The named machine's first IPv4 address, best one on a segment that both share.
    std::optional<net::Address> translated_to(MachineId own, const plan::Translation& entry) const {
        if (entry.kind == plan::Translation::Kind::source)
            return std::nullopt;
        return address_of(own, entry.to.value);
    }

    std::optional<net::Address> address_of(MachineId own, const plan::Host& host) const {
        if (const auto* address = std::get_if<net::Address>(&host))
            return *address;
        const InterfaceAddress* found = nullptr;
        for (NicId nic : lab_.nics_of(machine_named(std::get<std::string>(host)))) {
            const InterfaceAddress* row = lab_.first_address(nic, net::Family::ipv4);
            bool shared = false;
            for (NicId other : lab_.nics_of(own))
                shared |= lab_.nics[other].segment == lab_.nics[nic].segment;
            if (row != nullptr && (found == nullptr || shared))
                found = row;
            if (row != nullptr && shared)
                break;
        }
        if (found == nullptr)
            return std::nullopt;
        return found->address;
    }

    // --- routes ----------------------------------------------------------------------------

    void add_routes() {
        for (MachineId id : lab_.machines.ids()) {
            lab_.machines[id].first_route = RouteId{static_cast<std::uint32_t>(lab_.routes.size())};
            const plan::Machine& machine = plan_.machines[id.row];
            for (std::uint32_t i = 0; i < machine.routes.size(); ++i)
                add_written_route(id, machine.routes[i], i);
            add_gateway_routes(id, machine);
            lab_.machines[id].route_count =
                static_cast<std::uint32_t>(lab_.routes.size()) - lab_.machines[id].first_route.row;
        }
    }

    void add_written_route(MachineId id, const plan::Route& route, std::uint32_t index) {
        bool resolved = false;
        std::vector<net::Prefix> prefixes = prefixes_of(route.to.value);
        for (const net::Prefix& to : prefixes) {
            auto via = next_hop_of(id, route, to.family());
            if (!via)
                continue;
            resolved = true;
            lab_.routes.add({.to = to,
                             .via = *via,
                             .metric = metric_in(to.family(), route.metric),
                             .origin = origin_of(id, route, index),
                             .plan_index = index,
                             .at = route.at});
        }
        bool implied = whole_.is_implied_route(id.row, index);
        if (!resolved && !implied)
            lab_.unresolved_routes.push_back(
                {id, index, prefixes, plan::to_string(route.via.value), route.via.at});
    }

    RouteOrigin origin_of(MachineId id, const plan::Route& route, std::uint32_t index) const {
        return whole_.is_implied_route(id.row, index)                 ? RouteOrigin::peering
               : std::holds_alternative<std::string>(route.via.value) ? RouteOrigin::written_by_name
                                                                      : RouteOrigin::written;
    }

    std::vector<net::Prefix> prefixes_of(const plan::Route::Target& target) const {
        if (const auto* prefix = std::get_if<net::Prefix>(&target))
            return {*prefix};
        const auto* name = std::get_if<std::string>(&target);
        if (name == nullptr)
            return {net::Prefix::everything(net::Family::ipv4),
                    net::Prefix::everything(net::Family::ipv6)};
        std::vector<net::Prefix> prefixes;
        const Subnet& subnet = lab_.subnets[subnet_named(*name)];
        for (net::Family family : net::both_families)
            if (const auto& prefix = lab_.segments[subnet.segment].prefix[family])
                prefixes.push_back(*prefix);
        return prefixes;
    }

    // The address of a next hop: as written, or the named machine's first one of the family on
    // the first segment that both share.
    std::optional<net::Address> next_hop_of(MachineId id, const plan::Route& route,
                                            net::Family family) const {
        if (const auto* address = std::get_if<net::Address>(&route.via.value)) {
            if (address->family() == family)
                return *address;
            return std::nullopt;
        }
        MachineId target = machine_named(std::get<std::string>(route.via.value));
        for (NicId own : lab_.nics_of(id)) {
            if (route.nic && lab_.nics[own].name != route.nic->value)
                continue;
            for (NicId theirs : lab_.nics_of(target))
                if (own != theirs && lab_.nics[own].segment == lab_.nics[theirs].segment)
                    if (const auto* address = lab_.first_address(theirs, family))
                        return address->address;
        }
        return std::nullopt;
    }

    void add_gateway_routes(MachineId id, const plan::Machine& machine) {
        using Kind = plan::MachineGateway::Kind;
        plan::MachineGateway unset;
        if (machine.kind == plan::MachineKind::router)
            unset.kind = Kind::none;
        const plan::MachineGateway& gateway = machine.gateway ? *machine.gateway : unset;
        plan::Mark at = gateway.at ? gateway.at : machine.at;
        for (const auto& given : gateway.given)
            add_gateway_route(given.value, RouteOrigin::gateway_written, given.at ? given.at : at);
        bool leased = false;
        if (!machine.gateway || gateway.kind != Kind::none)
            leased = add_lease_routes(id);
        if (gateway.kind != Kind::automatic)
            return;
        for (net::Family family : net::both_families)
            if (auto address = automatic_gateway(id, family);
                address && !(leased && family == net::Family::ipv4))
                add_gateway_route(*address, RouteOrigin::gateway_automatic, at);
    }

    // A default route for each lease that names a router, in the order of the NICs.
    bool add_lease_routes(MachineId id) {
        if (lab_.leases.empty())
            return false;
        bool added = false;
        for (NicId nic : lab_.nics_of(id)) {
            const Lease* lease = lab_.lease_of(nic);
            if (lease == nullptr || !lease->router)
                continue;
            const auto& options = plan_.machines[id.row].nics[lab_.nics[nic].plan_index].options;
            add_gateway_route(*lease->router, RouteOrigin::gateway_lease, lab_.nics[nic].at,
                              options ? options->metric : 0);
            added = true;
        }
        return added;
    }

    void add_gateway_route(net::Address via, RouteOrigin origin, plan::Mark at,
                           std::uint32_t metric = 0) {
        lab_.routes.add({.to = net::Prefix::everything(via.family()),
                         .via = via,
                         .metric = metric_in(via.family(), metric),
                         .origin = origin,
                         .plan_index = 0,
                         .at = at});
    }

    // Linux takes an IPv6 metric of 0 for none given, and gives its own.
    static std::uint32_t metric_in(net::Family family, std::uint32_t written) {
        constexpr std::uint32_t ipv6_default = 1024;
        return family == net::Family::ipv6 && written == 0 ? ipv6_default : written;
    }

    // The gateway of the machine's first subnet that has one: the plan says which, or another
    // machine has taken it.
    std::optional<net::Address> automatic_gateway(MachineId id, net::Family family) const {
        for (NicId nic : lab_.nics_of(id)) {
            const Segment& segment = lab_.segments[lab_.nics[nic].segment];
            const InterfaceAddress* own_address = lab_.first_address(nic, family);
            if (!segment.subnet || own_address == nullptr
                || (own_address->origin >= AddressOrigin::lease && family == net::Family::ipv4))
                continue;
            const auto& gateway = lab_.subnets[segment.subnet].gateway[family];
            if (!gateway)
                continue;
            bool own = false;
            bool claimed = lab_.subnets[segment.subnet].gateway_written;
            for (const Owner& owner : lab_.owners_of(*gateway)) {
                own |= lab_.nics[owner.nic].machine == id;
                claimed |= lab_.nics[owner.nic].segment == lab_.nics[nic].segment;
            }
            if (claimed && !own)
                return *gateway;
        }
        return std::nullopt;
    }

    void shrink() {
        lab_.machines.shrink();
        lab_.nics.shrink();
        lab_.addresses.shrink();
        lab_.routes.shrink();
        lab_.segments.shrink();
        lab_.subnets.shrink();
        lab_.owners.shrink_to_fit();
    }

    const plan::Complete& whole_;
    const plan::Plan& plan_;
    Lab lab_;
    plan::NameIndex filter_index_; // rows have the numbers of the plan's entries, too
    std::vector<std::pair<NicId, NicId>> link_nics_;
    std::map<std::string, PortId> ports_;
};

} // namespace

Lab build(const plan::Complete& plan) {
    return Builder(plan).run();
}

Lab build(plan::Plan plan) {
    return build(plan::Complete(std::move(plan)));
}

Reasons reasons(const plan::Complete& plan) {
    return Builder(plan).reasons();
}

} // namespace jackal::lab
