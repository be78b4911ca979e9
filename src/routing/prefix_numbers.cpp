#include "prefix_numbers.h"

#include "jackal/sorted.h"

#include <algorithm>

namespace jackal::routing {

PrefixNumbers::PrefixNumbers(const lab::Lab& lab) {
    for (const lab::InterfaceAddress& row : lab.addresses)
        prefixes_.push_back(row.prefix());
    for (const lab::StaticRoute& row : lab.routes)
        prefixes_.push_back(row.to);
    for (const lab::Speaker& speaker : lab.speakers) {
        // Loopbacks are announced as hosts, and so are ends of virtual links.
        const bool has_virtual_links = speaker.ospf && !speaker.ospf->virtual_links.empty();
        for (lab::NicId nic : lab.nics_of(speaker.machine))
            for (lab::AddressId id : lab.addresses_of(nic))
                if (lab.nics[nic].is_loopback() || has_virtual_links)
                    prefixes_.emplace_back(lab.addresses[id].address,
                                           net::address_bits(lab.addresses[id].address.family()));
        if (speaker.ospf)
            for (const lab::OspfRange& range : speaker.ospf->ranges)
                prefixes_.push_back(range.prefix);
        if (speaker.bgp)
            prefixes_.insert(prefixes_.end(), speaker.bgp->networks.begin(),
                             speaker.bgp->networks.end());
    }
    if (lab.speakers.size() != 0)
        for (net::Family family : net::both_families)
            prefixes_.push_back(net::Prefix::everything(family));
    sort_unique(prefixes_);
    prefixes_.shrink_to_fit();

    std::vector<std::uint32_t> around; // prefixes that hold the current one, outermost first
    std::vector<net::PrefixTable::Entry> entries;
    for (std::uint32_t i = 0; i < prefixes_.size(); ++i) {
        while (!around.empty() && prefixes_[around.back()].last() < prefixes_[i].first())
            around.pop_back();
        // An IPv6 prefix around the IPv4-mapped block is around, but does not hold IPv4 prefixes.
        bool held = !around.empty() && prefixes_[around.back()].contains(prefixes_[i]);
        shorter_.push_back(held ? around.back() : none);
        around.push_back(i);
        entries.push_back({prefixes_[i], i});
    }
    table_ = net::PrefixTable(std::move(entries));
}

std::uint32_t PrefixNumbers::find(const net::Prefix& prefix, std::uint32_t first) const {
    auto found = std::lower_bound(prefixes_.begin() + first, prefixes_.end(), prefix);
    return static_cast<std::uint32_t>(found - prefixes_.begin());
}

std::uint32_t PrefixNumbers::number(const net::Prefix& prefix) const {
    std::uint32_t found = find(prefix);
    return found < prefixes_.size() && prefixes_[found] == prefix ? found : none;
}

} // namespace jackal::routing
