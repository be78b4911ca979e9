#include "lab/mistakes/ranges.h"

#include "jackal/lab/place.h"
#include "jackal/net/special_use.h"
#include "lab/mistakes/nested.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::lab {

using net::to_string;
using plan::Cause;

namespace {

struct Range {
    net::Prefix prefix;
    SegmentId segment;
};

plan::Mark mark_of(const Inspection& in, SegmentId id) {
    const Segment& segment = in.lab.segments[id];
    if (segment.subnet)
        return in.lab.subnets[segment.subnet].at;
    return segment.link ? in.lab.links[segment.link].at : in.lab.nics[segment.nics.front()].at;
}

// Not written in the plan.
bool is_outside(const Inspection& in, SegmentId id) {
    const Segment& segment = in.lab.segments[id];
    return segment.subnet ? in.lab.subnets[segment.subnet].outside
                          : in.lab.machines[in.lab.nics[segment.nics.front()].machine].outside;
}

// The physical network itself.
bool is_lan(const Inspection& in, SegmentId id) {
    SubnetId subnet = in.lab.segments[id].subnet;
    return subnet && in.lab.subnets[subnet].uplink == plan::Uplink::bridge;
}

// Moves a subnet to the next free prefix of its size.
Remedy another_prefix(Inspection& in, SegmentId id, net::Family family) {
    Remedy remedy{{},
                  fmt::format("give {} a prefix that nothing else uses", in.lab.segment_name(id))};
    SubnetId subnet = in.lab.segments[id].subnet;
    if (!subnet || !in.worth_working_out())
        return remedy;
    auto to = free_prefix(in.lab, in.lab.subnets[subnet].site, family,
                          in.lab.segments[id].prefix[family]->length());
    if (!to || net::special_use(*to) != nullptr)
        return remedy;
    return {renumber(in.lab, subnet, *to), std::move(remedy.advice)};
}

void overlap(Inspection& in, SegmentId kept, SegmentId moved, net::Family family) {
    const auto& kept_prefix = *in.lab.segments[kept].prefix[family];
    const auto& moved_prefix = *in.lab.segments[moved].prefix[family];
    std::string subject = in.lab.segment_name(moved);
    Remedy remedy = another_prefix(in, moved, family);
    if (Remedy other = another_prefix(in, kept, family); // the smaller change
        !other.edits.empty() && (remedy.edits.empty() || other.edits.size() < remedy.edits.size()))
        remedy = std::move(other);
    in.find(Cause::subnets_overlap, Severity::error, subject,
            fmt::format("{} ({}) overlaps {} ({}) from {} to {}", subject, to_string(moved_prefix),
                        in.lab.segment_name(kept), to_string(kept_prefix),
                        to_string(std::max(kept_prefix.first(), moved_prefix.first())),
                        to_string(std::min(kept_prefix.last(), moved_prefix.last()))),
            std::move(remedy), mark_of(in, moved));
}

void special_use_range(Inspection& in, SegmentId id, const net::Prefix& prefix,
                       const net::SpecialUse& use) {
    std::string name = in.lab.segment_name(id);
    in.find(Cause::special_use_range, use.works ? Severity::warning : Severity::error, name,
            fmt::format("{} of {} is part of {}, which is for {} ({})", to_string(prefix), name,
                        to_string(use.prefix), use.meaning, use.source),
            another_prefix(in, id, prefix.family()), mark_of(in, id));
}

} // namespace

void unplaced(Inspection& in) {
    for (const Unplaced& entry : in.lab.unplaced)
        in.find(Cause::no_space_left, Severity::error, entry.what,
                fmt::format("{}, but {}", entry.what, entry.why),
                {in.worth_working_out() ? make_room(in.lab, entry) : std::vector<plan::Edit>{},
                 entry.advice},
                entry.at);
}

