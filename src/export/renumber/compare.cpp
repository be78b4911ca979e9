#include "export/renumber/renumberer.h"

#include "jackal/lab/build.h"
#include "jackal/net/place.h"
#include "jackal/plan/rewrite.h"

#include <algorithm>
#include <charconv>
#include <fmt/format.h>
#include <set>

namespace jackal::exports {

using lab::Lab;
using lab::SegmentId;
using lab::SiteId;

namespace {

template <class Value>
void row(Renumberer& r, std::string what, bool meant, const std::optional<Value>& before,
         const std::optional<Value>& after) {
    if (before == after)
        return;
    auto text = [](const auto& value) { return value ? net::to_string(*value) : "none"; };
    r.result.table.push_back({std::move(what), text(before), text(after), meant});
}

void route_row(Renumberer& r, const lab::StaticRoute& was, const lab::StaticRoute& is) {
    if (was.to == is.to && was.via == is.via)
        return;
    auto text = [](const lab::StaticRoute& route) {
        return fmt::format("{} via {}", net::to_string(route.to), net::to_string(route.via));
    };
    r.result.table.push_back({fmt::format("route in line {}", was.at.line), text(was), text(is)});
}

} // namespace

void compare(Renumberer& r, const Lab& after) {
    for (SiteId id : r.lab.sites.ids()) {
        const auto& was = r.lab.sites[id].space;
        const auto& is = after.sites[id].space;
        for (std::size_t i = 0; i < std::min(was.size(), is.size()); ++i)
            row(r, fmt::format("site {}", r.lab.sites[id].name), id == r.own_site,
                std::optional(was[i]), std::optional(is[i]));
    }
    for (SegmentId id : r.lab.segments.ids())
        compare(r, id, after);
    for (lab::AddressId id : r.lab.addresses.ids()) {
        if (id.row >= after.addresses.size())
            break;
        const lab::InterfaceAddress& was = r.lab.addresses[id];
        if (was.nic == after.addresses[id].nic)
            row(r, r.lab.nic_name(was.nic), r.own_segments.contains(r.lab.nics[was.nic].segment),
                std::optional(was.address), std::optional(after.addresses[id].address));
    }
    for (lab::RouteId id : r.lab.routes.ids())
        if (id.row < after.routes.size() && !r.lab.routes[id].is_gateway())
            route_row(r, r.lab.routes[id], after.routes[id]);
    std::set<std::pair<plan::Cause, std::string>> known;
    for (const lab::Finding& finding : lab::findings(r.lab))
        known.emplace(finding.cause, finding.subject);
    for (lab::Finding& finding : lab::findings(after))
        if (finding.severity == lab::Severity::error
            && !known.contains({finding.cause, finding.subject}))
            r.result.brought.push_back(std::move(finding));
}

void compare(Renumberer& r, SegmentId id, const Lab& after) {
    const lab::Segment& segment = r.lab.segments[id];
    std::string name = r.lab.segment_name(id);
    bool meant = r.own_segments.contains(id);
    for (net::Family family : net::both_families)
        row(r,
            fmt::format("{} {}",
                        segment.subnet ? "subnet"
                        : segment.link ? "link"
                                       : "loopback",
                        name),
            meant, segment.prefix[family], after.segments[id].prefix[family]);
    if (!segment.subnet)
        return;
    const lab::Subnet& was = r.lab.subnets[segment.subnet];
    const lab::Subnet& is = after.subnets[segment.subnet];
    for (net::Family family : net::both_families)
        row(r, fmt::format("gateway of {}", name), meant, was.gateway[family], is.gateway[family]);
    auto range = [](const lab::Subnet& subnet) {
        return subnet.dhcp ? std::optional(*subnet.dhcp) : std::nullopt;
    };
    row(r, fmt::format("DHCP range of {}", name), meant, range(was), range(is));
}

} // namespace jackal::exports
