#include "jackal/reach/drift.h"
#include "lab/rules/rule_list.h"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <stdexcept>

namespace jackal::reach {

using lab::Lab;
using lab::MachineId;
using lab::NicId;

namespace {

std::optional<FoundRules::Translation> planned(const Lab& lab, const lab::Translation& rule) {
    FoundRules::Translation planned{.kind = rule.kind,
                                    .nic = lab.nics[rule.nic].name,
                                    .protocol = rule.protocol,
                                    .port = rule.port,
                                    .to_port = rule.to_port};
    if (rule.kind == plan::Translation::Kind::source) {
        for (const net::Prefix& prefix : lab::merged_prefixes(rule.from))
            if (prefix.family() == net::Family::ipv4)
                planned.from.push_back(prefix);
        if (!rule.any_source && planned.from.empty())
            return std::nullopt;
        return planned;
    }
    if (!rule.to || lab.first_address(rule.nic, net::Family::ipv4) == nullptr)
        return std::nullopt;
    planned.to = *rule.to;
    return planned;
}

std::vector<lab::FilterRule> planned_at(const Lab& lab, const lab::Guard& guard) {
    std::vector<lab::FilterRule> list;
    for (plan::Way way : {plan::Way::in, plan::Way::out}) {
        lab::RuleList one;
        for (lab::FilterId filter : {guard.subnet, guard.nic})
            if (filter)
                one = lab::in_turn(one, lab::rules_of(lab.filters[filter], way));
        one = lab::tidied(std::move(one));
        list.insert(list.end(), one.begin(), one.end());
    }
    return list;
}

} // namespace

plan::Translation as_written(const FoundRules::Translation& rule) {
    plan::Translation written;
    written.kind = rule.kind;
    written.nic = rule.nic;
    if (rule.kind == plan::Translation::Kind::source) {
        for (const net::Prefix& prefix : rule.from)
            written.from.emplace_back(plan::Ends(prefix));
        return written;
    }
    written.protocol = rule.protocol;
    written.port = rule.port;
    written.to = plan::Host(rule.to);
    written.to_port = rule.to_port;
    return written;
}

std::vector<std::string> words(const FoundRules& rules) {
    std::vector<std::string> lines;
    for (const lab::FilterRule& rule : rules.machine)
        lines.push_back(lab::words(rule));
    for (const auto& [nic, list] : rules.nics)
        for (const lab::FilterRule& rule : list)
            lines.push_back(fmt::format("{}: {}", nic, lab::words(rule)));
    for (const FoundRules::Translation& rule : rules.translations)
        lines.push_back(plan::to_string(as_written(rule)));
    if (!rules.not_relaying.empty())
        lines.push_back(
            fmt::format("nothing passes between {}", fmt::join(rules.not_relaying, ", ")));
    lines.insert(lines.end(), rules.unread.begin(), rules.unread.end());
    return lines;
}

FoundRules rules_of_end(const FoundRules& rules, const std::vector<std::string>& nics) {
    auto of_way = [](const std::vector<lab::FilterRule>& all, plan::Way way) {
        lab::RuleList list;
        for (const lab::FilterRule& rule : all)
            if (rule.way == way)
                list.push_back(rule);
        return list;
    };
    FoundRules found = rules;
    found.machine.clear();
    found.nics.clear();
    found.not_relaying.clear();
    for (const std::string& nic : nics) {
        const auto own = rules.nics.find(nic);
        std::vector<lab::FilterRule> list;
        for (plan::Way way : {plan::Way::in, plan::Way::out}) {
            const lab::RuleList at_nic =
                own == rules.nics.end() ? lab::RuleList{} : of_way(own->second, way);
            const lab::RuleList of_machine = of_way(rules.machine, way);
            const lab::RuleList both =
                lab::tidied(way == plan::Way::in ? lab::in_turn(at_nic, of_machine)
                                                 : lab::in_turn(of_machine, at_nic));
            list.insert(list.end(), both.begin(), both.end());
        }
        if (!list.empty())
            found.nics.emplace(nic, std::move(list));
    }
    return found;
}

FoundRules planned_rules(const Lab& lab, MachineId machine) {
    FoundRules rules;
    try {
        if (const lab::Duties* duties = lab.duties_of(machine)) {
            if (duties->filter)
                for (plan::Way way : {plan::Way::in, plan::Way::out, plan::Way::through}) {
                    auto list = lab::tidied(lab::rules_of(lab.filters[duties->filter], way));
                    rules.machine.insert(rules.machine.end(), list.begin(), list.end());
                }
            for (NicId nic : lab.nics_of(machine))
                for (const lab::Translation& rule : duties->translations)
                    if (rule.nic == nic)
                        if (auto one = planned(lab, rule))
                            rules.translations.push_back(std::move(*one));
        }
        for (NicId nic : lab.nics_of(machine)) {
            if (lab.nics[nic].guard)
                if (auto list = planned_at(lab, lab.guards[lab.nics[nic].guard]); !list.empty())
                    rules.nics.emplace(lab.nics[nic].name, std::move(list));
            if (lab.machines[machine].is_core && lab.is_peering(nic))
                rules.not_relaying.insert(lab.nics[nic].name);
        }
    } catch (const std::length_error& error) {
        rules.unread.emplace_back(error.what());
    }
    return rules;
}

} // namespace jackal::reach
