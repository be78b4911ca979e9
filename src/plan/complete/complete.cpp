#include "jackal/plan/complete.h"

#include "plan/complete/builders.h"
#include "plan/validate/validate.h"

#include <stdexcept>

namespace jackal::plan {

namespace {

template <class Entry>
auto name_in(const std::vector<Entry>& entries) {
    return [&entries](std::uint32_t i) -> std::string_view { return entries[i].name; };
}

template <class Entry>
void index_names(const std::vector<Entry>& entries, NameIndex& index) {
    for (std::uint32_t i = 0; i < entries.size(); ++i)
        index.add(i, entries[i].name, name_in(entries));
}

std::shared_ptr<const CompleteParts> completed(Plan plan) {
    auto parts = std::make_shared<CompleteParts>();
    Plan& entries = parts->entries;
    entries = std::move(plan);
    parts->sites = entries.sites.size();
    parts->subnets = entries.subnets.size();
    parts->machines = entries.machines.size();
    parts->links = entries.links.size();
    add_cores(*parts);
    parts->cores_end = entries.machines.size();
    add_outside(*parts);
    entries.machines.shrink_to_fit();
    entries.subnets.shrink_to_fit();
    index_names(entries.sites, parts->site_index);
    index_names(entries.subnets, parts->subnet_index);
    index_names(entries.machines, parts->machine_index);
    index_names(entries.filters, parts->filter_index);
    return parts;
}

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

Complete::Complete() {
    static const auto empty = std::make_shared<const CompleteParts>();
    parts_ = empty;
}

Complete::Complete(Plan plan) : Complete(completed(with_sound_values(std::move(plan)))) {
    throw_first(problems_of(*this), entries().source);
}

std::optional<Complete> Complete::of(Plan plan, std::vector<Problem>& problems) {
    Complete whole(completed(std::move(plan)));
    for (Problem& problem : problems_of(whole))
        problems.push_back(std::move(problem));
    if (!problems.empty())
        return std::nullopt;
    return whole;
}

Plan Complete::written() const {
    const CompleteParts& parts = *parts_;
    Plan plan = parts.entries;
    plan.sites.resize(parts.sites);
    plan.subnets.resize(parts.subnets);
    plan.links.resize(parts.links);
    plan.machines.erase(plan.machines.begin() + static_cast<std::ptrdiff_t>(parts.machines),
                        plan.machines.end());
    for (const auto& [machine, written] : parts.written_routes)
        if (machine < parts.machines)
            plan.machines[machine].routes.resize(written);
    for (Machine& machine : plan.machines)
        for (Nic& nic : machine.nics)
            if (nic.has_way_out())
                nic.subnet = {};
    for (std::size_t subnet : parts.dhcp)
        plan.subnets[subnet].dhcp.reset();
    for (std::size_t subnet : parts.prefixes)
        plan.subnets[subnet].prefixes.clear();
    return plan;
}

std::optional<std::uint32_t> Complete::site(std::string_view name) const {
    return parts_->site_index.find(name, name_in(entries().sites));
}

std::optional<std::uint32_t> Complete::subnet(std::string_view name) const {
    return parts_->subnet_index.find(name, name_in(entries().subnets));
}

std::optional<std::uint32_t> Complete::machine(std::string_view name) const {
    return parts_->machine_index.find(name, name_in(entries().machines));
}

std::optional<std::uint32_t> Complete::filter(std::string_view name) const {
    return parts_->filter_index.find(name, name_in(entries().filters));
}

} // namespace jackal::plan
