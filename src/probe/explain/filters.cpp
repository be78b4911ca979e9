#include "probe/explain/causes.h"

#include <fmt/format.h>

namespace jackal::probe {

using lab::MachineId;
using net::to_string;
using plan::Cause;
using plan::to_string;

namespace {

// The machine that has the address, as a plan names it, or the address itself.
plan::Ends end_name(const Case& c, net::Address address) {
    std::optional<MachineId> machine;
    for (const lab::Owner& owner : c.lab.owners_of(address)) {
        if (machine && *machine != owner.machine)
            return net::Prefix(address, net::address_bits(c.family));
        machine = owner.machine;
    }
    if (machine)
        return c.name(*machine);
    return net::Prefix(address, net::address_bits(c.family));
}

// The least rule that lets the packet pass.
plan::FilterRule least_rule(const Case& c) {
    const net::Flow& flow = c.journey.flow;
    plan::FilterRule rule{.allows = true, .way = c.journey.denial.way, .protocol = flow.protocol};
    rule.from.emplace_back(end_name(c, flow.source));
    rule.to.emplace_back(end_name(c, flow.destination));
    if (net::has_ports(flow.protocol) && !c.leg.returning)
        rule.ports.push_back({flow.destination_port, flow.destination_port});
    return rule;
}

} // namespace

Diagnosis filtered(const Case& c) {
    const packet::Denial& denial = c.journey.denial;
    const lab::Filter& filter = c.lab.filters[denial.filter];
    const net::Flow& flow = c.journey.flow;
    bool by_default = denial.rule == lab::RuleIndex::none;
    std::string place = c.name(c.here);
    if (denial.nic) {
        place = c.lab.nic_name(denial.nic);
        if (c.lab.guards[c.lab.nics[denial.nic].guard].subnet == denial.filter)
            place += fmt::format(" (of subnet {})", c.segment_of(denial.nic));
    }
    std::string what(to_string(flow.protocol));
    if (net::has_ports(flow.protocol) && !c.leg.returning)
        what = to_string(net::Service{flow.protocol, flow.destination_port});
    return c.say(
        Cause::filter_denies, c.here,
        fmt::format("filter {} on {} drops {} from {} to {} on its way {}: {}", filter.name, place,
                    what, to_string(flow.source), to_string(flow.destination),
                    to_string(denial.way),
                    by_default ? "no rule allows it, and its default is deny"
                               : fmt::format("rule {} denies it", denial.rule + 1)),
        {{plan::add_filter_rule(c.lab.plan, filter.name,
                                by_default ? filter.rules.size() : denial.rule, least_rule(c))},
         ""},
        by_default ? filter.default_at : filter.rules[denial.rule].at);
}

} // namespace jackal::probe
