#include "reach/engine/classes.h"

#include "jackal/net/prefix_table.h"
#include "jackal/sorted.h"
#include "reach/speaker.h"

#include <algorithm>
#include <map>

namespace jackal::reach {

using lab::AddressId;
using lab::Lab;
using lab::MachineId;
using lab::NicId;

namespace {

class Classifier {
  public:
    Classifier(const routing::Settled& settled, const Packets& packets)
        : settled_(settled), lab_(settled.lab()), packets_(packets) {
        collect_named();
        for (const lab::StaticRoute& route : lab_.routes)
            vias_.push_back(route.via);
        sort_unique(vias_);
    }

    std::vector<EndClass> run(const std::vector<AddressId>& ends) {
        std::map<std::vector<std::uint64_t>, std::size_t> known;
        for (std::uint32_t i = 0; i < ends.size(); ++i) {
            std::size_t number = classes_.size();
            if (is_host(ends[i]))
                number = known.try_emplace(traits(ends[i]), number).first->second;
            if (number == classes_.size())
                classes_.push_back(made(ends[i]));
            classes_[number].members.push_back(i);
            if (classes_[number].members.size() == 2)
                classes_[number].second = ends[i];
        }
        std::ranges::stable_sort(classes_, {}, [](const EndClass& c) {
            return std::pair(!c.is_plain, c.is_plain ? c.gateway : NicId{});
        });
        return std::move(classes_);
    }

  private:
    // The prefixes that rules of filters and translations name: two addresses for which the longest
    // of them is the same are in the same ones.
    void collect_named() {
        std::vector<net::Prefix> named;
        auto add = [&](const std::vector<net::Prefix>& prefixes) {
            named.insert(named.end(), prefixes.begin(), prefixes.end());
        };
        for (const lab::Filter& filter : lab_.filters)
            for (const lab::FilterRule& rule : filter.rules) {
                add(rule.from);
                add(rule.to);
            }
        for (const lab::Duties& duties : lab_.duties)
            for (const lab::Translation& translation : duties.translations)
                add(translation.from);
        sort_unique(named);
        std::vector<net::PrefixTable::Entry> entries;
        for (const net::Prefix& prefix : named)
            entries.push_back({prefix, static_cast<std::uint32_t>(entries.size())});
        named_ = net::PrefixTable(std::move(entries));
    }

    // True for an end that is as good as another with the same traits: nobody passes it, it does
    // nothing but send and take, and nobody sends by way of it.
    bool is_host(AddressId end) const {
        const lab::InterfaceAddress& row = lab_.addresses[end];
        const lab::Nic& nic = lab_.nics[row.nic];
        const lab::Machine& machine = lab_.machines[nic.machine];
        return machine.nic_count == 1 && !machine.forwards_any() && !machine.duties
               && !nic.shares_mac && !settled_.learned(nic.machine).teaches(nic.machine)
               && !lab_.segments[nic.segment].link
               && count_addresses(lab_, row.nic, packets_.family) == 1 && !is_special(row.address)
               && !std::ranges::binary_search(vias_, row.address);
    }

    bool is_special(net::Address address) const {
        return lab_.owners_of(address).size() != 1 || settled_.aim(address).is_broadcast;
    }

    std::vector<std::uint64_t> traits(AddressId end) const {
        const lab::InterfaceAddress& row = lab_.addresses[end];
        const lab::Nic& nic = lab_.nics[row.nic];
        std::vector<std::uint64_t> traits{nic.segment.row,
                                          settled_.wiring().domain(lab_, row.nic),
                                          settled_.condition().machine_on(nic.machine),
                                          settled_.condition().nic_up(row.nic),
                                          nic.mtu_bytes,
                                          nic.guard.row,
                                          row.length,
                                          settled_.aim(row.address).prefix,
                                          named_.lookup(row.address)};
        for (lab::RouteId id : lab_.routes_of(nic.machine)) {
            const lab::StaticRoute& route = lab_.routes[id];
            traits.insert(traits.end(), {route.to.first().high(), route.to.first().low(),
                                         static_cast<std::uint64_t>(route.to.bits128()),
                                         route.via.high(), route.via.low(), route.metric});
        }
        return traits;
    }

    EndClass made(AddressId end) const {
        EndClass made{.members = {}, .first = end, .second = {}, .gateway = {}};
        made.is_walked = is_special(lab_.addresses[end].address);
        made.is_host = is_host(end);
        if (made.is_host)
            find_gateway(settled_, packets_, made);
        return made;
    }

    const routing::Settled& settled_;
    const Lab& lab_;
    const Packets& packets_;
    net::PrefixTable named_;
    std::vector<net::Address> vias_; // next hops of static routes, ascending
    std::vector<EndClass> classes_;
};

} // namespace

// Sends a packet to where its default route alone leads.
void find_gateway(const routing::Settled& settled, const Packets& packets, EndClass& host) {
    const Lab& lab = settled.lab();
    const lab::InterfaceAddress& own = lab.addresses[host.first];
    MachineId machine = lab.nics[own.nic].machine;
    host.is_plain = false;
    host.gateway = {};
    for (lab::RouteId id : lab.routes_of(machine))
        if (lab.routes[id].to.length() != 0)
            return;
    net::Address nowhere = net::Prefix::everything(packets.family).first();
    routing::Aim aim = settled.aim(nowhere);
    const routing::Hop* hop = settled.hop(machine, aim);
    if (!aim.owners.empty() || own.prefix().contains(nowhere)
        || (hop != nullptr && (hop->kind == routing::RouteKind::connected || hop->is_tunnel)))
        return;
    packet::Header header = packets.header(false);
    header.destination = aim;
    packet::Decision decision =
        packet::decide(settled, machine, header, {.passage = {}, .lets_all_pass = true});
    if (header.may_not_fit)
        return;
    host.is_plain = true;
    if (decision.action == packet::Action::send)
        host.gateway = decision.neighbour;
}

std::vector<EndClass> classes(const routing::Settled& settled, const std::vector<AddressId>& ends,
                              const Packets& packets) {
    return Classifier(settled, packets).run(ends);
}

} // namespace jackal::reach
