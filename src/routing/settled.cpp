#include "jackal/routing/settled.h"

#include <algorithm>
#include <array>
#include <bit>
#include <charconv>
#include <map>
#include <set>

namespace jackal::routing {

using lab::Lab;
using lab::MachineId;
using lab::NicId;

Condition::Condition(const Lab& lab) : wiring_(lab) {
    for (const lab::Machine& machine : lab.machines)
        machine_on_.push_back(machine.up);
    for (const lab::Nic& nic : lab.nics)
        nic_up_.push_back(nic.up);
    for (const lab::Link& link : lab.links)
        link_up_.push_back(link.up);
}

bool Condition::carries(const Lab& lab, NicId nic, net::Family family) const {
    return nic_up(nic)
           && (family == net::Family::ipv4
               || lab.nics[nic].mtu_bytes >= lab::ipv6_minimum_mtu_bytes);
}

bool Condition::cut(const Lab& lab, std::string_view what) {
    if (std::size_t dashes = what.find("--"); dashes != what.npos)
        return cut_links(lab, what.substr(0, dashes), what.substr(dashes + 2));
    std::size_t slash = what.find('/');
    for (lab::SwitchId id : lab.switches.ids())
        if (lab.switches[id].name == what.substr(0, slash))
            return cut_switch(lab, id, slash == what.npos ? "" : what.substr(slash + 1));
    auto machine = lab.machine(what.substr(0, slash));
    if (!machine)
        return false;
    if (slash == what.npos) {
        machine_on_[machine->row] = false;
        return true;
    }
    auto nic = lab.nic(*machine, what.substr(slash + 1));
    if (!nic)
        return cut_wire(lab, *machine, what.substr(slash + 1));
    if (lab.nics[*nic].is_loopback()) // that cannot be cut
        return false;
    nic_up_[nic->row] = false;
    return true;
}

bool Condition::cut_links(const Lab& lab, std::string_view one, std::string_view other) {
    bool found = false;
    auto joins = [&](const std::string& first, const std::string& second) {
        return (first == one && second == other) || (first == other && second == one);
    };
    for (lab::LinkId id : lab.links.ids())
        if (joins(lab.machine_name(lab.links[id].first), lab.machine_name(lab.links[id].second))) {
            link_up_[id.row] = false;
            found = true;
        }
    // Two sites: all that their peering is made of.
    for (lab::LinkId id : lab.links.ids())
        if (lab::PeeringId peering = lab.links[id].peering;
            peering
            && joins(lab.sites[lab.peerings[peering].sites[0]].name,
                     lab.sites[lab.peerings[peering].sites[1]].name)) {
            link_up_[id.row] = false;
            found = true;
        }
    auto switch_name = [&](lab::PortId port) -> const std::string& {
        return lab.switches[lab.ports[port].owner].name;
    };
    for (lab::CableId id : lab.cables.ids())
        if (joins(switch_name(lab.cables[id].first), switch_name(lab.cables[id].second))) {
            wiring_.cable_up[id.row] = false;
            found = true;
        }
    return found;
}

// The whole switch, a port of it, or `PORT:VLAN`.
bool Condition::cut_switch(const Lab& lab, lab::SwitchId owner, std::string_view port) {
    if (port.empty()) {
        wiring_.switch_on[owner.row] = false;
        return true;
    }
    std::size_t colon = port.find(':');
    for (lab::PortId id : lab.ports.ids()) {
        const lab::Port& row = lab.ports[id];
        if (row.owner != owner || row.name != port.substr(0, colon))
            continue;
        if (colon == port.npos) {
            wiring_.port_up[id.row] = false;
            return true;
        }
        std::uint16_t vlan = 0;
        std::string_view text = port.substr(colon + 1);
        auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), vlan);
        if (error != std::errc{} || end != text.data() + text.size() || !row.carries(vlan))
            return false;
        wiring_.barred.emplace(id, vlan);
        return true;
    }
    return false;
}

