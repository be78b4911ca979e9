#include "plan/validate/validate.h"

#include "jackal/plan/validate.h"
#include "plan/validate/validation.h"

namespace jackal::plan {

Validation::Validation(const Complete& of)
    : whole(of), plan(of.entries()), sites("site", plan.sites), pools("pool", plan.pools),
      subnets("subnet", plan.subnets), machines("machine", plan.machines),
      filters("filter", plan.filters), policies("policy", plan.policies),
      switches("switch", plan.switches), nic_names(plan), link_nics(plan.machines.size()) {}

std::vector<Problem> problems_of(const Complete& plan) {
    Validation v(plan);
    check_lab_name(v);
    collect_names(v);
    check_pools(v);
    check_sites(v);
    for (const Subnet& subnet : v.plan.subnets)
        check_subnet(v, subnet);
    count_link_nics(v);
    check_switches(v);
    check_outside(v);
    for (const Filter& filter : v.plan.filters)
        check_filter(v, filter);
    for (const Machine& machine : v.plan.machines)
        check_machine(v, machine);
    for (const Link& link : v.plan.links)
        check_link(v, link);
    check_peerings(v);
    for (const Expectation& expectation : v.plan.expectations)
        check_expectation(v, expectation);
    return std::move(v.problems);
}

std::vector<Problem> problems(const Plan& plan) {
    std::vector<Problem> found;
    Complete::of(plan, found);
    return found;
}

std::pair<std::string_view, std::string_view> split_endpoint(std::string_view text) {
    std::size_t slash = text.find('/');
    if (slash == text.npos)
        return {text, {}};
    return {text.substr(0, slash), text.substr(slash + 1)};
}

std::string nic_name(const Machine& machine, std::size_t position) {
    if (position < machine.nics.size() && machine.nics[position].name)
        return *machine.nics[position].name;
    return fmt::format("eth{}", position);
}

} // namespace jackal::plan
