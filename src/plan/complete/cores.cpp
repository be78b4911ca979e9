#include "jackal/plan/outside.h"
#include "jackal/plan/validate.h"
#include "plan/complete/builders.h"
#include "plan/complete/sites.h"
#include "plan/nic_names.h"

#include <algorithm>
#include <array>
#include <fmt/format.h>
#include <map>
#include <set>
#include <unordered_map>

namespace jackal::plan {

namespace {

// Routes that a peering brings are the last choice among those to the same prefix: after the site's
// own, whose metric is 0 in IPv4 and 1024 in IPv6.
constexpr std::uint32_t implied_metric = 2000;

// In a plan of one site the subnets need not name it.
bool is_on(const Plan& plan, const Subnet& subnet, std::string_view site) {
    return subnet.site ? subnet.site->value == site : plan.sites.size() == 1;
}

} // namespace

class CoreBuilder {
  public:
    explicit CoreBuilder(CompleteParts& into) : into_(into), plan_(into.entries) {}

    void run() {
        for (const Site& site : plan_.sites)
            if (site.automatic)
                add_core(site);
        if (plan_.peerings.empty() || plan_.peerings.size() > most_peerings)
            return;
        index();
        for (std::uint32_t i = 0; i < plan_.peerings.size(); ++i)
            if (consent(plan_.peerings[i]) == PeeringState::up)
                join(i);
        for (std::uint32_t hub = 0; hub < plan_.sites.size(); ++hub)
            relay(hub);
    }

  private:
    // One end of a working peering, as the site beyond it sees it.
    struct Neighbour {
        std::uint32_t peering = 0;
        int side = 0;           // of the site that this is a neighbour of
        std::uint32_t site = 0; // the neighbour
        std::uint32_t link = 0; // between the borders
        std::size_t border = 0; // of the site itself, in Plan::machines
        std::size_t beyond = 0; // of the neighbour
    };

    // --- cores -----------------------------------------------------------------------------

    void add_core(const Site& site) {
        Machine core;
        core.kind = MachineKind::router;
        core.name = core_name(site.name);
        core.at = site.at;
        core.routes = site.routes;
        Duties duties;
        duties.filter = site.filter;
        for (const Subnet& subnet : plan_.subnets) {
            if (!is_on(plan_, subnet, site.name) || !subnet.joined)
                continue;
            Nic nic;
            nic.subnet = subnet.name;
            nic.at = subnet.at;
            core.nics.push_back(std::move(nic));
            if (!has_gateway_outside(subnet.uplink))
                continue;
            core.routes.push_back(
                route(Route::Default{},
                      subnet.uplink == Uplink::nat ? outside::workstation : outside::lan_gateway,
                      "", subnet.uplink_at));
            Translation rule;
            rule.nic.value = nic_name(core, core.nics.size() - 1);
            rule.at = subnet.uplink_at;
            duties.translations.push_back(std::move(rule));
        }
        if (core.nics.empty())
            return;
        if (core.routes.size() > site.routes.size())
            into_.written_routes.emplace(plan_.machines.size(), site.routes.size());
        if (!duties.filter.value.empty() || !duties.translations.empty())
            core.duties = std::move(duties);
        plan_.machines.push_back(std::move(core));
    }

    static Route route(Route::Target to, std::string via, std::string nic, Mark at) {
        Route route;
        route.to = std::move(to);
        route.via = Route::NextHop(std::move(via));
        if (!nic.empty())
            route.nic = Placed<std::string>(std::move(nic));
        route.metric = implied_metric;
        route.at = at;
        return route;
    }

    // --- what is where ---------------------------------------------------------------------

    void index() {
        for (std::size_t i = 0; i < plan_.machines.size(); ++i)
            machines_.emplace(plan_.machines[i].name, i);
        for (std::uint32_t i = 0; i < plan_.sites.size(); ++i)
            sites_.emplace(plan_.sites[i].name, i);
        subnets_.resize(plan_.sites.size());
        ranges_.resize(plan_.sites.size());
        has_link_.resize(plan_.peerings.size());
        neighbours_.resize(plan_.sites.size());
        for (std::size_t i = 0; i < plan_.subnets.size(); ++i)
            if (const Subnet& subnet = plan_.subnets[i]; subnet.site)
                if (auto site = sites_.find(subnet.site->value); site != sites_.end())
                    subnets_[site->second].push_back(i);
        for (std::size_t i = 0; i < plan_.sites.size(); ++i) {
            for (const auto& space : plan_.sites[i].space)
                ranges_[i].push_back(space.value);
            for (std::size_t subnet : subnets_[i])
                for (const auto& prefix : plan_.subnets[subnet].prefixes)
                    ranges_[i].push_back(prefix.value);
            ranges_[i] = net::outermost(std::move(ranges_[i]));
        }
        nics_.resize(plan_.machines.size());
        for (std::size_t i = 0; i < plan_.machines.size(); ++i)
            nics_[i] = plan_.machines[i].nics.size();
        for (const Link& link : plan_.links)
            for (const auto* end : {&link.first, &link.second})
                if (auto machine = machines_.find(end->value); machine != machines_.end())
                    ++nics_[machine->second];
        for (const Link& link : plan_.links)
            namer_.next(link);
        for (const Pins::Names& pin : plan_.pins.nics)
            if (!pin.names.empty() && can_name_nic(pin.names.front()))
                pinned_.emplace(std::pair(pin.machine, pin.on), pin.names.front());
        names_.emplace(plan_);
    }

