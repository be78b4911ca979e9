#include "assign.h"

#include "jackal/plan/outside.h"
#include "lab/dhcp/leases.h"

#include <algorithm>
#include <fmt/format.h>
#include <map>

namespace jackal::lab {

namespace {

class Assigner {
  public:
    Assigner(const plan::Complete& plan, Lab& lab)
        : whole_(plan), plan_(plan.entries()), lab_(lab) {}

    void run() {
        collect_written();
        set_regions_aside();
        assign_addresses();
        assign_leases();
    }

  private:
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

    // A machine that the plan does not write has the gateway address.
    bool has_gateway_unwritten(const Subnet& subnet) const {
        return plan::has_gateway_outside(subnet.uplink)
               || (lab_.sites[subnet.site].core && plan_.subnets[subnet.plan_index].joined);
    }

    const plan::NicAddress* written_address(const Nic& nic) const {
        const plan::Machine& machine = plan_.machines[nic.machine.row];
        return nic.plan_index < machine.nics.size() ? &machine.nics[nic.plan_index].address
                                                    : nullptr;
    }

    // What the plan writes or keeps pinned at NICs, which no automatic address may touch.
    void collect_written() {
        for (const Nic& nic : lab_.nics)
            if (const plan::NicAddress* written = written_address(nic))
                for (const auto& given : written->given)
                    written_.emplace_back(nic.segment, given.value.address);
        for (const Subnet& subnet : lab_.subnets)
            for (net::Family family : net::both_families)
                if (has_gateway_unwritten(subnet) && subnet.gateway[family])
                    written_.emplace_back(subnet.segment, *subnet.gateway[family]);
        take_pins();
        std::ranges::sort(written_);
    }

    // The addresses of a pin go to the machine's automatic NICs on the subnet, in their order.
    void take_pins() {
        struct Pin {
            PerFamily<std::vector<net::Address>> chosen;
            std::size_t position = 0;
        };
        std::map<std::pair<MachineId, SegmentId>, Pin> pins;
        for (const auto& pin : plan_.pins.machines) {
            auto machine = lab_.machine(pin.machine);
            auto subnet = lab_.subnet(pin.subnet);
            if (!machine || !subnet)
                continue;
            Pin& entry = pins[{*machine, lab_.subnets[*subnet].segment}];
            for (const auto& address : pin.chosen)
                entry.chosen[address.value.family()].push_back(address.value);
        }
        for (NicId id : lab_.nics.ids()) {
            if (pins.empty())
                return;
            const Nic& nic = lab_.nics[id];
            const plan::NicAddress* written = written_address(nic);
            auto found = pins.find({nic.machine, nic.segment});
            if (found == pins.end() || written == nullptr
                || written->kind != plan::NicAddress::Kind::automatic)
                continue;
            auto& [chosen, position] = found->second;
            for (net::Family family : net::both_families)
                if (const auto& prefix = lab_.segments[nic.segment].prefix[family];
                    prefix && position < chosen[family].size()
                    && prefix->contains(chosen[family][position])) {
                    pinned_[id][family] = chosen[family][position];
                    written_.emplace_back(nic.segment, chosen[family][position]);
                }
            ++position;
        }
    }

    std::optional<net::Address> pinned(NicId id, net::Family family) const {
        auto found = pinned_.find(id);
        return found == pinned_.end() ? std::nullopt : found->second[family];
    }

    // --- parts of subnets that are set aside ---------------------------------------------------

    void set_regions_aside() {
        std::map<std::string_view, const net::Range*> pinned;
        for (const auto& pin : plan_.pins.dhcp)
            pinned.emplace(pin.subnet, &pin.range.value);
        for (SubnetId id : lab_.subnets.ids()) {
            reserve(id);
            if (!plan_.subnets[id.row].dhcp)
                continue;
            auto pin = pinned.find(lab_.subnets[id].name);
            const auto& prefix = lab_.segments[lab_.subnets[id].segment].prefix.ipv4;
            if (pin != pinned.end() && prefix && plan_.subnets[id.row].dhcp->size
                && prefix->contains(pin->second->first) && prefix->contains(pin->second->last))
                lab_.subnets[id].dhcp = *pin->second;
            else
                find_dhcp_range(id);
        }
    }