bool Condition::cut_wire(const Lab& lab, MachineId machine, std::string_view wire) {
    for (std::size_t i = 0; i < lab.plugs.size(); ++i)
        if (lab.nics[lab.plugs[i].nic].machine == machine && lab.plugs[i].member == wire) {
            wiring_.plug_up[i] = false;
            return true;
        }
    return false;
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

// --- sources -------------------------------------------------------------------------------

namespace {

// RFC 6724 section 2.1, without what no lab has.
int label(net::Address address) {
    static const std::array<std::pair<net::Prefix, int>, 3> labels = {
        std::pair(net::parse_prefix("fc00::/7").value(), 13),
        std::pair(net::parse_prefix("2002::/16").value(), 2),
        std::pair(net::parse_prefix("2001::/32").value(), 5)};
    for (const auto& [prefix, number] : labels)
        if (prefix.contains(address))
            return number;
    return 1;
}

int common_bits(net::Address a, net::Address b) {
    std::uint64_t high = a.high() ^ b.high();
    return high != 0 ? std::countl_zero(high) : 64 + std::countl_zero(a.low() ^ b.low());
}

} // namespace

std::optional<lab::AddressId> source_on(const Lab& lab, NicId out, net::Address next_hop,
                                        net::Address destination) {
    std::optional<lab::AddressId> best;
    std::tuple<bool, bool, int> best_rank;
    for (lab::AddressId id : lab.addresses_of(out)) {
        const lab::InterfaceAddress& row = lab.addresses[id];
        if (row.address.family() != destination.family())
            continue;
        if (row.address.family() == net::Family::ipv4) {
            if (row.prefix().contains(next_hop))
                return id;
            continue;
        }
        std::tuple rank(row.address == destination, label(row.address) == label(destination),
                        std::min<int>(row.length, common_bits(row.address, destination)));
        if (!best || rank >= best_rank) {
            best = id;
            best_rank = rank;
        }
    }
    return best;
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

// An address of the machine itself that is the broadcast address of a prefix too is what it was
// first.
bool Settled::is_local_first(MachineId machine, const Aim& aim) const {
    for (NicId nic : lab_->nics_of(machine))
        for (lab::AddressId id : lab_->addresses_of(nic)) {
            const lab::InterfaceAddress& row = lab_->addresses[id];
            if (row.address == aim.address)
                return true;
            if (condition_.nic_up(nic) && row.prefix().is_broadcast_address(aim.address))
                return false;
        }
    return false;
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
        net::Family family = owner.address.family();
        for (NicId nic : lab_->nics_of(owner.machine)) {
            if (owner.machine == lab_->nics[asking].machine || !hears(asking, nic)
                || !condition_.machine_on(owner.machine) || !condition_.carries(*lab_, nic, family)
                || (family == net::Family::ipv6 && nic != owner.nic))
                continue;
            if (std::ranges::find(into, nic) == into.end())
                into.push_back(nic);
            break;
        }
    }
    if (into.size() != 1)
        return;
    add_clones(into.front(), into);
    // The answer goes to the asking NIC's MAC, and so perhaps to another that has it too.
    std::vector<NicId> hear_answer;
    add_clones(asking, hear_answer);
    if (into.size() == 1 && !hear_answer.empty()) {
        into = std::move(hear_answer);
        into.insert(into.begin(), asking);
    }
}

// Frames for the NIC may as well go to the others on its segment that have the same MAC; and if one
// of those is the sending one, nowhere.
void Settled::add_clones(NicId meant, std::vector<NicId>& into) const {
    const lab::Nic& wanted = lab_->nics[meant];
    if (!wanted.shares_mac)
        return;
    auto add = [&](NicId nic) {
        if (nic != meant && lab_->nics[nic].mac == wanted.mac && hears(nic, meant)
            && condition_.machine_on(lab_->nics[nic].machine) && condition_.nic_up(nic))
            into.push_back(nic);
    };
    if (lab_->has_wiring())
        std::ranges::for_each(lab_->nics.ids(), add);
    else
        std::ranges::for_each(lab_->segments[wanted.segment].nics, add);
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
            if (family == net::Family::ipv6 && !condition_.carries(lab_, nic, family))
                continue;
            auto add = [&](const net::Prefix& to, RouteKind kind) {
                std::uint32_t metric =
                    kind == RouteKind::connected ? lab::connected_metric(family) : 0;
                routes_.push_back({to, kind, nic, {}, id, metric, {}});
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
            bool is_via = route.to.first() == row.via;
            if (route.kind == RouteKind::local && is_via) {
                if (row.via.family() == net::Family::ipv6)
                    return refuse(written, Refusal::next_hop_is_own);
                towards = condition_.nic_up(route.out) ? &route : nullptr;
                break;
            }
            if (route.kind == RouteKind::broadcast && is_via)
                return refuse(written, Refusal::next_hop_is_broadcast);
            if (route.kind == RouteKind::connected && route.to.contains(row.via)
                && (towards == nullptr || route.to.length() > towards->to.length()))
                towards = &route;
        }
        if (towards == nullptr)
            return refuse(written, Refusal::next_hop_off_link);
        if (is_routed(row.via, *towards))
            return refuse(written, Refusal::next_hop_is_routed);
        lab::AddressId source = *source_on(lab_, towards->out, row.via, row.to.first());
        routes_.push_back(
            {row.to, RouteKind::static_route, towards->out, row.via, source, row.metric, written});
        if (row.to.family() == net::Family::ipv6)
            add_static_ipv6(row.to, row.metric);
    }

    // In IPv6 the kernel looks a next hop up in the table as it stands: a route by way of another
    // machine must not be the best one for it. In IPv4 it looks at connected prefixes only.
    bool is_routed(net::Address next_hop, const Route& towards) const {
        if (next_hop.family() == net::Family::ipv4)
            return false;
        for (auto length = static_ipv6_lengths_.lower_bound(towards.to.length());
             length != static_ipv6_lengths_.end(); ++length)
            if (auto found = static_ipv6_.find(net::Prefix(next_hop, *length));
                found != static_ipv6_.end()
                && (*length > towards.to.length() || found->second < towards.metric))
                return true;
        return false;
    }

    void add_static_ipv6(const net::Prefix& to, std::uint32_t metric) {
        auto [known, is_new] = static_ipv6_.emplace(to, metric);
        known->second = std::min(known->second, metric);
        static_ipv6_lengths_.insert(to.length());
    }

    void sort() {
        // Addresses of the machine's own come before all others, as in the kernel's local table.
        auto rank = [](const Route& route) {
            bool is_own = route.kind == RouteKind::local || route.kind == RouteKind::broadcast;
            return std::tuple(route.to, is_own ? RouteKind::local : RouteKind::connected,
                              route.metric);
        };
        std::ranges::stable_sort(routes_, {}, rank);
        auto is_repeated = [&](const Route& a, const Route& b) {
            return b.kind == RouteKind::static_route && rank(a) == rank(b);
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
    std::map<net::Prefix, std::uint32_t>
        static_ipv6_;                   // static IPv6 routes so far, with the best metric
    std::set<int> static_ipv6_lengths_; // of their prefixes
    std::size_t own_count_ = 0;         // the first so many routes are those that the NICs gave
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

bool Settled::is_direct(const Route& route) const {
    if (route.kind != RouteKind::static_route || route.to.family() == net::Family::ipv6)
        return false;
    MachineId machine = lab_->nics[route.out].machine;
    return std::ranges::any_of(lab_->owners_of(route.via),
                               [&](const lab::Owner& owner) { return owner.machine == machine; });
}

// The number of the hop that the route leads to, among those of its machine; a new one if needed.
std::uint32_t Settled::hop_number(const Route& route, std::uint32_t first_hop) {
    RouteKind kind = is_direct(route) ? RouteKind::connected : route.kind;
    auto leads_there = [&](const Hop& hop) {
        return hop.kind == kind && hop.out == route.out && hop.source == route.source
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
            .kind = kind};
    net::Address source = lab_->addresses[route.source].address;
    hop.source_is_shared = lab_->owners_of(source).size() > 1;
    hop.is_tunnel = bool(lab_->tunnel(route.out));
    if (kind == RouteKind::static_route) {
        std::vector<NicId> answers;
        answering(route.out, lab_->owners_of(route.via), answers);
        if (answers.size() == 1)
            hop.neighbour = answers.front();
        if (hop.neighbour) {
            hop.machine = lab_->nics[hop.neighbour].machine;
            // The end of a tunnel takes whatever comes out of the outer packet.
            hop.neighbour_takes_less =
                lab_->nics[hop.neighbour].mtu_bytes < hop.mtu_bytes && !hop.is_tunnel;
        }
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