    std::optional<std::size_t> machine(const std::string& name) const {
        auto found = machines_.find(name);
        return found == machines_.end() ? std::nullopt : std::optional(found->second);
    }

    // --- peerings --------------------------------------------------------------------------

    void join(std::uint32_t number) {
        const Peering& peering = plan_.peerings[number];
        std::optional<std::size_t> borders[2];
        for (int side : {0, 1}) {
            borders[side] = machine(border_of(plan_, peering, side));
            if (!borders[side] || !sites_.contains(peering.site(side)))
                return; // the validator says so
        }
        std::uint32_t sites[2] = {sites_.at(peering.first.value), sites_.at(peering.second.value)};
        if (*borders[0] == *borders[1] || !overlaps(ranges_[sites[0]], ranges_[sites[1]]).empty())
            return;
        pairs_.emplace(std::minmax(sites[0], sites[1]));
        auto [link, nics] = add_link(number, *borders[0], *borders[1]);
        for (int side : {0, 1}) {
            std::uint32_t there = sites[1 - side];
            neighbours_[sites[side]].push_back(
                {number, side, there, link, *borders[side], *borders[1 - side]});
            lead(*borders[side], there, *borders[1 - side], nics[side], peering.sides[side].at);
            if (peering.sides[side].exit == Exit::borrow
                && peering.sides[1 - side].exit == Exit::lend)
                add_route(*borders[side], route(net::Prefix::everything(net::Family::ipv4),
                                                plan_.machines[*borders[1 - side]].name, nics[side],
                                                peering.sides[side].at));
        }
    }

    // A link between two machines, and what its NICs are called.
    std::pair<std::uint32_t, std::array<std::string, 2>>
    add_link(std::uint32_t number, std::size_t first, std::size_t second) {
        const Peering& peering = plan_.peerings[number];
        Link link;
        link.first = Placed<std::string>(plan_.machines[first].name, peering.at);
        link.second = Placed<std::string>(plan_.machines[second].name, peering.at);
        bool is_main = !has_link_[number];
        has_link_[number] = true;
        if (is_main)
            link.prefixes = peering.prefixes;
        link.pool = peering.pool;
        const Site& one = plan_.sites[sites_.at(peering.first.value)];
        const Site& other = plan_.sites[sites_.at(peering.second.value)];
        Distance regions = distance(plan_, one, other);
        link.delay = peering.delay.value_or(*regions.delay);
        link.mtu_bytes = peering.mtu_bytes;
        link.up = peering.up;
        link.at = peering.at;
        const std::string name = namer_.next(link);
        std::array<std::string, 2> nics{next_nic(first, name), next_nic(second, name)};
        for (std::size_t end : {0, 1})
            link.nics[end].value = nics[end];
        plan_.links.push_back(std::move(link));
        into_.peering_of.push_back(number);
        return {static_cast<std::uint32_t>(plan_.links.size() - 1), std::move(nics)};
    }

    // What one more NIC of a machine is called: as it is pinned, or by its position, but not as
    // another that is named.
    std::string next_nic(std::size_t machine, const std::string& link) {
        if (named_machines_.insert(machine).second)
            for (std::size_t i = 0; i < nics_[machine]; ++i)
                named_.emplace(machine, names_->name(machine, i));
        std::size_t position = nics_[machine]++;
        auto pin = pinned_.find({plan_.machines[machine].name, link});
        if (pin != pinned_.end() && named_.insert({machine, pin->second}).second)
            return pin->second;
        std::string name = nic_name(plan_.machines[machine], position);
        while (!named_.insert({machine, name}).second)
            name = fmt::format("eth{}", ++position);
        return name;
    }

