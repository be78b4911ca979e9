#include "lab/address/planning.h"

#include "jackal/net/place.h"

#include <bit>
#include <fmt/format.h>
#include <unordered_map>

namespace jackal::lab {

namespace {

void take(PerFamily<Choice>& into, const plan::Placed<net::Prefix>& prefix, Reason::Kind kind) {
    into[prefix.value.family()] = {prefix.value, {.kind = kind, .block = {}, .at = prefix.at}};
}

plan::Placed<net::Prefix> whole(const plan::Placed<net::Address>& address) {
    return {net::Prefix(address.value, net::address_bits(address.value.family())), address.at};
}

void pin_subnet(Planning& p, std::size_t row, const plan::Pins::Prefixes& pin) {
    const plan::Subnet& subnet = p.plan.subnets[row];
    for (const auto& prefix : pin.prefixes) {
        take(p.result.subnets[row], prefix, Reason::Kind::pinned);
        int wanted = wanted_length(subnet, prefix.value.family());
        if (prefix.value.length() > wanted)
            p.result.unplaced.push_back(
                {.what = fmt::format("subnet {} wants {}", subnet.name, wish_text(subnet, wanted)),
                 .why = fmt::format("it is pinned to {}", net::to_string(prefix.value)),
                 .advice = fmt::format("take {} out of `pinned` and pin again; it will move",
                                       subnet.name),
                 .family = prefix.value.family(),
                 .site = {},
                 .subnet = SubnetId{static_cast<std::uint32_t>(row)},
                 .length = wanted,
                 .at = subnet.at});
    }
}

} // namespace

void take_written(Planning& p) {
    for (std::size_t i = 0; i < p.plan.subnets.size(); ++i)
        for (const auto& prefix : p.plan.subnets[i].prefixes)
            take(p.result.subnets[i], prefix, Reason::Kind::written);
    for (std::size_t i = 0; i < p.plan.links.size(); ++i)
        for (const auto& prefix : p.plan.links[i].prefixes)
            take(p.result.links[i], prefix, Reason::Kind::written);
    for (std::size_t i = 0; i < p.result.loopbacks.size(); ++i)
        if (const auto& loopback = p.plan.machines[i].loopback)
            for (const auto& address : loopback->given)
                take(p.result.loopbacks[i], whole(address), Reason::Kind::written);
}

void take_pinned(Planning& p) {
    std::unordered_map<std::string_view, std::size_t> rows;
    auto number = [&](const auto& entries) {
        rows.clear();
        for (std::size_t i = 0; i < entries.size(); ++i)
            rows.emplace(entries[i].name, i);
    };
    number(p.plan.subnets);
    for (const auto& pin : p.plan.pins.subnets)
        if (auto found = rows.find(pin.name);
            found != rows.end() && p.plan.subnets[found->second].prefixes.empty())
            pin_subnet(p, found->second, pin);
    number(p.plan.machines);
    for (const auto& pin : p.plan.pins.loopbacks)
        if (auto found = rows.find(pin.machine); found != rows.end())
            if (const auto& loopback = p.plan.machines[found->second].loopback;
                loopback && loopback->given.empty())
                for (const auto& address : pin.chosen)
                    take(p.result.loopbacks[found->second], whole(address), Reason::Kind::pinned);
    if (p.plan.pins.links.empty())
        return;
    rows.clear();
    const std::vector<std::string> names = plan::link_names(p.plan.links);
    for (std::size_t i = 0; i < names.size(); ++i)
        rows.emplace(names[i], i);
    for (const auto& pin : p.plan.pins.links)
        if (auto found = rows.find(pin.name);
            found != rows.end() && p.plan.links[found->second].prefixes.empty())
            for (const auto& prefix : pin.prefixes)
                if (prefix.value.usable() >= 2)
                    take(p.result.links[found->second], prefix, Reason::Kind::pinned);
}

std::vector<net::Prefix> all_chosen(const Planning& p) {
    std::vector<net::Prefix> all;
    for (const auto* rows : {&p.result.subnets, &p.result.links, &p.result.loopbacks})
        for (const PerFamily<Choice>& row : *rows)
            for (net::Family family : net::both_families)
                if (row[family].prefix)
                    all.push_back(*row[family].prefix);
    return all;
}

} // namespace jackal::lab
