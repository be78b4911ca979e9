#include "export/settings/settings.h"

#include <fmt/format.h>

namespace jackal::exports {

using lab::MachineId;

namespace {

std::string translation_line(const lab::Lab& lab, const lab::Translation& rule) {
    const std::string& nic = lab.nics[rule.nic].name;
    if (rule.kind == plan::Translation::Kind::source) {
        auto from = end_match(rule.any_source, rule.from, net::Family::ipv4, "saddr");
        if (!from)
            return "";
        return fmt::format("    meta nfproto ipv4 oifname \"{}\" {}masquerade\n", nic, *from);
    }
    std::vector<net::Prefix> own;
    for (lab::AddressId row : lab.addresses_of(rule.nic))
        own.emplace_back(lab.addresses[row].address,
                         net::address_bits(lab.addresses[row].address.family()));
    auto to = end_match(false, own, net::Family::ipv4, "daddr");
    if (!to || !rule.to)
        return "";
    std::string match;
    if (rule.protocol != net::Protocol::any)
        match = fmt::format("meta l4proto {} ", net::to_string(rule.protocol));
    if (rule.port != 0)
        match += fmt::format("th dport {} ", rule.port);
    return fmt::format("    iifname \"{}\" {}{}dnat ip to {}{}\n", nic, *to, match,
                       net::to_string(*rule.to),
                       rule.to_port != 0 ? fmt::format(":{}", rule.to_port) : "");
}

} // namespace

std::string translation_chains(const lab::Lab& lab, MachineId id) {
    const lab::Duties* duties = lab.duties_of(id);
    if (duties == nullptr || duties->translations.empty())
        return "";
    std::string inwards;
    std::string outwards;
    for (const lab::Translation& rule : duties->translations)
        (rule.kind == plan::Translation::Kind::source ? outwards : inwards) +=
            translation_line(lab, rule);
    return fmt::format("  chain translate-destination {{\n"
                       "    type nat hook prerouting priority -100; policy accept;\n{}  }}\n"
                       "  chain translate-source {{\n"
                       "    type nat hook postrouting priority 100; policy accept;\n{}  }}\n",
                       inwards, outwards);
}

} // namespace jackal::exports