    // Routes from a machine to all subnets of a site, but for those that its own routes lead to.
    void lead(std::size_t from, std::uint32_t site, std::size_t via, const std::string& nic,
              Mark at) {
        for (std::size_t i : subnets_[site])
            if (!has_own_route(from, plan_.subnets[i], plan_.sites[site]))
                add_route(from, route(plan_.subnets[i].name, plan_.machines[via].name, nic, at));
    }

    bool has_own_route(std::size_t number, const Subnet& subnet, const Site& site) const {
        const auto& ranges = subnet.prefixes.empty() ? site.space : subnet.prefixes;
        const std::vector<Route>& routes = plan_.machines[number].routes;
        auto written = into_.written_routes.find(number); // implied ones come last
        std::size_t own = written == into_.written_routes.end() ? routes.size() : written->second;
        return std::any_of(routes.begin(), routes.begin() + static_cast<std::ptrdiff_t>(own),
                           [&](const Route& route) {
                               if (const auto* name = std::get_if<std::string>(&route.to.value))
                                   return *name == subnet.name;
                               const auto* prefix = std::get_if<net::Prefix>(&route.to.value);
                               return prefix != nullptr && prefix->length() != 0
                                      && std::ranges::any_of(ranges, [&](const auto& range) {
                                             return prefix->contains(range.value);
                                         });
                           });
    }

    void add_route(std::size_t machine, Route route) {
        if (routes_++ >= most_implied_routes)
            return;
        std::vector<Route>& routes = plan_.machines[machine].routes;
        into_.written_routes.try_emplace(machine, routes.size());
        routes.push_back(std::move(route));
    }

    // --- relays ----------------------------------------------------------------------------

    // Whoever takes relayed traffic at a hub with a relay reaches all others that do.
    void relay(std::uint32_t hub) {
        std::optional<std::size_t> relay = machine(plan_.sites[hub].relay.value);
        if (!relay)
            return;
        std::vector<Neighbour> taking;
        for (const Neighbour& peer : neighbours_[hub])
            if (plan_.peerings[peer.peering].sides[1 - peer.side].relayed && peer.beyond != *relay)
                taking.push_back(peer);
        if (taking.size() < 2)
            return;
        std::vector<std::array<std::string, 2>> nics; // of the peer's border, of the relay
        for (const Neighbour& peer : taking)
            nics.push_back(reach_relay(peer, *relay));
        for (std::size_t from = 0; from < taking.size(); ++from) {
            Mark at = plan_.peerings[taking[from].peering].sides[1 - taking[from].side].at;
            if (taking[from].border != *relay) // else the peering has these routes already
                lead(*relay, taking[from].site, taking[from].beyond, nics[from][1], at);
            for (std::size_t to = 0; to < taking.size() && routes_ < most_implied_routes; ++to)
                if (from != to && !is_neighbour(taking[from].site, taking[to].site))
                    lead(taking[from].beyond, taking[to].site, *relay, nics[from][0], at);
        }
    }

    // The link from a peer's border to the relay: that of the peering, if it ends there.
    std::array<std::string, 2> reach_relay(const Neighbour& peer, std::size_t relay) {
        if (peer.border != relay)
            return add_link(peer.peering, peer.beyond, relay).second;
        std::array<std::string, 2> nics;
        for (std::size_t end : {0, 1})
            nics[end] = link_nic(end == 0 ? peer.beyond : relay, peer.link);
        return nics;
    }

    std::string link_nic(std::size_t machine, std::uint32_t link) const {
        const Link& entry = plan_.links[link];
        return entry.nics[entry.first.value == plan_.machines[machine].name ? 0 : 1].value;
    }

    bool is_neighbour(std::uint32_t one, std::uint32_t other) const {
        return pairs_.contains(std::minmax(one, other));
    }

    CompleteParts& into_;
    Plan& plan_;
    std::unordered_map<std::string, std::size_t> machines_;
    std::unordered_map<std::string, std::uint32_t> sites_;
    std::vector<std::vector<std::size_t>> subnets_;           // by site
    std::vector<std::vector<net::Prefix>> ranges_;            // by site: what the plan writes
    std::vector<std::vector<Neighbour>> neighbours_;          // by site
    std::set<std::pair<std::uint32_t, std::uint32_t>> pairs_; // of sites that are peers
    std::vector<bool> has_link_;                              // by peering
    std::vector<std::size_t> nics_;                           // by machine: how many it has so far
    LinkNamer namer_;
    std::optional<NicNames> names_;        // of what is written
    std::set<std::size_t> named_machines_; // whose NICs are in named_
    std::set<std::pair<std::size_t, std::string>> named_;
    std::map<std::pair<std::string, std::string>, std::string> pinned_; // by machine and link
    std::size_t routes_ = 0;
};

void add_cores(CompleteParts& into) {
    CoreBuilder(into).run();
}

} // namespace jackal::plan
