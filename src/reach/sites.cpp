#include "jackal/reach/sites.h"

#include "speaker.h"

#include <fmt/format.h>

namespace jackal::reach {

using lab::Lab;
using lab::NicId;

namespace {

// One for each subnet of a site that has guests; a site of routers alone is spoken for by those.
std::vector<NicId> speakers(const routing::Settled& settled, lab::SiteId site) {
    const Lab& lab = settled.lab();
    std::vector<NicId> guests;
    std::vector<NicId> routers;
    for (const lab::Subnet& subnet : lab.subnets)
        if (subnet.site == site)
            if (auto nic = speaker(settled, subnet))
                (is_guest(lab, *nic) ? guests : routers).push_back(*nic);
    return guests.empty() ? routers : guests;
}

SitePair ask(const routing::Settled& settled, lab::SiteId from, lab::SiteId to,
             const std::vector<NicId>& askers, const std::vector<NicId>& targets) {
    const Lab& lab = settled.lab();
    SitePair row{.from = from, .to = to};
    probe::Microseconds total{0};
    for (NicId asker : askers)
        for (NicId target : targets) {
            if (asker == target || row.pairs >= most_pairs_of_subnets)
                continue;
            probe::Exchange exchange =
                probe::exchange(settled, {.from = end_at(lab, lab.nics[asker].machine),
                                          .to = end_at(lab, target),
                                          .count = 1});
            if (exchange.gap == probe::Gap::no_address
                && probe::diagnose(settled, exchange)->cause == plan::Cause::no_common_family)
                continue;
            ++row.pairs;
            if (exchange.replied()) {
                ++row.replies;
                total += exchange.round_trip.mean;
            } else if (!row.first_gap) {
                row.first_gap = probe::diagnose(settled, exchange);
                row.gap_between =
                    fmt::format("{} and {}", lab.machine_name(asker), lab.machine_name(target));
            }
        }
    if (row.replies != 0)
        row.round_trip = total / static_cast<double>(row.replies);
    return row;
}

} // namespace

SiteReach between_sites(const routing::Settled& settled,
                        const std::function<void(std::size_t, std::size_t)>& progress) {
    SiteReach reach;
    std::vector<std::vector<NicId>> spoken_for;
    for (lab::SiteId site : settled.lab().sites.ids())
        if (std::vector<NicId> nics = speakers(settled, site); !nics.empty()) {
            reach.sites.push_back(site);
            spoken_for.push_back(std::move(nics));
        }
    const std::size_t count = reach.sites.size();
    for (std::size_t from = 0; from < count; ++from) {
        for (std::size_t to = 0; to < count && !settled.lab().sites[reach.sites[from]].outside;
             ++to)
            reach.rows.push_back(
                ask(settled, reach.sites[from], reach.sites[to], spoken_for[from], spoken_for[to]));
        if (progress)
            progress(from + 1, count);
    }
    return reach;
}

SitePair between(const routing::Settled& settled, lab::SiteId from, lab::SiteId to) {
    return ask(settled, from, to, speakers(settled, from), speakers(settled, to));
}

} // namespace jackal::reach
