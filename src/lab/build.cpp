#include "jackal/lab/build.h"

#include "allocate.h"
#include "jackal/plan/edit.h"
#include "jackal/plan/validate.h"

#include <algorithm>
#include <fmt/format.h>
#include <stdexcept>

namespace jackal::lab {

namespace {

constexpr std::uint16_t ethernet_mtu_bytes = 1500; // RFC 894

class Builder {
  public:
    explicit Builder(const plan::Plan& plan) : plan_(plan) {}

    Lab run() {
        lab_.name = plan_.lab;
        lab_.source = plan_.source;
        lab_.expectations = plan_.expectations;
        index_names(plan_.sites, lab_.site_index);
        index_names(plan_.subnets, lab_.subnet_index);
        index_names(plan_.machines, lab_.machine_index);
        add_sites();
        find_subnet_sites();
        find_link_ends();
        Allocation allocation = allocate(plan_, lab_.sites, subnet_sites_, link_sites_);
        lab_.unplaced = std::move(allocation.unplaced);
        add_subnets(allocation);
        add_machines();
        add_links(allocation);
        assign_addresses();
        index_owners();
        add_routes();
        shrink();
        return std::move(lab_);
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

    void add_sites() {
        for (const plan::Site& site : plan_.sites) {
            Site row{.name = site.name, .space = {}, .at = site.at};
            for (const auto& prefix : site.space)
                row.space.push_back(prefix.value);
            lab_.sites.add(std::move(row));
        }
        if (plan_.sites.empty())
            lab_.sites.add({});
    }

    void find_subnet_sites() {
        for (const plan::Subnet& subnet : plan_.subnets) {
            subnet_sites_.push_back(subnet.site ? site_named(subnet.site->value) : SiteId{0});
        }
    }

    // A link stands on the site of the first subnet of its first end, else of its second.
    void find_link_ends() {
        for (const plan::Link& link : plan_.links) {
            SiteId site{0};
            for (const auto* end : {&link.second, &link.first}) {
                const auto& nics = plan_.machines[machine_named(end->value).row].nics;
                if (!nics.empty())
                    site = subnet_sites_[subnet_named(nics.front().subnet.value).row];
            }
            link_sites_.push_back(site);
        }
    }

    void add_subnets(const Allocation& allocation) {
        for (std::uint32_t i = 0; i < plan_.subnets.size(); ++i) {
            const plan::Subnet& subnet = plan_.subnets[i];
            Subnet row{.name = subnet.name,
                       .site = subnet_sites_[i],
                       .segment = {},
                       .gateway = {},
                       .gateway_kind = subnet.gateway.kind,
                       .gateway_written = subnet.gateway.written,
                       .gateway_at = subnet.gateway.at,
                       .at = subnet.at,
                       .plan_index = i};
            for (net::Family family : net::both_families)
                row.gateway[family] = gateway_of(subnet, allocation.subnets[i][family], family);
            row.segment = lab_.segments.add(
                {.subnet = SubnetId{i}, .link = {}, .prefix = allocation.subnets[i], .nics = {}});
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
                 .kind = machine.kind,
                 .forwards = machine.does_forward(),
                 .up = machine.up,
                 .first_nic = NicId{static_cast<std::uint32_t>(lab_.nics.size())},
                 .nic_count = static_cast<std::uint32_t>(machine.nics.size() + links_of[i].size()),
                 .first_route = {},
                 .route_count = 0,
                 .at = machine.at,
                 .plan_index = i});
            for (std::uint32_t n = 0; n < machine.nics.size(); ++n)
                add_subnet_nic(id, machine, n);
            auto position = static_cast<std::uint32_t>(machine.nics.size());
            for (std::uint32_t link : links_of[i])
                add_link_nic(id, machine, position++, link);
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
                .mtu_bytes = static_cast<std::uint16_t>(nic.mtu_bytes.value_or(ethernet_mtu_bytes)),
                .first_address = {},
                .address_count = 0,
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
        NicId nic = lab_.nics.add(
            {.machine = id,
             .segment = {},
             .name = std::move(name),
             .mac = mac,
             .up = true,
             .mtu_bytes = static_cast<std::uint16_t>(entry.mtu_bytes.value_or(ethernet_mtu_bytes)),
             .first_address = {},
             .address_count = 0,
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
                                   .prefix = allocation.links[i],
                                   .nics = {std::min(first, second), std::max(first, second)}});
            lab_.nics[first].segment = segment;
            lab_.nics[second].segment = segment;
            lab_.links.add({.first = first,
                            .second = second,
                            .segment = segment,
                            .delay = link.delay,
                            .jitter = link.jitter,
                            .loss = link.loss,
                            .up = link.up,
                            .at = link.at});
        }
    }

