#include "export/drawing/draft.h"

#include "jackal/export/words.h"
#include "jackal/lab/peering.h"

#include <algorithm>
#include <fmt/format.h>
#include <map>

namespace jackal::exports::drawing {

using namespace lab;

namespace {

// Sites, and a row on each for every way that leaves it.
class SiteView {
  public:
    explicit SiteView(Draft& draft) : d(draft), lab(draft.lab) {}

    void draw() {
        count();
        for (SiteId site : lab.sites.ids())
            if (counts_[site.row].segments + counts_[site.row].machines != 0)
                add_site(site);
        for (PeeringId peering : lab.peerings.ids())
            join(lab.peerings[peering]);
        join_links();
        for (NicId nic : lab.nics.ids())
            join(nic);
        for (MachineId machine : lab.machines.ids())
            if (SiteId site = lab.site_of(machine); site && d.sites.contains(site))
                d.machines[machine] = d.sites[site];
        for (SegmentId segment : lab.segments.ids())
            if (SubnetId subnet = lab.segments[segment].subnet)
                if (d.sites.contains(lab.subnets[subnet].site))
                    d.segments[segment] = d.sites[lab.subnets[subnet].site];
    }

  private:
    struct Count {
        std::size_t segments = 0;
        std::size_t machines = 0;
        std::vector<std::string> uplinks;
    };

    void count() {
        counts_.resize(lab.sites.size());
        for (const Subnet& subnet : lab.subnets) {
            Count& at = counts_[subnet.site.row];
            ++at.segments;
            if (subnet.uplink != plan::Uplink::none)
                at.uplinks.push_back(
                    fmt::format("{} ({})", subnet.name, plan::to_string(subnet.uplink)));
        }
        for (MachineId machine : lab.machines.ids())
            if (SiteId site = lab.site_of(machine))
                ++counts_[site.row].machines;
    }

    void add_site(SiteId id) {
        const Site& site = lab.sites[id];
        const Count& has = counts_[id.row];
        Card card{.kind = Card::Kind::site,
                  .id = "site-" + site.name,
                  .title = site.name.empty() ? "the lab" : site.name,
                  .says = site.outside     ? "outside"
                          : site.automatic ? "automatic"
                                           : "site",
                  .outside = site.outside};
        for (const net::Prefix& prefix : site.space)
            card.below.push_back(net::to_string(prefix));
        card.rows.push_back({.label = counted(has.segments, "segment"),
                             .values = {counted(has.machines, "machine")}});
        if (!has.uplinks.empty())
            card.rows.push_back({.label = has.uplinks.size() == 1 ? "way outside" : "ways outside",
                                 .values = has.uplinks});
        d.sites[id] = {.card = d.add(std::move(card))};
    }

    // A row of the site for one end of what joins it to another; none if the site is not drawn.
    Place row(SiteId site, Row row) {
        auto card = d.sites.find(site);
        if (card == d.sites.end())
            return {};
        auto& rows = d.picture.cards[card->second.card].rows;
        rows.push_back(std::move(row));
        return LineEnd{.card = card->second.card, .row = rows.size() - 1};
    }

    void join(const Peering& peering) {
        if (!d.sites.contains(peering.sites[0]) || !d.sites.contains(peering.sites[1])
            || peering.sites[0] == peering.sites[1])
            return;
        Line line{.kind = Line::Kind::peering};
        for (int side : {0, 1})
            line.ends[side] =
                *row(peering.sites[side], {.label = "to " + lab.sites[peering.sites[1 - side]].name,
                                           .values = {side_text(peering, side)},
                                           .note = end_text(peering, side)});
        bool consents[2];
        for (int side : {0, 1})
            consents[side] = peering.sides[side].declared && peering.sides[side].accepts;
        line.label = fmt::format("peering {}", plan::to_string(peering.state));
        switch (peering.state) {
        case plan::PeeringState::up:
            line.label =
                fmt::format("peering, {:g} ms", static_cast<double>(peering.delay.count()) / 1000);
            if (!d.settled.condition().link_up(peering.link)) {
                line.state = State::down;
                line.label += ", " + d.down_text(!lab.links[peering.link].up);
            }
            break;
        case plan::PeeringState::half:
            line.state = State::half;
            line.open_end = consents[0] ? 1 : 0;
            break;
        default: line.state = State::refused;
        }
        d.picture.lines.push_back(std::move(line));
        if (peering.link)
            for (NicId nic : {lab.links[peering.link].first, lab.links[peering.link].second})
                d.lines[nic] = d.picture.lines.size() - 1;
    }

