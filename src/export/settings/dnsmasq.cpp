#include "export/settings/settings.h"
#include "jackal/export/words.h"

#include <fmt/format.h>

namespace jackal::exports {

using lab::MachineId;

namespace {

void add_offer(const lab::Lab& lab, const lab::DhcpOffer& offer, std::vector<std::string>& into) {
    const lab::Subnet& subnet = lab.subnets[offer.subnet];
    const net::Prefix& prefix = *lab.segments[subnet.segment].prefix.ipv4;
    auto add = [&]<class... Args>(fmt::format_string<Args...> form, Args&&... args) {
        into.push_back(fmt::format(form, std::forward<Args>(args)...));
    };
    for (const net::Range& range : offer.gives)
        add("dhcp-range=set:{},{},{},{},{}", subnet.name, net::to_string(range.first),
            net::to_string(range.last), mask_text(prefix), offer.time.count());
    add("dhcp-option=tag:{},3{}", subnet.name,
        offer.router ? "," + net::to_string(*offer.router) : "");
    if (offer.gives.empty() && !offer.kept.empty())
        add("dhcp-range=set:{},{},static,{},{}", subnet.name, net::to_string(prefix.first()),
            mask_text(prefix), offer.time.count());
    std::string servers;
    for (net::Address server : offer.dns)
        servers += "," + net::to_string(server);
    if (!servers.empty())
        add("dhcp-option=tag:{},6{}", subnet.name, servers);
    for (const auto& [mac, address] : offer.kept)
        add("dhcp-host={},{}", net::to_string(mac), net::to_string(address));
}

void add_relay(const lab::Lab& lab, const lab::DhcpOffer& offer, std::vector<std::string>& into) {
    const auto* here = lab.first_address(offer.heard_by, net::Family::ipv4);
    for (lab::NicId nic : lab.nics_of(offer.giver))
        if (const auto* there = lab.first_address(nic, net::Family::ipv4)) {
            into.push_back(fmt::format("dhcp-relay={},{}", net::to_string(here->address),
                                       net::to_string(there->address)));
            return;
        }
}

} // namespace

std::vector<std::string> dhcp_settings(const lab::Lab& lab, MachineId id) {
    std::vector<std::string> lines;
    for (const lab::DhcpOffer& offer : lab.offers) {
        if (offer.giver == id)
            add_offer(lab, offer, lines);
        else if (lab.nics[offer.heard_by].machine == id)
            add_relay(lab, offer, lines);
    }
    return lines;
}

} // namespace jackal::exports
