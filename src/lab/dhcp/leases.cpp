#include "lab/dhcp/leases.h"

#include "jackal/lab/start_order.h"
#include "lab/dhcp/offers.h"

#include <algorithm>
#include <map>
#include <numeric>
#include <set>
#include <utility>

namespace jackal::lab {

namespace {

class Leaser {
  public:
    Leaser(const plan::Plan& plan, const Lab& lab) : plan_(plan), lab_(lab) {}

    std::vector<Lease> run() {
        for (NicId id : lab_.nics.ids())
            if (asks(id))
                clients_.push_back(id);
        if (clients_.empty())
            return {};
        Wiring wiring(lab_, WiringState(lab_));
        for (const DhcpOffer& offer : lab_.offers) {
            offers_.emplace(wiring.domain(lab_, offer.heard_by), offer);
            index_reservations(offer.subnet);
        }
        for (const InterfaceAddress& row : lab_.addresses)
            if (row.origin < AddressOrigin::lease)
                used_.insert(row.address);
        in_start_order();
        std::vector<Lease> leases;
        for (NicId nic : clients_) {
            auto [first, last] = offers_.equal_range(wiring.domain(lab_, nic));
            leases.push_back(lease(nic, first, last));
        }
        std::ranges::sort(leases, {}, &Lease::nic);
        return leases;
    }

  private:
    using OfferMap = std::multimap<std::uint32_t, DhcpOffer>;

    bool asks(NicId id) const {
        const Nic& nic = lab_.nics[id];
        const auto& nics = plan_.machines[nic.machine.row].nics;
        return nic.plan_index < nics.size()
               && nics[nic.plan_index].address.kind == plan::NicAddress::Kind::dhcp;
    }

    // Who starts earlier asks earlier.
    void in_start_order() {
        std::map<MachineId, std::size_t> round;
        for (const Start& start : start_order(lab_))
            round.emplace(start.machine, start.round);
        std::ranges::stable_sort(clients_, {},
                                 [&](NicId nic) { return round[lab_.nics[nic].machine]; });
    }

    // The first server that answers: the one of the lowest number. A machine does not hear itself.
    Lease lease(NicId nic, OfferMap::const_iterator first, OfferMap::const_iterator last) {
        Lease lease{.nic = nic};
        const Nic& row = lab_.nics[nic];
        const DhcpOffer* best = nullptr;
        if (row.up && lab_.machines[row.machine].up)
            for (; first != last; ++first)
                if (first->second.giver != row.machine
                    && (best == nullptr || first->second.giver < best->giver))
                    best = &first->second;
        if (best == nullptr) {
            lease.refusal = Lease::Refusal::no_server;
            lease.address = link_local(row.mac);
            return lease;
        }
        lease.subnet = best->subnet;
        lease.server = best->heard_by;
        lease.giver = best->giver;
        auto address = address_for(*best, nic, lease.reserved);
        if (!address) {
            lease.refusal = Lease::Refusal::range_dry;
            lease.address = link_local(row.mac);
            return lease;
        }
        used_.insert(*address);
        lease.address = *address;
        lease.time = best->time;
        lease.router = best->router;
        lease.dns = best->dns;
        return lease;
    }

    // RFC 3927 section 2.1: from the MAC, and another one if that is taken. When all are, NICs
    // share them.
    net::Address link_local(net::Mac mac) {
        constexpr std::uint32_t first = (169U << 24) | (254U << 16) | 256;
        constexpr std::uint32_t count = 65024;
        if (next_link_local_.empty()) {
            next_link_local_.resize(count + 1);
            std::iota(next_link_local_.begin(), next_link_local_.end(), 0U);
        }
        auto free_from = [&](std::uint32_t number) { // halves the ways that it walks
            while (next_link_local_[number] != number)
                number = next_link_local_[number] = next_link_local_[next_link_local_[number]];
            return number;
        };
        auto own = static_cast<std::uint32_t>(mac.bits % count);
        for (bool wrapped = false;;) {
            std::uint32_t number = free_from(wrapped ? 0 : own);
            if (number == count && std::exchange(wrapped, true))
                return net::Address::ipv4(first + own);
            if (number == count)
                continue;
            next_link_local_[number] = number + 1;
            if (used_.insert(net::Address::ipv4(first + number)).second)
                return net::Address::ipv4(first + number);
        }
    }

    void index_reservations(SubnetId id) {
        const net::Prefix& prefix = *lab_.segments[lab_.subnets[id].segment].prefix.ipv4;
        for (const plan::Reservation& entry : plan_.subnets[id.row].dhcp->reservations)
            if (auto kept = region_in(prefix, entry.address.value)) {
                const auto* mac = std::get_if<net::Mac>(&entry.client);
                kept_.emplace(std::pair(id, mac != nullptr ? net::to_string(*mac)
                                                           : std::get<std::string>(entry.client)),
                              kept->first);
            }
    }

    // What the server keeps for the NIC, or the first of what it gives that nobody has.
    std::optional<net::Address> address_for(const DhcpOffer& offer, NicId nic, bool& reserved) {
        const Subnet& subnet = lab_.subnets[offer.subnet];
        for (const std::string& client :
             {net::to_string(lab_.nics[nic].mac), lab_.machine_name(nic)})
            if (auto kept = kept_.find({offer.subnet, client});
                kept != kept_.end() && !used_.contains(kept->second)) {
                reserved = true;
                return kept->second;
            }
        net::Address& next = next_.emplace(offer.subnet, subnet.dhcp->first).first->second;
        for (const net::Range& range : offer.gives) {
            if (range.last < next)
                continue;
            for (next = std::max(next, range.first); next <= range.last; next = next.plus(1))
                if (!used_.contains(next))
                    return next;
        }
        return std::nullopt;
    }

    const plan::Plan& plan_;
    const Lab& lab_;
    std::vector<NicId> clients_;
    OfferMap offers_; // by domain
    std::set<net::Address> used_;
    std::vector<std::uint32_t> next_link_local_; // by number: itself if free, else one after it
    std::map<SubnetId, net::Address> next_;
    std::map<std::pair<SubnetId, std::string>, net::Address> kept_; // by MAC or machine
};

} // namespace

std::vector<Lease> leases(const plan::Plan& plan, const Lab& lab) {
    return Leaser(plan, lab).run();
}

} // namespace jackal::lab
