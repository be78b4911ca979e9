#include "lab/address/planning.h"

#include "jackal/net/place.h"

#include <algorithm>
#include <bit>
#include <fmt/format.h>

namespace jackal::lab {

std::size_t site_count(const Planning& p) {
    return std::max<std::size_t>(p.plan.sites.size(), 1);
}

std::size_t pool_source(const Planning& p, const plan::Pool& pool) {
    return site_count(p) + static_cast<std::size_t>(&pool - p.plan.pools.data());
}

void add_sources(Planning& p) {
    for (std::uint32_t i = 0; i < site_count(p); ++i)
        p.sources.push_back(
            {.name = "the lab", .site = SiteId{i}, .own = false, .spaces = {}, .wishes = {}});
    for (std::size_t i = 0; i < p.plan.sites.size(); ++i) {
        p.sources[i].own = !p.plan.sites[i].space.empty();
        p.sources[i].name = fmt::format("site {}", p.plan.sites[i].name);
        for (const auto& prefix : p.plan.sites[i].space)
            p.sources[i].spaces.push_back(prefix.value);
    }
    for (const plan::Pool& pool : p.plan.pools) {
        p.pool_rows.emplace(pool.name, pool_source(p, pool));
        Source source{.name = fmt::format("pool {}", pool.name),
                      .site = {},
                      .own = true,
                      .spaces = {},
                      .wishes = {}};
        for (const auto& prefix : pool.space)
            source.spaces.push_back(prefix.value);
        p.sources.push_back(std::move(source));
    }
}

Source& source_of(Planning& p, const plan::Placed<std::string>& pool, SiteId site) {
    return p.sources[pool.value.empty() ? site.row : p.pool_rows.at(pool.value)];
}

} // namespace jackal::lab
