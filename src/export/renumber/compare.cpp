#include "export/renumber/renumberer.h"

#include "jackal/export/changes.h"

#include <algorithm>
#include <fmt/format.h>
#include <set>

namespace jackal::exports {

using lab::Lab;
using lab::SegmentId;

namespace {

// The cells of a row: what it is about, what tells that from others of the same words, and whether
// it is part of what moves; then the value.
constexpr std::size_t key_cells = 3;

// The rows of a lab. Names tell them apart and not numbers: a peering that is blocked by what is
// renumbered, or no longer, takes its link with it.
class Rows {
  public:
    Rows(const Lab& lab, const std::set<std::string>& moving, std::string_view moving_site)
        : lab_(lab), moving_(moving) {
        for (const lab::Site& site : lab.sites)
            for (const net::Prefix& space : site.space)
                add(fmt::format("site {}", site.name), space.family(), space,
                    site.name == moving_site);
        for (SegmentId id : lab.segments.ids())
            add_segment(id);
        for (const lab::InterfaceAddress& row : lab.addresses)
            add(lab.nic_name(row.nic), row.address.family(), row.address,
                moves(lab.nics[row.nic].segment));
        for (lab::MachineId id : lab.machines.ids())
            for (lab::RouteId route : lab.routes_of(id))
                add_route(id, lab.routes[route]);
    }

    const std::vector<Row>& all() const { return rows_; }

  private:
    bool moves(SegmentId id) const { return moving_.contains(segment_key(lab_, id)); }

    void add(std::string what, std::string of, std::string value, bool meant) {
        rows_.push_back({std::move(what), std::move(of), meant ? "meant" : "", std::move(value)});
    }
    template <class Value>
    void add(std::string what, net::Family family, const Value& value, bool meant) {
        add(std::move(what), std::string(net::to_string(family)), net::to_string(value), meant);
    }

    void add_segment(SegmentId id) {
        const lab::Segment& segment = lab_.segments[id];
        std::string name = segment_key(lab_, id);
        bool meant = moves(id);
        for (net::Family family : net::both_families)
            if (const auto& prefix = segment.prefix[family])
                add(name, family, *prefix, meant);
        if (!segment.subnet)
            return;
        const lab::Subnet& subnet = lab_.subnets[segment.subnet];
        for (net::Family family : net::both_families)
            if (const auto& gateway = subnet.gateway[family])
                add(fmt::format("gateway of {}", subnet.name), family, *gateway, meant);
        if (subnet.dhcp)
            add(fmt::format("DHCP range of {}", subnet.name), net::Family::ipv4, *subnet.dhcp,
                meant);
    }

    void add_route(lab::MachineId id, const lab::StaticRoute& route) {
        if (route.origin != lab::RouteOrigin::written
            && route.origin != lab::RouteOrigin::written_by_name)
            return;
        add(fmt::format("route in line {}", route.at.line),
            fmt::format("{} {} {}", lab_.machines[id].name, route.plan_index,
                        net::to_string(route.to.family())),
            fmt::format("{} via {}", net::to_string(route.to), net::to_string(route.via)), true);
    }

    const Lab& lab_;
    const std::set<std::string>& moving_;
    std::vector<Row> rows_;
};

} // namespace

std::string segment_key(const Lab& lab, SegmentId id) {
    const lab::Segment& segment = lab.segments[id];
    return fmt::format("{} {}",
                       segment.subnet ? "subnet"
                       : segment.link ? "link"
                                      : "loopback",
                       lab.segment_name(id));
}

void compare(Renumberer& r, const Lab& after, const std::set<std::string>& moving) {
    std::string site = r.own_site ? r.lab.sites[r.own_site].name : "";
    const std::vector<Change> found =
        changes(Rows(r.lab, moving, site).all(), Rows(after, moving, site).all(), key_cells);
    for (const Change& change : found)
        for (std::size_t i = 0; i < std::max(change.was.size(), change.is.size()); ++i) {
            auto value = [&](const std::vector<Row>& rows) {
                return i < rows.size() ? rows[i].back() : "none";
            };
            const Row& thing = change.was.empty() ? change.is.front() : change.was.front();
            r.result.table.push_back(
                {thing[0], value(change.was), value(change.is), !thing[2].empty()});
        }
    std::set<std::pair<plan::Cause, std::string>> known;
    for (const lab::Finding& finding : lab::findings(r.lab))
        known.emplace(finding.cause, finding.subject);
    for (lab::Finding& finding : lab::findings(after))
        if (finding.severity == lab::Severity::error
            && !known.contains({finding.cause, finding.subject}))
            r.result.brought.push_back(std::move(finding));
}

} // namespace jackal::exports