    // --- addresses -------------------------------------------------------------------------

    // What has been given out on one segment.
    struct Lease {
        PerFamily<net::Address> next; // the unspecified address until something is given out
        PerFamily<bool> gateway_taken;
    };

    // An address that the plan writes at a NIC of a segment.
    using Written = std::pair<SegmentId, net::Address>;

    bool is_written(SegmentId segment, net::Address address) const {
        return std::ranges::binary_search(written_, Written{segment, address});
    }

    const plan::NicAddress* written_address(const Nic& nic) const {
        const plan::Machine& machine = plan_.machines[nic.machine.row];
        return nic.plan_index < machine.nics.size() ? &machine.nics[nic.plan_index].address
                                                    : nullptr;
    }

    void assign_addresses() {
        std::vector<Lease> leases(lab_.segments.size());
        for (const Nic& nic : lab_.nics)
            if (const plan::NicAddress* written = written_address(nic))
                for (const auto& given : written->given)
                    written_.emplace_back(nic.segment, given.value.address);
        std::ranges::sort(written_);
        for (NicId id : lab_.nics.ids()) {
            Nic& nic = lab_.nics[id];
            nic.first_address = AddressId{static_cast<std::uint32_t>(lab_.addresses.size())};
            const plan::NicAddress* written = written_address(nic);
            if (written == nullptr)
                assign_link_addresses(id);
            else if (written->kind == plan::NicAddress::Kind::given)
                assign_given(id, *written);
            else if (written->kind == plan::NicAddress::Kind::automatic)
                assign_automatic(id, leases[nic.segment.row]);
            nic.address_count =
                static_cast<std::uint32_t>(lab_.addresses.size()) - nic.first_address.row;
        }
    }

    void assign_link_addresses(NicId id) {
        const Segment& segment = lab_.segments[lab_.nics[id].segment];
        bool is_first = lab_.links[segment.link].first == id;
        for (net::Family family : net::both_families)
            if (const auto& prefix = segment.prefix[family])
                lab_.addresses.add({prefix->first_usable().plus(is_first ? 0 : 1),
                                    static_cast<std::uint8_t>(prefix->length()),
                                    AddressOrigin::link, id, lab_.nics[id].at});
    }

    void assign_given(NicId id, const plan::NicAddress& written) {
        const Segment& segment = lab_.segments[lab_.nics[id].segment];
        for (const auto& given : written.given) {
            net::Family family = given.value.address.family();
            const auto& prefix = segment.prefix[family];
            int length = given.value.length ? *given.value.length
                         : prefix           ? prefix->length()
                                            : net::address_bits(family);
            lab_.addresses.add({given.value.address, static_cast<std::uint8_t>(length),
                                AddressOrigin::given, id, given.at});
        }
    }