    void reserve(SubnetId id) {
        const plan::Subnet& subnet = plan_.subnets[id.row];
        std::vector<net::Range> ranges;
        for (net::Family family : net::both_families)
            for (const auto& region : subnet.reserve)
                if (auto range = range_in(id, region, family, "reserves"))
                    ranges.push_back(*range);
        lab_.subnets[id].reserved = merged(std::move(ranges));
    }

    // Ascending, and none overlapping another.
    static std::vector<net::Range> merged(std::vector<net::Range> ranges) {
        std::ranges::sort(ranges, {}, &net::Range::first);
        std::vector<net::Range> result;
        for (const net::Range& range : ranges)
            if (!result.empty() && range.first <= result.back().last)
                result.back().last = std::max(result.back().last, range.last);
            else
                result.push_back(range);
        return result;
    }

    // The part of a subnet's prefix that a region is; what goes beyond its end is told.
    std::optional<net::Range> range_in(SubnetId id, const plan::Placed<plan::Region>& region,
                                       net::Family family, std::string_view verb) {
        const auto& prefix = lab_.segments[lab_.subnets[id].segment].prefix[family];
        if (!prefix)
            return std::nullopt;
        const auto* places = std::get_if<plan::Places>(&region.value);
        std::uint64_t last = prefix->size() - 1;
        if (places != nullptr && places->last > last && family == net::Family::ipv4)
            lab_.unplaced.push_back(
                {.what = fmt::format("subnet {} {} +{}-+{}", lab_.subnets[id].name, verb,
                                     places->first, places->last),
                 .why = fmt::format("{} ends at +{}", net::to_string(*prefix), last),
                 .advice = "count to a place that the subnet has, or make it larger",
                 .family = family,
                 .at = region.at});
        return region_in(*prefix, region.value);
    }

    void find_dhcp_range(SubnetId id) {
        const plan::DhcpRange& wish = *plan_.subnets[id.row].dhcp;
        Subnet& subnet = lab_.subnets[id];
        const auto& prefix = lab_.segments[subnet.segment].prefix.ipv4;
        std::optional<net::Range> found;
        if (prefix && wish.range)
            found = range_in(id, *wish.range, net::Family::ipv4, "gives out by DHCP");
        else if (prefix)
            found =
                highest_free(subnet, *prefix, wish.size ? wish.size->value : implied_size(*prefix));
        if (found)
            subnet.dhcp = *found;
        bool has_none = !prefix && !plan_.subnets[id.row].prefixes.empty();
        if (!found && !whole_.is_implied_dhcp(id.row) && (prefix ? !wish.range : has_none))
            lab_.unplaced.push_back(
                {.what = fmt::format("the DHCP range of {} wants {}", subnet.name,
                                     wish.size ? fmt::format("{} addresses", wish.size->value)
                                               : "a part of it"),
                 .why = prefix ? fmt::format("{} has not as many in a row", net::to_string(*prefix))
                               : fmt::format("{} has no IPv4 prefix", subnet.name),
                 .advice = "ask for less, or for a larger subnet",
                 .family = net::Family::ipv4,
                 .at = wish.at});
    }

    // How many addresses come with an uplink.
    static std::uint64_t implied_size(const net::Prefix& prefix) {
        constexpr std::uint64_t most = 100;
        return std::clamp<std::uint64_t>(prefix.usable() / 4, 1, most);
    }

