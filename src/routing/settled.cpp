#include "jackal/routing/settled.h"

#include <algorithm>

namespace jackal::routing {

using lab::Lab;
using lab::MachineId;
using lab::NicId;

Condition::Condition(const Lab& lab) {
    for (const lab::Machine& machine : lab.machines)
        machine_on_.push_back(machine.up);
    for (const lab::Nic& nic : lab.nics)
        nic_up_.push_back(nic.up);
    for (const lab::Link& link : lab.links)
        link_up_.push_back(link.up);
}

bool Condition::cut(const Lab& lab, std::string_view what) {
    if (std::size_t dashes = what.find("--"); dashes != what.npos) {
        auto first = lab.machine(what.substr(0, dashes));
        auto second = lab.machine(what.substr(dashes + 2));
        bool found = false;
        for (lab::LinkId id : lab.links.ids()) {
            MachineId a = lab.nics[lab.links[id].first].machine;
            MachineId b = lab.nics[lab.links[id].second].machine;
            if ((first == a && second == b) || (first == b && second == a)) {
                link_up_[id.row] = false;
                found = true;
            }
        }
        return found;
    }
    std::size_t slash = what.find('/');
    auto machine = lab.machine(what.substr(0, slash));
    if (!machine)
        return false;
    if (slash == what.npos) {
        machine_on_[machine->row] = false;
        return true;
    }
    auto nic = lab.nic(*machine, what.substr(slash + 1));
    if (nic)
        nic_up_[nic->row] = false;
    return nic.has_value();
}

std::string_view to_string(RouteKind kind) {
    switch (kind) {
    case RouteKind::local: return "local";
    case RouteKind::broadcast: return "broadcast";
    case RouteKind::connected: return "connected";
    case RouteKind::static_route: break;
    }
    return "static";
}

// --- asking --------------------------------------------------------------------------------

Aim Settled::aim(net::Address destination) const {
    return {destination, prefix_table_.lookup(destination), lab_->owners_of(destination),
            std::ranges::binary_search(broadcasts_, destination)};
}

const Hop* Settled::small_hop(const Forwarding& table, std::uint32_t prefix) const {
    auto begin = small_.begin() + static_cast<std::ptrdiff_t>(table.first);
    auto end = begin + table.count;
    for (; prefix != net::PrefixTable::none; prefix = shorter_[prefix]) {
        auto found = std::ranges::lower_bound(begin, end, prefix, {}, &Entry::prefix);
        if (found != end && found->prefix == prefix)
            return &hops_[table.first_hop + found->hop];
    }
    return nullptr;
}

bool Settled::is_broadcast(MachineId machine, const Aim& aim) const {
    if (!aim.is_broadcast)
        return false;
    for (NicId nic : lab_->nics_of(machine))
        for (lab::AddressId id : lab_->addresses_of(nic))
            if (condition_.nic_up(nic)
                && lab_->addresses[id].prefix().is_broadcast_address(aim.address))
                return true;
    return false;
}

std::vector<Route> Settled::routes(MachineId machine) const {
    return routes(machine, nullptr);
}

std::optional<Route> Settled::route(MachineId machine, net::Address destination) const {
    std::optional<Route> best;
    for (const Route& route : routes(machine))
        if (route.to.contains(destination) && (!best || route.to.length() > best->to.length()))
            best = route;
    return best;
}

void Settled::answering(NicId asking, std::span<const lab::Owner> owners,
                        std::vector<NicId>& into) const {
    into.clear();
    lab::SegmentId segment = lab_->nics[asking].segment;
    if (lab::LinkId link = lab_->segments[segment].link; link && !condition_.link_up(link))
        return;
    for (const lab::Owner& owner : owners) {
        bool ipv6 = owner.address.family() == net::Family::ipv6;
        for (NicId nic : lab_->nics_of(owner.machine)) {
            if (lab_->nics[nic].segment != segment || !is_usable(nic) || nic == asking
                || (ipv6 && nic != owner.nic))
                continue;
            if (std::ranges::find(into, nic) == into.end())
                into.push_back(nic);
            break;
        }
    }
}

// --- route tables --------------------------------------------------------------------------

namespace {

class RouteList {
  public:
    RouteList(const Lab& lab, const Condition& condition, MachineId machine,
              std::vector<RefusedRoute>* refused)
        : lab_(lab), condition_(condition), machine_(machine), refused_(refused) {}

