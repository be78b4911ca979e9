#include "jackal/lab/build.h"

#include "lab/address/assign.h"
#include "lab/build/building.h"
#include "lab/build/protocols.h"

namespace jackal::lab {

namespace {

void reserve(Lab& lab, const plan::Plan& plan) {
    std::size_t nics = 2 * plan.links.size();
    for (const plan::Machine& machine : plan.machines)
        nics += machine.nics.size() + (machine.loopback ? 1 : 0);
    lab.machines.reserve(plan.machines.size());
    lab.nics.reserve(nics);
    lab.addresses.reserve(nics);
    lab.routes.reserve(plan.machines.size());
    lab.subnets.reserve(plan.subnets.size());
    lab.segments.reserve(plan.subnets.size() + plan.links.size());
}

void shrink(Lab& lab) {
    lab.machines.shrink();
    lab.nics.shrink();
    lab.addresses.shrink();
    lab.routes.shrink();
    lab.segments.shrink();
    lab.subnets.shrink();
    lab.owners.shrink_to_fit();
}

} // namespace

Building::Building(const plan::Complete& of) : whole(of), plan(of.entries()) {
    lab.plan = of;
}

Lab build(const plan::Complete& plan) {
    Building b(plan);
    b.lab.name = b.plan.lab;
    b.lab.source = b.plan.source;
    b.lab.expectations = b.plan.expectations;
    reserve(b.lab, b.plan);
    Allocation allocation = choose_prefixes(b);
    b.lab.unplaced = std::move(allocation.unplaced);
    add_sites(b, allocation);
    add_subnets(b, allocation);
    add_totals(b);
    add_machines(b);
    add_links(b, allocation);
    add_peerings(b);
    add_loopbacks(b, allocation);
    add_switches(b);
    add_plugs(b);
    separate_macs(b);
    mark_shared_macs(b);
    add_starts_after(b);
    assign_addresses(plan, b.lab);
    lay_tunnels(b);
    index_owners(b);
    add_filters(b);
    add_guards(b);
    add_duties(b);
    add_speakers(b.plan, b.lab);
    add_routes(b);
    shrink(b.lab);
    return std::move(b.lab);
}

Lab build(plan::Plan plan) {
    return build(plan::Complete(std::move(plan)));
}

Reasons reasons(const plan::Complete& plan) {
    Allocation allocation = choose_prefixes(Building(plan));
    auto reasons_of = [](const std::vector<PerFamily<Choice>>& choices) {
        std::vector<PerFamily<Reason>> result;
        for (const PerFamily<Choice>& choice : choices)
            result.push_back({choice.ipv4.reason, choice.ipv6.reason});
        return result;
    };
    return {reasons_of(allocation.subnets), reasons_of(allocation.links),
            reasons_of(allocation.loopbacks)};
}

} // namespace jackal::lab
