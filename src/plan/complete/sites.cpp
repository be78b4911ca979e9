#include "plan/complete/sites.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::plan {

namespace {

const Site* site_named(const Plan& plan, std::string_view name) {
    auto found = std::ranges::find(plan.sites, name, &Site::name);
    return found == plan.sites.end() ? nullptr : &*found;
}

// What the plan writes of a site's addresses.
std::vector<net::Prefix> written_ranges(const Plan& plan, std::string_view name) {
    std::vector<net::Prefix> ranges;
    if (const Site* site = site_named(plan, name))
        for (const auto& space : site->space)
            ranges.push_back(space.value);
    for (const Subnet& subnet : plan.subnets)
        if (subnet.site && subnet.site->value == name)
            for (const auto& prefix : subnet.prefixes)
                ranges.push_back(prefix.value);
    return net::outermost(std::move(ranges));
}

} // namespace

std::vector<Overlap> overlaps(const std::vector<net::Prefix>& ones,
                              const std::vector<net::Prefix>& others) {
    std::vector<Overlap> found;
    // Each list holds disjoint ranges, so they ascend by their last address too.
    for (const net::Prefix& range : ones) {
        auto other = std::ranges::lower_bound(others, range.first(), {}, &net::Prefix::last);
        for (; other != others.end() && other->overlaps(range); ++other)
            found.push_back({range, *other});
    }
    return found;
}

PeeringState consent(const Peering& peering) {
    const auto& [one, other] = peering.sides;
    if (!one.declared && !other.declared)
        return PeeringState::undeclared;
    if ((one.declared && !one.accepts) || (other.declared && !other.accepts))
        return PeeringState::refused;
    return one.declared && other.declared ? PeeringState::up : PeeringState::half;
}

std::string_view to_string(PeeringState state) {
    switch (state) {
    case PeeringState::undeclared: return "not declared";
    case PeeringState::half: return "half";
    case PeeringState::refused: return "refused";
    case PeeringState::blocked: return "blocked";
    case PeeringState::up: break;
    }
    return "up";
}

PeeringState state_of(const Plan& plan, const Peering& peering) {
    PeeringState state = consent(peering);
    return state == PeeringState::up && !overlaps(plan, peering).empty() ? PeeringState::blocked
                                                                         : state;
}

std::vector<Overlap> overlaps(const Plan& plan, const Peering& peering) {
    return overlaps(written_ranges(plan, peering.first.value),
                    written_ranges(plan, peering.second.value));
}

Distance distance(const Plan& plan, const Site& one, const Site& other) {
    using namespace std::chrono_literals;
    bool within = one.region == other.region;
    Distance found = within ? Distance{1ms, 0.01, 0.2} : Distance{20ms, 0.05, 1.0};
    auto take = [&](const Distance& written) {
        if (written.delay)
            found.delay = written.delay;
        if (written.peering_cost)
            found.peering_cost = written.peering_cost;
        if (written.line_cost)
            found.line_cost = written.line_cost;
    };
    for (const SiteRegion& region : plan.regions) {
        if (within && region.name == one.region)
            take(region.within);
        for (const auto& [name, written] : region.to)
            if (!within
                && ((region.name == one.region && name.value == other.region)
                    || (region.name == other.region && name.value == one.region)))
                take(written);
    }
    return found;
}

std::string core_name(std::string_view site) {
    return fmt::format("{}-core", site);
}

std::string border_of(const Plan& plan, const Peering& peering, int side) {
    const Site* site = site_named(plan, peering.site(side));
    if (site != nullptr && site->automatic)
        return core_name(site->name);
    return peering.sides[side].border.value;
}

} // namespace jackal::plan
