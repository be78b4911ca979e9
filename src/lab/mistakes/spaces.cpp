#include "lab/mistakes/inspection.h"

#include "jackal/lab/place.h"
#include "lab/mistakes/nested.h"

#include <algorithm>
#include <fmt/format.h>
#include <set>

namespace jackal::lab {

using net::to_string;
using plan::Cause;

namespace {

struct Space {
    net::Prefix prefix;
    SiteId site;
};

std::vector<std::set<std::uint32_t>> wires_of_sites(const Inspection& in) {
    std::vector<std::set<std::uint32_t>> wires(in.lab.sites.size());
    for (const Subnet& subnet : in.lab.subnets)
        if (!in.lab.segments[subnet.segment].nics.empty())
            wires[subnet.site.row].insert(in.wired[subnet.segment.row]);
    return wires;
}

void report(Inspection& in, const Space& one, const Space& other,
            const std::vector<std::set<std::uint32_t>>& wires) {
    const auto* few = &wires[one.site.row];
    const auto* many = &wires[other.site.row];
    if (few->size() > many->size())
        std::swap(few, many);
    auto is_shared = [&](std::uint32_t wire) { return many->contains(wire); };
    if (std::ranges::none_of(*few, is_shared))
        return;
    auto machines = [&](const Space& s) { return in.lab.sites[s.site].totals.machines; };
    const Space& moved = machines(one) < machines(other) ? one : other; // the smaller change
    const Site& site = in.lab.sites[moved.site];
    std::string advice = fmt::format("give site {} a space of its own", site.name);
    if (in.worth_working_out())
        if (auto to = free_space(in.lab, moved.prefix.family(), moved.prefix.length(),
                                 fmt::format("{}/{}", in.lab.name, site.name)))
            advice += fmt::format("; {} is free, and all of the site can be renumbered to it",
                                  to_string(*to));
    in.find(Cause::spaces_overlap, Severity::warning, site.name,
            fmt::format("site {} ({}) and site {} ({}) are joined, and both own {} to {}",
                        in.lab.sites[one.site].name, to_string(one.prefix),
                        in.lab.sites[other.site].name, to_string(other.prefix),
                        to_string(other.prefix.first()), to_string(other.prefix.last())),
            {{}, std::move(advice)}, site.at);
}

} // namespace

// Sites that are joined should not own the same addresses, even where no subnet has them yet.
void overlapping_spaces(Inspection& in) {
    std::vector<Space> spaces;
    for (SiteId id : in.lab.sites.ids())
        for (const net::Prefix& space : in.lab.sites[id].space)
            spaces.push_back({space, id});
    std::vector<std::set<std::uint32_t>> wires; // islands that each site has subnets on
    each_with_those_around(spaces, [&](const Space& space, const auto& around) {
        if (around.empty() || !around.back()->prefix.contains(space.prefix)
            || around.back()->site == space.site)
            return;
        if (wires.empty())
            wires = wires_of_sites(in);
        report(in, *around.back(), space, wires);
    });
}

} // namespace jackal::lab