void overlapping_subnets(Inspection& in) {
    std::vector<Range> ranges;
    for (SegmentId id : in.lab.segments.ids())
        for (net::Family family : net::both_families)
            if (const auto& prefix = in.lab.segments[id].prefix[family])
                ranges.push_back({*prefix, id});
    each_with_those_around(ranges, [&](const Range& range, const auto& around) {
        for (const Range* other : around)
            if (other->prefix.contains(range.prefix)
                && !(in.lab.is_own_way_out(other->segment) && in.lab.is_own_way_out(range.segment))
                && in.wired[other->segment.row] == in.wired[range.segment.row]) {
                overlap(in, std::min(other->segment, range.segment),
                        std::max(other->segment, range.segment), range.prefix.family());
                break; // one finding for each prefix is enough
            }
    });
}

void subnets_outside_their_space(Inspection& in) {
    for (const Subnet& subnet : in.lab.subnets)
        for (net::Family family : net::both_families) {
            const auto& prefix = in.lab.segments[subnet.segment].prefix[family];
            const Site& site = in.lab.sites[subnet.site];
            auto of_family = [&](const auto& space) { return space.family() == family; };
            auto holds_it = [&](const auto& space) { return space.contains(*prefix); };
            if (!prefix || site.space_chosen || is_lan(in, subnet.segment)
                || std::ranges::none_of(site.space, of_family)
                || std::ranges::any_of(site.space, holds_it))
                continue;
            in.find(Cause::subnet_outside_space, Severity::warning, subnet.name,
                    fmt::format("{} is not part of the space of site {}", to_string(*prefix),
                                site.name),
                    {{},
                     fmt::format("add {} to the site's space, or choose another prefix",
                                 to_string(*prefix))},
                    subnet.at);
        }
}

void special_use_ranges(Inspection& in) {
    for (SegmentId id : in.lab.segments.ids())
        for (net::Family family : net::both_families)
            if (const auto& prefix = in.lab.segments[id].prefix[family];
                prefix && !is_outside(in, id))
                if (const net::SpecialUse* use = net::special_use(*prefix))
                    special_use_range(in, id, *prefix, *use);
}

void overlaps_with_outside(Inspection& in) {
    for (SegmentId id : in.lab.segments.ids())
        for (net::Family family : net::both_families)
            for (const net::Prefix& lan : in.lab.outside_lan)
                if (const auto& prefix = in.lab.segments[id].prefix[family];
                    prefix && prefix->overlaps(lan) && !is_outside(in, id) && !is_lan(in, id))
                    in.find(Cause::overlaps_outside, Severity::warning, in.lab.segment_name(id),
                            fmt::format("{} of {} overlaps {}, the network around the lab",
                                        to_string(*prefix), in.lab.segment_name(id),
                                        to_string(lan)),
                            another_prefix(in, id, family), mark_of(in, id));
}

Finding describe(const Lab& lab, const LookedForElsewhere& mistake) {
    net::Family family = mistake.address.family();
    SegmentId kept = mistake.searched;
    SegmentId moved = lab.nics[mistake.owner].segment;
    std::string message =
        fmt::format("{} looks for {} on {}, as {} covers it, but it is on {}",
                    lab.machines[mistake.machine].name, to_string(mistake.address),
                    lab.segment_name(kept), to_string(mistake.covered_by), lab.segment_name(moved));
    if (lab.segments[kept].subnet && (!lab.segments[moved].subnet || moved < kept))
        std::swap(kept, moved);
    Finding f{.cause = Cause::subnets_overlap,
              .subject = lab.segment_name(moved),
              .message = std::move(message),
              .remedy = {{}, "give one of the two a prefix that nothing else uses"},
              .at = lab.machines[mistake.machine].at};
    if (SubnetId subnet = lab.segments[moved].subnet) {
        const Subnet& row = lab.subnets[subnet];
        f.at = row.at;
        const auto& prefix = lab.segments[moved].prefix[family]; // none: it has odd addresses only
        auto to = prefix ? free_prefix(lab, row.site, family, prefix->length()) : std::nullopt;
        if (to)
            f.remedy = {renumber(lab, subnet, *to), std::move(f.remedy.advice)};
    }
    return f;
}

} // namespace jackal::lab
