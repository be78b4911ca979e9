#include "jackal/plan/written.h"

#include "jackal/plan/sites.h"

#include <algorithm>

namespace jackal::plan {

namespace {

template <class T>
std::size_t row_of(const std::vector<T>& entries, const T& entry) {
    return static_cast<std::size_t>(&entry - entries.data());
}

} // namespace

const Machine* Written::machine(std::string_view name) const {
    if (whole_ == nullptr)
        return plan_.machine(name);
    auto row = whole_->machine(name);
    return row && whole_->is_written_machine(*row) ? &plan_.machines[*row] : nullptr;
}

const Subnet* Written::subnet(std::string_view name) const {
    if (whole_ == nullptr)
        return plan_.subnet(name);
    auto row = whole_->subnet(name);
    return row && !whole_->is_outside_subnet(*row) ? &plan_.subnets[*row] : nullptr;
}

const Site* Written::site(std::string_view name) const {
    if (whole_ == nullptr) {
        auto found = std::ranges::find(plan_.sites, name, &Site::name);
        return found == plan_.sites.end() ? nullptr : &*found;
    }
    auto row = whole_->site(name);
    return row && !whole_->is_outside_site(*row) ? &plan_.sites[*row] : nullptr;
}

const Site* Written::site_of_core(std::string_view name) const {
    if (machine(name) != nullptr)
        return nullptr;
    for (const Site& site : plan_.sites)
        if (site.automatic && core_name(site.name) == name)
            return &site;
    return nullptr;
}

std::size_t Written::links() const {
    return whole_ == nullptr ? plan_.links.size() : whole_->written_links();
}

std::span<const Route> Written::routes(const Machine& machine) const {
    std::span<const Route> routes = machine.routes;
    if (whole_ == nullptr)
        return routes;
    return routes.first(whole_->written_routes(row_of(plan_.machines, machine)));
}

bool Written::has_prefixes(const Subnet& subnet) const {
    return !subnet.prefixes.empty()
           && (whole_ == nullptr || !whole_->has_implied_prefixes(row_of(plan_.subnets, subnet)));
}

bool Written::has_dhcp(const Subnet& subnet) const {
    return subnet.dhcp
           && (whole_ == nullptr || !whole_->is_implied_dhcp(row_of(plan_.subnets, subnet)));
}

} // namespace jackal::plan