    // The highest `size` addresses in a row that are neither written, reserved nor the gateway.
    std::optional<net::Range> highest_free(const Subnet& subnet, const net::Prefix& prefix,
                                           std::uint64_t size) const {
        std::vector<net::Range> blocked;
        for (const net::Range& range : subnet.reserved)
            if (range.first.family() == net::Family::ipv4)
                blocked.push_back(range);
        if (const auto& gateway = subnet.gateway.ipv4)
            blocked.push_back({*gateway, *gateway});
        for (auto it = std::ranges::lower_bound(written_, Written{subnet.segment, prefix.first()});
             it != written_.end() && it->first == subnet.segment && it->second <= prefix.last();
             ++it)
            blocked.push_back({it->second, it->second});
        blocked = merged(std::move(blocked));
        std::ranges::reverse(blocked);
        net::Address top = prefix.last_usable();
        auto fits_above = [&](net::Address bottom) {
            return bottom <= top && net::Range{bottom, top}.size() >= size;
        };
        for (const net::Range& range : blocked) {
            if (fits_above(range.last.plus(1)))
                break;
            top = std::min(top, range.first.minus(1));
        }
        if (!fits_above(prefix.first_usable()))
            return std::nullopt;
        return net::Range{top.minus(size - 1), top};
    }

    void assign_addresses() {
        std::vector<Lease> leases(lab_.segments.size());
        for (NicId id : lab_.nics.ids()) {
            Nic& nic = lab_.nics[id];
            nic.first_address = AddressId{static_cast<std::uint32_t>(lab_.addresses.size())};
            const plan::NicAddress* written = written_address(nic);
            if (nic.is_loopback())
                assign_loopback_addresses(id);
            else if (written == nullptr)
                assign_link_addresses(id);
            else if (written->kind == plan::NicAddress::Kind::given)
                assign_given(id, *written);
            else if (written->kind == plan::NicAddress::Kind::automatic)
                assign_automatic(id, leases[nic.segment.row]);
            else if (written->kind == plan::NicAddress::Kind::dhcp)
                keep_ipv6(id, leases[nic.segment.row]);
            nic.address_count =
                static_cast<std::uint32_t>(lab_.addresses.size()) - nic.first_address.row;
        }
    }

    // DHCPv6 (RFC 8415) in outline: who gets a lease gets an address of the IPv6 prefix with it.
    void keep_ipv6(NicId id, Lease& lease) {
        const Nic& nic = lab_.nics[id];
        const auto& prefix = lab_.segments[nic.segment].prefix.ipv6;
        if (!prefix)
            return;
        if (auto free = next_free(nic.segment, *prefix, lease.next.ipv6))
            kept_ipv6_.emplace(id,
                               InterfaceAddress{*free, static_cast<std::uint8_t>(prefix->length()),
                                                AddressOrigin::lease, id, nic.at});
    }

    // Servers whose own address is a lease come into play once they have it.
    void assign_leases() {
        constexpr int most_rounds = 100;
        for (int round = 0; round < most_rounds; ++round) {
            lab_.offers = offers(plan_, lab_);
            std::vector<lab::Lease> found = lab::leases(plan_, lab_);
            if (found == lab_.leases)
                return;
            lab_.leases = std::move(found);
            insert_leases();
        }
    }

    void insert_leases() {
        Table<InterfaceAddress> all;
        for (NicId id : lab_.nics.ids()) {
            Nic& nic = lab_.nics[id];
            AddressId first{static_cast<std::uint32_t>(all.size())};
            if (const lab::Lease* lease = lab_.lease_of(id)) {
                bool is_lease = lease->refusal == lab::Lease::Refusal::none;
                constexpr std::uint8_t link_local_length = 16; // RFC 3927 section 2.1
                std::uint8_t length = link_local_length;
                if (is_lease) {
                    const Segment& segment = lab_.segments[lab_.subnets[lease->subnet].segment];
                    length = static_cast<std::uint8_t>(segment.prefix.ipv4->length());
                }
                all.add({lease->address, length,
                         is_lease ? AddressOrigin::lease : AddressOrigin::link_local, id, nic.at});
                if (auto ipv6 = kept_ipv6_.find(id);
                    is_lease && ipv6 != kept_ipv6_.end()
                    && lab_.subnets[lease->subnet].segment == nic.segment)
                    all.add(ipv6->second);
            } else {
                for (AddressId row : lab_.addresses_of(id))
                    all.add(lab_.addresses[row]);
            }
            nic.first_address = first;
            nic.address_count = static_cast<std::uint32_t>(all.size()) - first.row;
        }
        lab_.addresses = std::move(all);
    }

