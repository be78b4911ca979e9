#include "lab/address/assignment.h"

#include "jackal/plan/outside.h"
#include "lab/dhcp/leases.h"
#include "lab/dhcp/offers.h"

#include <fmt/format.h>

namespace jackal::lab {

namespace {

// What has been given out on one segment.
struct Given {
    PerFamily<net::Address> next; // the unspecified address until something is given out
    PerFamily<bool> gateway_taken;
};

void insert_leases(Assignment& a) {
    Table<InterfaceAddress> all;
    for (NicId id : a.lab.nics.ids()) {
        Nic& nic = a.lab.nics[id];
        AddressId first{static_cast<std::uint32_t>(all.size())};
        if (const lab::Lease* lease = a.lab.lease_of(id)) {
            bool is_lease = lease->refusal == lab::Lease::Refusal::none;
            constexpr std::uint8_t link_local_length = 16; // RFC 3927 section 2.1
            std::uint8_t length = link_local_length;
            if (is_lease) {
                const Segment& segment = a.lab.segments[a.lab.subnets[lease->subnet].segment];
                length = static_cast<std::uint8_t>(segment.prefix.ipv4->length());
            }
            all.add({lease->address, length,
                     is_lease ? AddressOrigin::lease : AddressOrigin::link_local, id, nic.at});
            if (auto ipv6 = a.kept_ipv6.find(id);
                is_lease && ipv6 != a.kept_ipv6.end()
                && a.lab.subnets[lease->subnet].segment == nic.segment)
                all.add(ipv6->second);
        } else {
            for (AddressId row : a.lab.addresses_of(id))
                all.add(a.lab.addresses[row]);
        }
        nic.first_address = first;
        nic.address_count = static_cast<std::uint32_t>(all.size()) - first.row;
    }
    a.lab.addresses = std::move(all);
}

void assign_loopback_addresses(Assignment& a, NicId id) {
    const Segment& segment = a.lab.segments[a.lab.nics[id].segment];
    for (net::Family family : net::both_families)
        if (const auto& prefix = segment.prefix[family])
            a.lab.addresses.add({prefix->first(), static_cast<std::uint8_t>(prefix->length()),
                                 AddressOrigin::loopback, id, a.lab.nics[id].at});
}

void assign_link_addresses(Assignment& a, NicId id) {
    const Segment& segment = a.lab.segments[a.lab.nics[id].segment];
    bool is_first = a.lab.links[segment.link].first == id;
    for (net::Family family : net::both_families)
        if (const auto& prefix = segment.prefix[family])
            a.lab.addresses.add({prefix->first_usable().plus(is_first ? 0 : 1),
                                 static_cast<std::uint8_t>(prefix->length()), AddressOrigin::link,
                                 id, a.lab.nics[id].at});
}

void assign_given(Assignment& a, NicId id, const plan::NicAddress& written) {
    const Segment& segment = a.lab.segments[a.lab.nics[id].segment];
    for (const auto& given : written.given) {
        net::Family family = given.value.address.family();
        const auto& prefix = segment.prefix[family];
        int length = given.value.length ? *given.value.length
                     : prefix           ? prefix->length()
                                        : net::address_bits(family);
        a.lab.addresses.add({given.value.address, static_cast<std::uint8_t>(length),
                             AddressOrigin::given, id, given.at});
    }
}

std::optional<net::Address> next_free(const Assignment& a, SegmentId segment,
                                      const net::Prefix& prefix, net::Address& next) {
    const Subnet& subnet = a.lab.subnets[a.lab.segments[segment].subnet];
    const auto& gateway = subnet.gateway[prefix.family()];
    if (next == net::Address{})
        next = prefix.first_usable();
    for (;;) {
        if (const net::Range* range = subnet.set_aside(next))
            next = range->last.plus(1);
        else if (next == gateway || is_written(a, segment, next))
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

// DHCPv6 (RFC 8415) in outline: who gets a lease gets an address of the IPv6 prefix with it.
void keep_ipv6(Assignment& a, NicId id, Given& lease) {
    const Nic& nic = a.lab.nics[id];
    const auto& prefix = a.lab.segments[nic.segment].prefix.ipv6;
    if (!prefix)
        return;
    if (auto free = next_free(a, nic.segment, *prefix, lease.next.ipv6))
        a.kept_ipv6.emplace(id, InterfaceAddress{*free, static_cast<std::uint8_t>(prefix->length()),
                                                 AddressOrigin::lease, id, nic.at});
}

void assign_automatic(Assignment& a, NicId id, Given& lease) {
    const Nic& nic = a.lab.nics[id];
    const Segment& segment = a.lab.segments[nic.segment];
    const Subnet& subnet = a.lab.subnets[segment.subnet];
    const Machine& machine = a.lab.machines[nic.machine];
    // The workstation is no gateway where it only stands on a segment.
    bool is_router = machine.kind == plan::MachineKind::router
                     && !(machine.outside && machine.name == plan::outside::workstation);
    bool is_gateway = machine.outside && plan::has_gateway_outside(subnet.uplink)
                      && machine.name
                             == (subnet.uplink == plan::Uplink::nat ? plan::outside::workstation
                                                                    : plan::outside::lan_gateway);
    is_gateway |= machine.is_core && has_gateway_unwritten(a, subnet)
                  && !plan::has_gateway_outside(subnet.uplink);
    for (net::Family family : net::both_families) {
        const auto& prefix = segment.prefix[family];
        if (!prefix)
            continue;
        const auto& gateway = subnet.gateway[family];
        auto length = static_cast<std::uint8_t>(prefix->length());
        if (is_gateway && gateway && prefix->contains(*gateway)) {
            a.lab.addresses.add({*gateway, length, AddressOrigin::gateway, id, nic.at});
        } else if (auto pin = pinned(a, id, family)) {
            a.lab.addresses.add(
                {*pin, length,
                 is_router && pin == gateway ? AddressOrigin::gateway : AddressOrigin::pinned, id,
                 nic.at});
        } else if (is_router && gateway && prefix->contains(*gateway)
                   && !lease.gateway_taken[family] && !is_written(a, nic.segment, *gateway)) {
            lease.gateway_taken[family] = true;
            a.lab.addresses.add({*gateway, length, AddressOrigin::gateway, id, nic.at});
        } else if (auto free = next_free(a, nic.segment, *prefix, lease.next[family])) {
            a.lab.addresses.add({*free, length, AddressOrigin::automatic, id, nic.at});
        } else {
            a.lab.unplaced.push_back({fmt::format("{} wants an address", a.lab.nic_name(id)),
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

} // namespace

void assign_all(Assignment& a) {
    std::vector<Given> leases(a.lab.segments.size());
    for (NicId id : a.lab.nics.ids()) {
        Nic& nic = a.lab.nics[id];
        nic.first_address = AddressId{static_cast<std::uint32_t>(a.lab.addresses.size())};
        const plan::NicAddress* written = written_address(a, nic);
        if (nic.is_loopback())
            assign_loopback_addresses(a, id);
        else if (written == nullptr)
            assign_link_addresses(a, id);
        else if (written->kind == plan::NicAddress::Kind::given)
            assign_given(a, id, *written);
        else if (written->kind == plan::NicAddress::Kind::automatic)
            assign_automatic(a, id, leases[nic.segment.row]);
        else if (written->kind == plan::NicAddress::Kind::dhcp)
            keep_ipv6(a, id, leases[nic.segment.row]);
        nic.address_count =
            static_cast<std::uint32_t>(a.lab.addresses.size()) - nic.first_address.row;
    }
}

void assign_leases(Assignment& a) {
    constexpr int most_rounds = 100;
    for (int round = 0; round < most_rounds; ++round) {
        a.lab.offers = offers(a.plan, a.lab);
        std::vector<lab::Lease> found = lab::leases(a.plan, a.lab);
        if (found == a.lab.leases)
            return;
        a.lab.leases = std::move(found);
        insert_leases(a);
    }
}

} // namespace jackal::lab
