#include "jackal/plan/complete.h"

#include "plan/complete/builders.h"
#include "plan/validate/validate.h"

#include <stdexcept>

namespace jackal::plan {

Complete::Complete(Plan plan, Unchecked) : entries_(std::move(plan)) {
    sites_ = entries_.sites.size();
    subnets_ = entries_.subnets.size();
    machines_ = entries_.machines.size();
    links_ = entries_.links.size();
    add_cores(*this);
    cores_end_ = entries_.machines.size();
    add_outside(*this);
}

namespace {

void throw_first(const std::vector<Problem>& problems, const std::string& source) {
    if (!problems.empty())
        throw std::invalid_argument(to_string(problems.front().at, source) + ": "
                                    + problems.front().message);
}

Plan with_sound_values(Plan plan) {
    throw_first(value_problems(plan), plan.source);
    return plan;
}

} // namespace

Complete::Complete(Plan plan) : Complete(with_sound_values(std::move(plan)), Unchecked{}) {
    throw_first(problems_of(*this), entries_.source);
}

std::optional<Complete> Complete::of(Plan plan, std::vector<Problem>& problems) {
    Complete whole(std::move(plan), Unchecked{});
    for (Problem& problem : problems_of(whole))
        problems.push_back(std::move(problem));
    if (!problems.empty())
        return std::nullopt;
    whole.entries_.machines.shrink_to_fit();
    whole.entries_.subnets.shrink_to_fit();
    return whole;
}

Plan Complete::written() const& {
    return Complete(*this).written();
}

Plan Complete::written() && {
    Plan& plan = entries_;
    plan.sites.resize(sites_);
    plan.subnets.resize(subnets_);
    plan.links.resize(links_);
    plan.machines.erase(plan.machines.begin() + static_cast<std::ptrdiff_t>(machines_),
                        plan.machines.end());
    for (const auto& [machine, written] : written_routes_)
        if (machine < machines_)
            plan.machines[machine].routes.resize(written);
    for (Machine& machine : plan.machines)
        for (Nic& nic : machine.nics)
            if (nic.has_way_out())
                nic.subnet = {};
    for (std::size_t subnet : dhcp_)
        plan.subnets[subnet].dhcp.reset();
    for (std::size_t subnet : prefixes_)
        plan.subnets[subnet].prefixes.clear();
    return std::move(entries_);
}

} // namespace jackal::plan
