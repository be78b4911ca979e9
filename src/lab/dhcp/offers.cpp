#include "lab/dhcp/offers.h"

#include "jackal/lab/place.h"
#include "jackal/plan/outside.h"

#include <algorithm>

namespace jackal::lab {

std::optional<net::Range> region_in(const net::Prefix& prefix, const plan::Region& region) {
    if (const auto* range = std::get_if<net::Range>(&region)) {
        if (prefix.contains(range->first) && prefix.contains(range->last))
            return *range;
        return std::nullopt;
    }
    const auto& places = std::get<plan::Places>(region);
    std::uint64_t last = prefix.size() - 1;
    if (places.first > last)
        return std::nullopt;
    return net::Range{prefix.first().plus(places.first),
                      prefix.first().plus(std::min(places.last, last))};
}

namespace {

constexpr net::Family ipv4 = net::Family::ipv4;

class Offers {
  public:
    Offers(const plan::Plan& plan, const Lab& lab) : plan_(plan), lab_(lab) {}

    std::vector<DhcpOffer> run() {
        if (std::ranges::none_of(plan_.subnets,
                                 [](const auto& subnet) { return bool(subnet.dhcp); }))
            return {};
        for (const InterfaceAddress& row : lab_.addresses)
            if (row.origin < AddressOrigin::lease)
                in_use_.push_back(row.address);
        std::ranges::sort(in_use_);
        for (SubnetId id : lab_.subnets.ids())
            if (plan_.subnets[id.row].dhcp && lab_.subnets[id].dhcp)
                offer(id, *plan_.subnets[id.row].dhcp);
        return std::move(offers_);
    }

  private:
    void offer(SubnetId id, const plan::DhcpRange& dhcp) {
        const Subnet& subnet = lab_.subnets[id];
        // The physical network has its server, whatever the plan adds.
        if (plan::has_gateway_outside(subnet.uplink))
            for (NicId nic : lab_.segments[subnet.segment].nics)
                if (lab_.machines[lab_.nics[nic].machine].outside && is_gateway(nic, subnet))
                    add(id, lab_.nics[nic].machine, nic);
        if (dhcp.server.value.empty()) {
            if (offers_.empty() || offers_.back().subnet != id)
                if (auto nic = server_of(subnet))
                    add(id, lab_.nics[*nic].machine, *nic);
            return;
        }
        MachineId server = *lab_.machine(dhcp.server.value);
        for (NicId nic : lab_.nics_of(server))
            if (lab_.nics[nic].segment == subnet.segment && serves(nic, subnet))
                return add(id, server, nic);
        if (dhcp.relay.value.empty())
            return;
        for (NicId nic : lab_.nics_of(*lab_.machine(dhcp.relay.value)))
            if (lab_.nics[nic].segment == subnet.segment && serves(nic, subnet)
                && are_joined(lab_.nics[nic].machine, server))
                return add(id, server, nic);
    }

    void add(SubnetId subnet, MachineId giver, NicId nic) {
        if (!lab_.machines[giver].up)
            return;
        const plan::DhcpRange& dhcp = *plan_.subnets[subnet.row].dhcp;
        DhcpOffer offer{.subnet = subnet,
                        .giver = giver,
                        .heard_by = nic,
                        .gives = free_in(subnet),
                        .kept = kept_in(subnet),
                        .time = dhcp.lease};
        if (dhcp.gives_router)
            offer.router =
                dhcp.router ? std::optional(dhcp.router->value) : lab_.subnets[subnet].gateway.ipv4;
        for (const auto& server : dhcp.dns)
            if (auto address = address_of(server.value))
                offer.dns.push_back(*address);
        if (offer.dns.empty() && lab_.machines[giver].outside)
            if (const auto* row = lab_.first_address(nic, ipv4))
                offer.dns.push_back(row->address);
        offers_.push_back(std::move(offer));
    }

    // Reservations, those for a machine by the MACs of its NICs on the segment.
    std::vector<std::pair<net::Mac, net::Address>> kept_in(SubnetId id) const {
        const SegmentId segment = lab_.subnets[id].segment;
        std::vector<std::pair<net::Mac, net::Address>> kept;
        for (const plan::Reservation& entry : plan_.subnets[id.row].dhcp->reservations) {
            const auto range = region_in(*lab_.segments[segment].prefix.ipv4, entry.address.value);
            if (!range)
                continue;
            if (const auto* mac = std::get_if<net::Mac>(&entry.client))
                kept.emplace_back(*mac, range->first);
            else if (auto machine = lab_.machine(std::get<std::string>(entry.client)))
                for (NicId nic : lab_.nics_of(*machine))
                    if (lab_.nics[nic].segment == segment)
                        kept.emplace_back(lab_.nics[nic].mac, range->first);
        }
        return kept;
    }