    std::vector<Route> run() {
        if (!condition_.machine_on(machine_))
            return {};
        for (NicId nic : lab_.nics_of(machine_))
            add_nic_routes(nic);
        own_count_ = routes_.size();
        for (lab::RouteId route : lab_.routes_of(machine_))
            add_static_route(route);
        sort();
        return std::move(routes_);
    }

  private:
    void refuse(lab::RouteId written, Refusal why) {
        if (refused_ != nullptr)
            refused_->push_back({written, machine_, why});
    }

    void add_nic_routes(NicId nic) {
        bool up = condition_.nic_up(nic);
        for (lab::AddressId id : lab_.addresses_of(nic)) {
            const lab::InterfaceAddress& row = lab_.addresses[id];
            net::Family family = row.address.family();
            if (!up && family == net::Family::ipv6)
                continue;
            auto add = [&](const net::Prefix& to, RouteKind kind) {
                routes_.push_back({to, kind, nic, {}, id, 0, {}});
            };
            add({row.address, net::address_bits(family)}, RouteKind::local);
            if (!up)
                continue;
            net::Prefix prefix = row.prefix();
            if (family == net::Family::ipv4 && prefix.host_bits() > 1)
                add({prefix.last(), 32}, RouteKind::broadcast);
            if (prefix.host_bits() > 0)
                add(prefix, RouteKind::connected);
        }
    }

    void add_static_route(lab::RouteId written) {
        const lab::StaticRoute& row = lab_.routes[written];
        const Route* towards = nullptr; // the connected prefix that the next hop is on
        for (const Route& route : std::span(routes_).first(own_count_)) {
            if (route.kind == RouteKind::local && route.to.first() == row.via)
                return refuse(written, Refusal::next_hop_is_own);
            if (route.kind == RouteKind::connected && route.to.contains(row.via)
                && (towards == nullptr || route.to.length() > towards->to.length()))
                towards = &route;
        }
        if (towards == nullptr)
            return refuse(written, Refusal::next_hop_off_link);
        Route route{row.to,  RouteKind::static_route, towards->out,
                    row.via, towards->source,         row.metric,
                    written};
        routes_.push_back(route);
    }

    void sort() {
        std::ranges::stable_sort(routes_, [](const Route& a, const Route& b) {
            return std::tuple(a.to, a.kind, a.metric) < std::tuple(b.to, b.kind, b.metric);
        });
        auto is_repeated = [](const Route& a, const Route& b) {
            return a.kind == RouteKind::static_route && b.kind == RouteKind::static_route
                   && a.to == b.to && a.metric == b.metric;
        };
        for (std::size_t i = 1; i < routes_.size(); ++i)
            if (is_repeated(routes_[i - 1], routes_[i]))
                refuse(routes_[i].written, Refusal::repeated);
        auto repeated = std::ranges::unique(routes_, is_repeated);
        routes_.erase(repeated.begin(), repeated.end());
    }