    void assign_loopback_addresses(NicId id) {
        const Segment& segment = lab_.segments[lab_.nics[id].segment];
        for (net::Family family : net::both_families)
            if (const auto& prefix = segment.prefix[family])
                lab_.addresses.add({prefix->first(), static_cast<std::uint8_t>(prefix->length()),
                                    AddressOrigin::loopback, id, lab_.nics[id].at});
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
        const Machine& machine = lab_.machines[nic.machine];
        // The workstation is no gateway where it only stands on a segment.
        bool is_router = machine.kind == plan::MachineKind::router
                         && !(machine.outside && machine.name == plan::outside::workstation);
        bool is_gateway =
            machine.outside && plan::has_gateway_outside(subnet.uplink)
            && machine.name
                   == (subnet.uplink == plan::Uplink::nat ? plan::outside::workstation
                                                          : plan::outside::lan_gateway);
        is_gateway |= machine.is_core && has_gateway_unwritten(subnet)
                      && !plan::has_gateway_outside(subnet.uplink);
        for (net::Family family : net::both_families) {
            const auto& prefix = segment.prefix[family];
            if (!prefix)
                continue;
            const auto& gateway = subnet.gateway[family];
            auto length = static_cast<std::uint8_t>(prefix->length());
            if (is_gateway && gateway && prefix->contains(*gateway)) {
                lab_.addresses.add({*gateway, length, AddressOrigin::gateway, id, nic.at});
            } else if (auto pin = pinned(id, family)) {
                lab_.addresses.add(
                    {*pin, length,
                     is_router && pin == gateway ? AddressOrigin::gateway : AddressOrigin::pinned,
                     id, nic.at});
            } else if (is_router && gateway && prefix->contains(*gateway)
                       && !lease.gateway_taken[family] && !is_written(nic.segment, *gateway)) {
                lease.gateway_taken[family] = true;
                lab_.addresses.add({*gateway, length, AddressOrigin::gateway, id, nic.at});
            } else if (auto free = next_free(nic.segment, *prefix, lease.next[family])) {
                lab_.addresses.add({*free, length, AddressOrigin::automatic, id, nic.at});
            } else {
                lab_.unplaced.push_back({fmt::format("{} wants an address", lab_.nic_name(id)),
                                         fmt::format("all {} usable addresses of {} are taken",
                                                     prefix->usable(), net::to_string(*prefix)),
                                         "ask for a larger subnet",
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
        const Subnet& subnet = lab_.subnets[lab_.segments[segment].subnet];
        const auto& gateway = subnet.gateway[prefix.family()];
        if (next == net::Address{})
            next = prefix.first_usable();
        for (;;) {
            if (const net::Range* range = subnet.set_aside(next))
                next = range->last.plus(1);
            else if (next == gateway || is_written(segment, next))
                next = next.plus(1);
            else
                break;
        }
        if (next < prefix.first() || next > prefix.last_usable())
            return std::nullopt;
        net::Address found = next;
        next = next.plus(1);
        return found;
    }
    const plan::Complete& whole_;
    const plan::Plan& plan_;
    Lab& lab_;
    std::vector<Written> written_; // sorted
    std::map<NicId, PerFamily<std::optional<net::Address>>> pinned_;
    std::map<NicId, InterfaceAddress> kept_ipv6_; // of NICs that ask by DHCP
};

} // namespace

void assign_addresses(const plan::Complete& plan, Lab& lab) {
    Assigner(plan, lab).run();
}

} // namespace jackal::lab