    std::optional<net::Address> address_of(const plan::Host& host) const {
        if (const auto* address = std::get_if<net::Address>(&host))
            return *address;
        for (NicId nic : lab_.nics_of(*lab_.machine(std::get<std::string>(host))))
            if (const auto* row = lab_.first_address(nic, ipv4))
                return row->address;
        return std::nullopt;
    }

    // The range without what is excluded, kept for somebody, in use, or the gateway.
    std::vector<net::Range> free_in(SubnetId id) {
        const Subnet& subnet = lab_.subnets[id];
        const net::Prefix& prefix = *lab_.segments[subnet.segment].prefix.ipv4;
        const plan::DhcpRange& dhcp = *plan_.subnets[id.row].dhcp;
        std::vector<net::Range> blocked;
        for (const auto& region : dhcp.exclude)
            if (auto range = region_in(prefix, region.value))
                blocked.push_back(*range);
        for (const plan::Reservation& entry : dhcp.reservations)
            if (auto kept = region_in(prefix, entry.address.value))
                blocked.push_back(*kept);
        if (subnet.gateway.ipv4)
            blocked.push_back({*subnet.gateway.ipv4, *subnet.gateway.ipv4});
        // A server tries each address before it gives it out (RFC 2131 section 3.1).
        for (auto used = std::ranges::lower_bound(in_use_, subnet.dhcp->first);
             used != in_use_.end() && *used <= subnet.dhcp->last; ++used)
            blocked.push_back({*used, *used});
        std::ranges::sort(blocked, {}, &net::Range::first);
        std::vector<net::Range> free;
        net::Address next = subnet.dhcp->first;
        for (const net::Range& range : blocked) {
            if (range.last < next || range.first > subnet.dhcp->last)
                continue;
            if (range.first > next)
                free.push_back({next, range.first.minus(1)});
            next = range.last.plus(1);
        }
        if (next <= subnet.dhcp->last)
            free.push_back({next, subnet.dhcp->last});
        return free;
    }

    bool is_gateway(NicId nic, const Subnet& subnet) const {
        const auto* row = lab_.first_address(nic, ipv4);
        return row != nullptr && row->address == subnet.gateway.ipv4;
    }

    // A server gives out from a prefix that it is on itself.
    bool serves(NicId nic, const Subnet& subnet) const {
        const auto* row = lab_.first_address(nic, ipv4);
        const auto& prefix = lab_.segments[subnet.segment].prefix.ipv4;
        return row != nullptr && prefix && prefix->contains(row->address) && lab_.nics[nic].up
               && lab_.machines[lab_.nics[nic].machine].up;
    }

    // Who has the gateway address, else the first router on the segment.
    std::optional<NicId> server_of(const Subnet& subnet) const {
        std::optional<NicId> first;
        for (NicId nic : lab_.segments[subnet.segment].nics) {
            bool router = lab_.machines[lab_.nics[nic].machine].kind == plan::MachineKind::router;
            if (!router || !serves(nic, subnet))
                continue;
            if (is_gateway(nic, subnet))
                return nic;
            if (!first)
                first = nic;
        }
        return first;
    }

    // Whether requests that the relay passes on can get to the server at all.
    bool are_joined(MachineId relay, MachineId server) {
        if (islands_.empty())
            islands_ = islands(lab_, JoinedBy::forwarding_machines);
        for (NicId one : lab_.nics_of(relay))
            for (NicId other : lab_.nics_of(server))
                if (islands_[lab_.nics[one].segment.row] == islands_[lab_.nics[other].segment.row])
                    return true;
        return false;
    }

    const plan::Plan& plan_;
    const Lab& lab_;
    std::vector<net::Address> in_use_; // ascending, without leases
    std::vector<std::uint32_t> islands_;
    std::vector<DhcpOffer> offers_;
};

} // namespace

std::vector<DhcpOffer> offers(const plan::Plan& plan, const Lab& lab) {
    return Offers(plan, lab).run();
}

} // namespace jackal::lab