    // The machine that a side of a peering ends at.
    std::string end_text(const Peering& peering, int side) const {
        if (!peering.link)
            return {};
        for (NicId nic : {lab.links[peering.link].first, lab.links[peering.link].second})
            if (lab.site_of(lab.nics[nic].machine) == peering.sites[side])
                return lab.nic_name(nic);
        return {};
    }

    Row end_row(NicId nic) const {
        Row row = d.nic_row(nic);
        row.label = lab.nic_name(nic);
        return row;
    }

    // Each by a line of its own, or those between two sites by one for all if they are many.
    void join_links() {
        constexpr std::size_t most_lines = 6;
        std::map<std::pair<SiteId, SiteId>, std::vector<LinkId>> between;
        for (LinkId id : lab.links.ids()) {
            if (lab.links[id].peering)
                continue;
            const auto [one, other] = sites_of(id);
            if (one && other && one != other)
                between[std::minmax(one, other)].push_back(id);
        }
        for (const auto& [sites, links] : between)
            if (links.size() > most_lines)
                join(sites.first, sites.second, links);
            else
                for (LinkId id : links)
                    join(id);
    }

    std::pair<SiteId, SiteId> sites_of(LinkId id) const {
        const Link& link = lab.links[id];
        return {lab.site_of(lab.nics[link.first].machine),
                lab.site_of(lab.nics[link.second].machine)};
    }

    void join(LinkId id) {
        const auto [one, other] = sites_of(id);
        for (const auto& [nic, site] :
             {std::pair(lab.links[id].first, one), std::pair(lab.links[id].second, other)})
            if (Place place = row(site, end_row(nic)))
                d.nics[nic] = *place;
        d.add_link(id);
    }

    void join(SiteId one, SiteId other, const std::vector<LinkId>& links) {
        std::size_t down = 0;
        for (LinkId id : links)
            down += d.settled.condition().link_up(id) ? 0 : 1;
        const std::string count = counted(links.size(), "link");
        Line line{.kind = Line::Kind::link, .label = count};
        line.state = down == links.size() ? State::down : State::works;
        if (down != 0)
            line.label += fmt::format(", {} down", down);
        std::map<SiteId, LineEnd> ends;
        for (SiteId site : {one, other})
            if (Place place = row(site, {.label = "to " + lab.sites[site == one ? other : one].name,
                                         .values = {count}}))
                ends[site] = *place;
        if (ends.size() != 2)
            return;
        line.ends[0] = ends[one];
        line.ends[1] = ends[other];
        for (LinkId id : links)
            for (NicId nic : {lab.links[id].first, lab.links[id].second}) {
                d.nics[nic] = ends[lab.site_of(lab.nics[nic].machine)];
                d.lines[nic] = d.picture.lines.size();
            }
        d.picture.lines.push_back(std::move(line));
    }

    // A machine of one site that has a NIC on a subnet of another.
    void join(NicId nic) {
        SubnetId subnet = lab.segments[lab.nics[nic].segment].subnet;
        SiteId home = lab.site_of(lab.nics[nic].machine);
        if (!subnet || lab.subnets[subnet].site == home)
            return;
        Place from = row(home, end_row(nic));
        if (!from)
            return;
        d.nics[nic] = *from;
        d.attach(nic, row(lab.subnets[subnet].site, {.label = lab.subnets[subnet].name}), "",
                 d.state_of(nic));
    }

    Draft& d;
    const Lab& lab;
    std::vector<Count> counts_; // by site
};

} // namespace

void draw_sites(Draft& draft) {
    SiteView(draft).draw();
}

} // namespace jackal::exports::drawing
