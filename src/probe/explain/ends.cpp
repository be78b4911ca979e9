#include "jackal/lab/place.h"
#include "probe/explain/explain.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::probe {

using lab::Lab;
using lab::MachineId;
using lab::NicId;
using net::to_string;
using plan::Cause;

Diagnosis explain_other_source(const routing::Settled& settled, const packet::Journey& out,
                               const packet::Journey& back) {
    const Lab& lab = settled.lab();
    packet::Step redirecting = out.steps.front();
    for (const packet::Rewrite& rewrite : out.rewrites)
        if (rewrite.before.destination != rewrite.after.destination)
            redirecting = out.steps[rewrite.step];
    const std::string& name = lab.machines[redirecting.machine].name;
    lab::Remedy remedy{{}, fmt::format("route its answers by way of {}", name)};
    if (redirecting.out) // then the answers are for the translator itself
        remedy.edits = {plan::add_translation(lab.plan, name, lab.nics[redirecting.out].name)};
    MachineId server = out.last_machine();
    return {.cause = Cause::answer_not_turned_back,
            .where = server,
            .explanation = fmt::format(
                "{} asks {}, but the answer comes from {}, as it does not pass {}, which had sent "
                "the request on",
                lab.machines[out.steps.front().machine].name, to_string(out.packet.destination),
                to_string(back.flow.source), name),
            .remedy = std::move(remedy),
            .at = lab.machines[server].at};
}

namespace {

// The subnet of one of the end's NICs that found no room, if that is why it has no address.
const lab::Unplaced* homeless_subnet(const Lab& lab, const Endpoint& end) {
    for (NicId nic : lab.nics_of(end.machine))
        for (const lab::Unplaced& unplaced : lab.unplaced)
            if (unplaced.subnet && unplaced.subnet == lab.segments[lab.nics[nic].segment].subnet)
                return &unplaced;
    return nullptr;
}

Diagnosis explain_bare_end(const Lab& lab, const Endpoint& end) {
    const std::string& name = lab.machines[end.machine].name;
    Diagnosis d{.cause = Cause::nic_unaddressed,
                .where = end.machine,
                .explanation = fmt::format("{} has no address", end.name),
                .remedy = {{}, fmt::format("give {} a NIC with an address", end.name)},
                .at = lab.machines[end.machine].at};
    if (const lab::Unplaced* unplaced = homeless_subnet(lab, end)) {
        d.cause = Cause::no_space_left;
        d.explanation += fmt::format(": {}, but {}", unplaced->what, unplaced->why);
        d.remedy.edits = lab::make_room(lab, *unplaced);
        d.at = unplaced->at;
        return d;
    }
    for (NicId nic : lab.nics_of(end.machine)) {
        if (end.nic && nic != end.nic)
            continue;
        d.at = lab.nics[nic].at;
        d.remedy.edits = {
            plan::set_nic_address(lab.plan, name, lab.nics[nic].plan_index, {}, std::nullopt)};
        break;
    }
    return d;
}

} // namespace

Diagnosis explain_own_way_out(const Lab& lab, const Endpoint& from, const Endpoint& to) {
    Diagnosis d{.cause = Cause::behind_translation, .where = to.machine};
    d.at = lab.machines[to.machine].at;
    for (NicId nic : lab.nics_of(to.machine))
        if (lab.is_own_way_out(lab.nics[nic].segment) && (!to.nic || nic == to.nic)) {
            d.explanation = fmt::format("{} is a way out of its own, where nobody but its gateway "
                                        "gets to {}",
                                        lab.nic_name(nic), lab.machines[to.machine].name);
            d.at = lab.nics[nic].at;
            break;
        }
    const std::string& name = lab.machines[to.machine].name;
    d.remedy.advice = fmt::format("give {} a NIC on a subnet that {} reaches", name, from.name);
    for (net::Family family : {net::Family::ipv6, net::Family::ipv4})
        if (const auto* row = address_for(lab, from, {.name = name, .machine = to.machine}, family))
            d.remedy.advice = fmt::format("ask for {} by {}", name, to_string(row->address));
    return d;
}

Diagnosis explain_no_address(const Lab& lab, const Endpoint& from, const Endpoint& to) {
    for (const Endpoint* end : {&from, &to})
        for (NicId nic : lab.nics_of(end->machine)) {
            const lab::Lease* lease = lab.lease_of(nic);
            if (lease == nullptr || lease->refusal == lab::Lease::Refusal::none)
                continue;
            lab::Finding f = describe(lab, *lease);
            return {f.cause, end->machine, std::move(f.message), std::move(f.remedy), f.at};
        }
    auto is_known_by = [&](net::Family family) {
        return address_for(lab, from, to, family) != nullptr;
    };
    auto has = [&](net::Family family) { return address_at(lab, to, family) != nullptr; };
    if (std::ranges::any_of(net::both_families, has)
        && std::ranges::none_of(net::both_families, is_known_by))
        return explain_own_way_out(lab, from, to);
    for (const Endpoint* end : {&from, &to})
        if (address_at(lab, *end, net::Family::ipv4) == nullptr
            && address_at(lab, *end, net::Family::ipv6) == nullptr)
            return explain_bare_end(lab, *end);
    return {.cause = Cause::no_common_family,
            .where = from.machine,
            .explanation =
                fmt::format("{} and {} have no address family in common", from.name, to.name),
            .remedy = {{}, "give both ends an address of the same family"},
            .at = lab.machines[from.machine].at};
}

} // namespace jackal::probe