    const Lab& lab_;
    const Condition& condition_;
    MachineId machine_;
    std::vector<RefusedRoute>* refused_;
    std::vector<Route> routes_;
    std::size_t own_count_ = 0; // the first so many routes are those that the NICs gave
};

} // namespace

std::vector<Route> Settled::routes(MachineId machine, std::vector<RefusedRoute>* refused) const {
    return RouteList(*lab_, condition_, machine, refused).run();
}

// --- forwarding tables ---------------------------------------------------------------------

void Settled::number_prefixes() {
    for (const lab::InterfaceAddress& row : lab_->addresses)
        prefixes_.push_back(row.prefix());
    for (const lab::StaticRoute& row : lab_->routes)
        prefixes_.push_back(row.to);
    std::ranges::sort(prefixes_);
    auto repeated = std::ranges::unique(prefixes_);
    prefixes_.erase(repeated.begin(), repeated.end());
    prefixes_.shrink_to_fit();

    std::vector<std::uint32_t> around; // prefixes that hold the current one, outermost first
    std::vector<net::PrefixTable::Entry> entries;
    for (std::uint32_t i = 0; i < prefixes_.size(); ++i) {
        while (!around.empty() && prefixes_[around.back()].last() < prefixes_[i].first())
            around.pop_back();
        // An IPv6 prefix around the IPv4-mapped block is around, but does not hold IPv4 prefixes.
        bool held = !around.empty() && prefixes_[around.back()].contains(prefixes_[i]);
        shorter_.push_back(held ? around.back() : net::PrefixTable::none);
        around.push_back(i);
        entries.push_back({prefixes_[i], i});
    }
    prefix_table_ = net::PrefixTable(std::move(entries));
}

void Settled::collect_broadcasts() {
    for (const lab::InterfaceAddress& row : lab_->addresses)
        if (net::Prefix prefix = row.prefix(); prefix.is_broadcast_address(prefix.last()))
            broadcasts_.push_back(prefix.last());
    std::ranges::sort(broadcasts_);
    auto repeated = std::ranges::unique(broadcasts_);
    broadcasts_.erase(repeated.begin(), repeated.end());
}

// The number of the hop that the route leads to, among those of its machine; a new one if needed.
std::uint32_t Settled::hop_number(const Route& route, std::uint32_t first_hop) {
    auto leads_there = [&](const Hop& hop) {
        return hop.kind == route.kind && hop.out == route.out && hop.source == route.source
               && (!hop.written || lab_->routes[hop.written].via == route.via);
    };
    for (std::size_t i = first_hop; i < hops_.size(); ++i)
        if (leads_there(hops_[i]))
            return static_cast<std::uint32_t>(i) - first_hop;
    Hop hop{.out = route.out,
            .neighbour = {},
            .machine = {},
            .source = route.source,
            .written = route.written,
            .mtu_bytes = lab_->nics[route.out].mtu_bytes,
            .kind = route.kind};
    if (route.kind == RouteKind::static_route) {
        std::vector<NicId> answers;
        answering(route.out, lab_->owners_of(route.via), answers);
        if (answers.size() == 1)
            hop.neighbour = answers.front();
        if (hop.neighbour)
            hop.machine = lab_->nics[hop.neighbour].machine;
    }
    hops_.push_back(hop);
    return static_cast<std::uint32_t>(hops_.size() - 1) - first_hop;
}

// Writes the entries as a large table. Prefixes are numbered so that a shorter one comes before
// those it holds.
void Settled::spread(Forwarding& table, const std::vector<Entry>& entries) {
    table.large = true;
    table.first = large_count_++;
    large_.resize(large_.size() + prefixes_.size(), no_large_hop);
    std::uint8_t* hops = &large_[table.first * prefixes_.size()];
    for (const Entry& entry : entries)
        hops[entry.prefix] = static_cast<std::uint8_t>(entry.hop);
    for (std::uint32_t i = 0; i < prefixes_.size(); ++i)
        if (hops[i] == no_large_hop && shorter_[i] != net::PrefixTable::none)
            hops[i] = hops[shorter_[i]];
}

// From one row a machine, as they are made, to one row a prefix.
void Settled::turn_large() {
    std::vector<std::uint8_t> turned(large_.size());
    for (std::size_t machine = 0; machine < large_count_; ++machine)
        for (std::size_t prefix = 0; prefix < prefixes_.size(); ++prefix)
            turned[prefix * large_count_ + machine] = large_[machine * prefixes_.size() + prefix];
    large_ = std::move(turned);
}

void Settled::settle_machine(MachineId id) {
    Forwarding table{.first = small_.size(), .first_hop = static_cast<std::uint32_t>(hops_.size())};
    std::vector<Entry> entries;
    std::uint32_t prefix = 0;
    for (const Route& route : routes(id, &refused_)) {
        if (route.kind != RouteKind::connected && route.kind != RouteKind::static_route)
            continue;
        auto found = std::lower_bound(prefixes_.begin() + prefix, prefixes_.end(), route.to);
        prefix = static_cast<std::uint32_t>(found - prefixes_.begin());
        if (entries.empty() || entries.back().prefix != prefix) // the best one comes first
            entries.push_back({prefix, hop_number(route, table.first_hop)});
    }
    if (entries.size() > prefixes_.size() / 16 && hops_.size() - table.first_hop < no_large_hop) {
        spread(table, entries);
    } else {
        small_.insert(small_.end(), entries.begin(), entries.end());
        table.count = static_cast<std::uint32_t>(entries.size());
    }
    forwarding_.push_back(table);
}

Settled settle(const Lab& lab, Condition condition) {
    Settled settled(lab, std::move(condition));
    settled.number_prefixes();
    settled.collect_broadcasts();
    settled.forwarding_.reserve(lab.machines.size());
    for (MachineId id : lab.machines.ids())
        settled.settle_machine(id);
    settled.hops_.shrink_to_fit();
    settled.small_.shrink_to_fit();
    settled.turn_large();
    return settled;
}

Settled settle(const Lab& lab) {
    return settle(lab, Condition(lab));
}

} // namespace jackal::routing
