#include "export/settings/settings.h"
#include "jackal/sorted.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::exports {

using lab::Lab;
using lab::MachineId;
using lab::NicId;

namespace {

// What every chain of filters lets pass: what answers an allowed packet or tells of it, what a
// machine sends to itself, and Neighbour Discovery (RFC 4861), as ARP is not filtered either.
constexpr std::string_view always =
    "    ct state established,related accept\n"
    "    {}if lo accept\n"
    "    icmpv6 type {{ nd-router-solicit, nd-router-advert, nd-neighbor-solicit, "
    "nd-neighbor-advert, nd-redirect }} accept\n";

// Of nftables: its translations have -100 and 100.
constexpr int before_translation = -150;
constexpr int after_translation = 150;

std::string chain_name(const lab::Filter& filter, plan::Way way) {
    return fmt::format("filter-{}-{}", filter.name, plan::to_string(way));
}

// Prefixes that others hold are left out, as nftables refuses sets that overlap.
std::string prefix_list(const std::vector<net::Prefix>& prefixes, net::Family family) {
    std::string list;
    for (std::size_t i = 0; i < prefixes.size(); ++i) {
        bool held = false;
        for (std::size_t j = 0; j < prefixes.size(); ++j)
            held |= prefixes[j].contains(prefixes[i]) && (prefixes[j] != prefixes[i] || j < i);
        if (prefixes[i].family() != family || held)
            continue;
        list += (list.empty() ? "" : ", ") + net::to_string(prefixes[i]);
    }
    return list;
}

// Ports in order, those that overlap as one range.
std::string port_match(const lab::FilterRule& rule) {
    std::string_view protocol = rule.protocol == net::Protocol::icmp   ? "icmp, ipv6-icmp"
                                : rule.protocol == net::Protocol::tcp  ? "tcp"
                                : rule.protocol == net::Protocol::udp  ? "udp"
                                : rule.protocol == net::Protocol::ospf ? "89" // RFC 2328
                                : rule.ports.empty()                   ? ""
                                                                       : "tcp, udp";
    if (protocol.empty())
        return "";
    std::string text = fmt::format("meta l4proto {{ {} }} ", protocol);
    if (rule.ports.empty())
        return text;
    std::string list;
    for (net::Ports ports : merged(rule.ports))
        list += (list.empty() ? "" : ", ") + net::to_string(ports);
    return text + fmt::format("th dport {{ {} }} ", list);
}

// The matches of nftables that together are those of a rule, each with a blank behind it.
std::vector<std::string> matches(const lab::FilterRule& rule) {
    std::string ports = port_match(rule);
    if (rule.any_from && rule.any_to)
        return {ports};
    std::vector<std::string> result;
    for (net::Family family : net::both_families) {
        auto from = end_match(rule.any_from, rule.from, family, "saddr");
        auto to = end_match(rule.any_to, rule.to, family, "daddr");
        if (from && to)
            result.push_back(*from + *to + ports);
    }
    return result;
}

// What is accepted goes back to where the chain was called from, as other filters may follow.
std::string filter_chain(const lab::Filter& filter, plan::Way way) {
    std::string text = fmt::format("  chain {} {{\n", chain_name(filter, way));
    for (const lab::FilterRule& rule : filter.rules)
        if (!rule.way || *rule.way == way)
            for (const std::string& match : matches(rule))
                text += fmt::format("    {}{}\n", match, rule.allows ? "return" : "drop");
    return text + fmt::format("    {}\n  }}\n", filter.allows ? "return" : "drop");
}

std::string base_chain(std::string_view name, std::string_view hook, int priority,
                       std::string_view direction, const std::string& rules) {
    return fmt::format("  chain {} {{\n    type filter hook {} priority {}; policy accept;\n", name,
                       hook, priority)
           + fmt::format(fmt::runtime(always), direction) + rules + "  }\n";
}

std::string nic_chain(const Lab& lab, MachineId id, plan::Way way,
                      std::set<std::pair<lab::FilterId, plan::Way>>& used) {
    std::string rules;
    bool in = way == plan::Way::in;
    for (NicId nic : lab.nics_of(id)) {
        if (!lab.nics[nic].guard)
            continue;
        const lab::Guard& guard = lab.guards[lab.nics[nic].guard];
        for (lab::FilterId filter : {guard.subnet, guard.nic})
            if (filter) {
                used.emplace(filter, way);
                rules += fmt::format("    {}ifname \"{}\" jump {}\n", in ? "i" : "o",
                                     lab.nics[nic].name, chain_name(lab.filters[filter], way));
            }
    }
    if (rules.empty())
        return "";
    return in ? base_chain("nic-arrives", "prerouting", before_translation, "i", rules)
              : base_chain("nic-leaves", "postrouting", after_translation, "o", rules);
}

std::string machine_chains(const Lab& lab, MachineId id,
                           std::set<std::pair<lab::FilterId, plan::Way>>& used) {
    const lab::Duties* duties = lab.duties_of(id);
    if (duties == nullptr || !duties->filter)
        return "";
    std::string text;
    for (auto [way, hook, direction] :
         {std::tuple{plan::Way::in, "input", "i"}, std::tuple{plan::Way::out, "output", "o"},
          std::tuple{plan::Way::through, "forward", "i"}}) {
        used.emplace(duties->filter, way);
        text +=
            base_chain(fmt::format("machine-{}", plan::to_string(way)), hook, 0, direction,
                       fmt::format("    jump {}\n", chain_name(lab.filters[duties->filter], way)));
    }
    return text;
}

// A core passes nothing on from one peer to another, nor back to the same one.
std::string relay_chain(const Lab& lab, MachineId id) {
    std::string peers;
    for (NicId nic : lab.nics_of(id))
        if (lab.machines[id].is_core && lab.is_peering(nic))
            peers += fmt::format("{}\"{}\"", peers.empty() ? "" : ", ", lab.nics[nic].name);
    if (peers.empty())
        return "";
    return fmt::format("  chain no-relay {{\n"
                       "    type filter hook forward priority -10; policy accept;\n"
                       "    iifname {{ {0} }} oifname {{ {0} }} drop\n  }}\n",
                       peers);
}

} // namespace

std::string nftables_rules(const Lab& lab, MachineId id) {
    std::set<std::pair<lab::FilterId, plan::Way>> used;
    std::string chains = nic_chain(lab, id, plan::Way::in, used)
                         + nic_chain(lab, id, plan::Way::out, used) + machine_chains(lab, id, used)
                         + relay_chain(lab, id) + translation_chains(lab, id);
    if (chains.empty())
        return "";
    std::string text = "table inet jackal {\n";
    for (auto [filter, way] : used)
        text += filter_chain(lab.filters[filter], way);
    return text + chains + "}\n";
}

std::optional<std::string> end_match(bool any, const std::vector<net::Prefix>& prefixes,
                                     net::Family family, std::string_view field) {
    if (any)
        return "";
    std::string list = prefix_list(prefixes, family);
    if (list.empty())
        return std::nullopt;
    return fmt::format("{} {} {{ {} }} ", family == net::Family::ipv4 ? "ip" : "ip6", field, list);
}

} // namespace jackal::exports