    void assign_automatic(NicId id, Lease& lease) {
        const Nic& nic = lab_.nics[id];
        const Segment& segment = lab_.segments[nic.segment];
        const Subnet& subnet = lab_.subnets[segment.subnet];
        bool is_router = lab_.machines[nic.machine].kind == plan::MachineKind::router;
        for (net::Family family : net::both_families) {
            const auto& prefix = segment.prefix[family];
            if (!prefix)
                continue;
            const auto& gateway = subnet.gateway[family];
            auto length = static_cast<std::uint8_t>(prefix->length());
            if (is_router && gateway && prefix->contains(*gateway) && !lease.gateway_taken[family]
                && !is_written(nic.segment, *gateway)) {
                lease.gateway_taken[family] = true;
                lab_.addresses.add({*gateway, length, AddressOrigin::gateway, id, nic.at});
            } else if (auto free = next_free(nic.segment, *prefix, lease.next[family])) {
                lab_.addresses.add({*free, length, AddressOrigin::automatic, id, nic.at});
            } else {
                lab_.unplaced.push_back({fmt::format("{} wants an address", lab_.nic_name(id)),
                                         fmt::format("all {} usable addresses of {} are taken",
                                                     prefix->usable(), net::to_string(*prefix)),
                                         family,
                                         {},
                                         {},
                                         0,
                                         nic.at});
            }
        }
    }

    std::optional<net::Address> next_free(SegmentId segment, const net::Prefix& prefix,
                                          net::Address& next) const {
        const auto& gateway = lab_.subnets[lab_.segments[segment].subnet].gateway[prefix.family()];
        if (next == net::Address{})
            next = prefix.first_usable();
        while (next == gateway || is_written(segment, next))
            next = next.plus(1);
        if (next < prefix.first() || next > prefix.last_usable())
            return std::nullopt;
        net::Address found = next;
        next = next.plus(1);
        return found;
    }

    void index_owners() {
        lab_.owners.reserve(lab_.addresses.size());
        for (const InterfaceAddress& row : lab_.addresses)
            lab_.owners.push_back({row.address, row.nic, lab_.nics[row.nic].machine});
        std::ranges::sort(lab_.owners, [](const Owner& a, const Owner& b) {
            return std::pair(a.address, a.nic) < std::pair(b.address, b.nic);
        });
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
                             .metric = route.metric,
                             .origin = std::holds_alternative<std::string>(route.via.value)
                                           ? RouteOrigin::written_by_name
                                           : RouteOrigin::written,
                             .plan_index = index,
                             .at = route.at});
        }
        if (!resolved)
            lab_.unresolved_routes.push_back(
                {id, index, prefixes, plan::to_string(route.via.value), route.via.at});
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
        if (gateway.kind != Kind::automatic)
            return;
        for (net::Family family : net::both_families)
            if (auto address = automatic_gateway(id, family))
                add_gateway_route(*address, RouteOrigin::gateway_automatic, at);
    }

    void add_gateway_route(net::Address via, RouteOrigin origin, plan::Mark at) {
        lab_.routes.add({.to = net::Prefix::everything(via.family()),
                         .via = via,
                         .metric = 0,
                         .origin = origin,
                         .plan_index = 0,
                         .at = at});
    }

    // The gateway of the machine's first subnet that has one: the plan says which, or another
    // machine has taken it.
    std::optional<net::Address> automatic_gateway(MachineId id, net::Family family) const {
        for (NicId nic : lab_.nics_of(id)) {
            const Segment& segment = lab_.segments[lab_.nics[nic].segment];
            if (!segment.subnet || lab_.first_address(nic, family) == nullptr)
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

    const plan::Plan& plan_;
    Lab lab_;
    std::vector<SiteId> subnet_sites_;
    std::vector<SiteId> link_sites_;
    std::vector<std::pair<NicId, NicId>> link_nics_;
    std::vector<Written> written_; // sorted
};

} // namespace

Lab build(const plan::Plan& plan) {
    if (auto problems = plan::problems(plan); !problems.empty())
        throw std::invalid_argument(plan::to_string(problems.front().at, plan.source) + ": "
                                    + problems.front().message);
    return Builder(plan).run();
}

} // namespace jackal::lab
