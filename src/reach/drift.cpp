#include "jackal/reach/drift.h"

#include "jackal/lab/wiring.h"

#include <algorithm>
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <map>
#include <set>

namespace jackal::reach {

using lab::Lab;
using lab::MachineId;
using lab::NicId;

std::string_view slug(Deviation deviation) {
    switch (deviation) {
    case Deviation::unknown_machine: return "unknown-machine";
    case Deviation::no_answer: return "no-answer";
    case Deviation::nic_missing: return "nic-missing";
    case Deviation::nic_unknown: return "nic-unknown";
    case Deviation::nic_renamed: return "nic-renamed";
    case Deviation::mac_differs: return "mac-differs";
    case Deviation::other_segment: return "other-segment";
    case Deviation::nic_down: return "nic-state";
    case Deviation::no_carrier: return "no-carrier";
    case Deviation::mtu_differs: return "mtu-differs";
    case Deviation::address_missing: return "address-missing";
    case Deviation::address_extra: return "address-extra";
    case Deviation::length_differs: return "prefix-length-differs";
    case Deviation::lease_differs: return "lease-differs";
    case Deviation::forwarding: return "forwarding";
    case Deviation::route_missing: return "route-missing";
    case Deviation::route_extra: return "route-extra";
    case Deviation::learned_missing: return "learned-missing";
    case Deviation::rules_missing: return "rules-missing";
    case Deviation::rules_differ: return "rules-differ";
    case Deviation::other_rules: break;
    }
    return "other-rules";
}

namespace {

std::string text_of(const FoundNic::Address& address) {
    return fmt::format("{}/{}", net::to_string(address.address), address.length);
}

std::string text_of(const FoundRoute& route) {
    return fmt::format("{} via {}{}", net::to_string(route.to), net::to_string(route.via),
                       route.metric == 0 ? "" : fmt::format(" metric {}", route.metric));
}

// --- a lab with a difference in it -------------------------------------------------------------

class Changed {
  public:
    Changed(const Lab& lab, const std::vector<const Difference*>& differences) : lab_(lab) {
        for (const Difference* difference : differences)
            put(*difference);
        if (!of_addresses_.empty())
            readdress();
        if (!of_routes_.empty())
            reroute();
        for (const auto& [machine, families] : of_forwarding_)
            forward(machine, families);
    }

    const Lab& lab() const { return lab_; }

    static bool can_put(const Difference& d) {
        switch (d.deviation) {
        case Deviation::unknown_machine:
        case Deviation::nic_unknown:
        case Deviation::nic_renamed:
        case Deviation::mac_differs: return false;
        case Deviation::rules_missing:
        case Deviation::rules_differ:
        case Deviation::other_rules: return d.rules && d.rules->unread.empty();
        case Deviation::other_segment: return bool(d.segment);
        case Deviation::learned_missing: return d.found.empty(); // else who knows why
        default: return true;
        }
    }

  private:
    void put(const Difference& d) {
        if (!can_put(d))
            return;
        switch (d.deviation) {
        case Deviation::no_answer: lab_.machines[d.id].up = false; break;
        case Deviation::nic_missing:
        case Deviation::no_carrier: lab_.nics[d.nic].up = false; break;
        case Deviation::nic_down: lab_.nics[d.nic].up = !lab_.nics[d.nic].up; break;
        case Deviation::mtu_differs: lab_.nics[d.nic].mtu_bytes = d.mtu_bytes; break;
        case Deviation::other_segment: move(d.nic, d.segment); break;
        case Deviation::address_missing:
        case Deviation::address_extra:
        case Deviation::length_differs:
        case Deviation::lease_differs: of_addresses_[d.nic].push_back(&d); break;
        case Deviation::forwarding: of_forwarding_.emplace_back(d.id, d.families); break;
        case Deviation::learned_missing: silence(d.id); break;
        case Deviation::route_missing:
        case Deviation::route_extra: of_routes_[d.id].push_back(&d); break;
        case Deviation::rules_missing:
        case Deviation::rules_differ:
        case Deviation::other_rules: guard(d.id, *d.rules); break;
        default: break;
        }
    }

    void move(NicId nic, lab::SegmentId to) {
        auto& left = lab_.segments[lab_.nics[nic].segment].nics;
        std::erase(left, nic);
        auto& entered = lab_.segments[to].nics;
        entered.insert(std::ranges::upper_bound(entered, nic), nic);
        lab_.nics[nic].segment = to;
    }

    // The rows of one table follow those of another, which own them, so all are laid anew, once: by
    // `lay(owner, rows)`; `set(owner, first, count)` says where they are.
    template <class Row, class Owners, class Lay, class Set>
    static void lay_anew(lab::Table<Row>& table, const Owners& owners, Lay lay, Set set) {
        lab::Table<Row> rows;
        rows.reserve(table.size());
        for (auto owner : owners) {
            const auto first = static_cast<std::uint32_t>(rows.size());
            lay(owner, rows);
            set(owner, lab::Id<Row>{first}, static_cast<std::uint32_t>(rows.size()) - first);
        }
        table = std::move(rows);
    }

    using Found = std::vector<const Difference*>;
    template <class Id>
    static const Found& of(const std::map<Id, Found>& differences, Id id) {
        static const Found none;
        auto found = differences.find(id);
        return found == differences.end() ? none : found->second;
    }

    void readdress() {
        std::set<lab::Owner> gone;
        auto lay = [&](NicId nic, auto& rows) {
            const Found& differences = of(of_addresses_, nic);
            for (lab::AddressId id : lab_.addresses_of(nic)) {
                const lab::InterfaceAddress& row = lab_.addresses[id];
                if (std::ranges::none_of(differences, [&](const Difference* d) {
                        return d->planned_address && row.address == d->planned_address->address;
                    }))
                    rows.add(row);
                else
                    gone.insert({row.address, nic, lab_.nics[nic].machine});
            }
            for (const Difference* d : differences)
                if (d->address)
                    rows.add({.address = d->address->address,
                              .length = d->address->length,
                              .origin = lab::AddressOrigin::given,
                              .nic = nic,
                              .at = d->at});
        };
        lay_anew(lab_.addresses, lab_.nics.ids(), lay,
                 [&](NicId nic, lab::AddressId first, std::uint32_t count) {
                     lab_.nics[nic].first_address = first;
                     lab_.nics[nic].address_count = count;
                 });
        std::erase_if(lab_.owners, [&](const lab::Owner& owner) { return gone.contains(owner); });
        for (const auto& [nic, differences] : of_addresses_)
            for (const Difference* d : differences)
                if (d->address)
                    lab_.owners.push_back({d->address->address, nic, d->id});
        std::ranges::sort(lab_.owners);
    }

    void reroute() {
        auto lay = [&](MachineId machine, auto& rows) {
            const Found& differences = of(of_routes_, machine);
            for (lab::RouteId id : lab_.routes_of(machine)) {
                const lab::StaticRoute& row = lab_.routes[id];
                if (std::ranges::none_of(differences, [&](const Difference* d) {
                        return d->deviation == Deviation::route_missing && row.to == d->route->to
                               && row.via == d->route->via && row.metric == d->route->metric;
                    }))
                    rows.add(row);
            }
            for (const Difference* d : differences)
                if (d->deviation == Deviation::route_extra)
                    rows.add({.to = d->route->to,
                              .via = d->route->via,
                              .metric = d->route->metric,
                              .at = d->at});
        };
        lay_anew(lab_.routes, lab_.machines.ids(), lay,
                 [&](MachineId machine, lab::RouteId first, std::uint32_t count) {
                     lab_.machines[machine].first_route = first;
                     lab_.machines[machine].route_count = count;
                 });
    }

    // A machine that forwards IPv6 answers for the first addresses of its prefixes, too (RFC 4291
    // section 2.6.1).
    void forward(MachineId machine, const lab::PerFamily<bool>& families) {
        for (net::Family family : net::both_families)
            lab_.machines[machine].forwards[family] ^= families[family];
        if (!families.ipv6)
            return;
        const bool now = lab_.machines[machine].forwards.ipv6;
        for (NicId nic : lab_.nics_of(machine))
            for (lab::AddressId id : lab_.addresses_of(nic)) {
                const lab::InterfaceAddress& row = lab_.addresses[id];
                const lab::Owner anycast{row.prefix().first(), nic, machine};
                if (row.address.family() != net::Family::ipv6 || row.address == anycast.address)
                    continue;
                if (!now)
                    std::erase(lab_.owners, anycast);
                else if (!lab_.owners_of(anycast.address).empty())
                    lab_.owners.insert(std::ranges::upper_bound(lab_.owners, anycast), anycast);
            }
    }

    void silence(MachineId machine) {
        lab::Table<lab::Speaker> others;
        for (const lab::Speaker& speaker : lab_.speakers)
            if (speaker.machine != machine)
                others.add(speaker);
        lab_.speakers = std::move(others);
    }

    void guard(MachineId machine, const FoundRules& rules) {
        for (NicId nic : lab_.nics_of(machine)) {
            const auto found = rules.nics.find(lab_.nics[nic].name);
            lab_.nics[nic].guard = found == rules.nics.end()
                                       ? lab::GuardId{}
                                       : lab_.guards.add({.nic = filter(machine, found->second)});
        }
        lab::Machine& row = lab_.machines[machine];
        row.is_core = row.is_core && !rules.not_relaying.empty();
        if (!row.duties)
            row.duties = lab_.duties.add({});
        lab::Duties& duties = lab_.duties[row.duties];
        duties.filter = rules.machine.empty() ? lab::FilterId{} : filter(machine, rules.machine);
        duties.translations.clear();
        for (const FoundRules::Translation& rule : rules.translations)
            for (NicId nic : lab_.nics_of(machine))
                if (lab_.nics[nic].name == rule.nic)
                    duties.translations.push_back({.kind = rule.kind,
                                                   .nic = nic,
                                                   .any_source = rule.from.empty(),
                                                   .from = rule.from,
                                                   .protocol = rule.protocol,
                                                   .port = rule.port,
                                                   .to = rule.to,
                                                   .to_port = rule.to_port,
                                                   .at = row.at});
    }

    lab::FilterId filter(MachineId machine, std::vector<lab::FilterRule> rules) {
        std::size_t entries_left = lab::RuleIndex::most_entries;
        const lab::Machine& row = lab_.machines[machine];
        lab::Filter filter{.name = "found-on-" + row.name,
                           .allows = true,
                           .rules = std::move(rules),
                           .at = row.at,
                           .default_at = row.at};
        filter.index = lab::RuleIndex(filter.rules, entries_left);
        if (std::ranges::any_of(filter.rules, &lab::FilterRule::requests_only)) {
            std::vector<lab::FilterRule> of_answers = filter.rules;
            for (lab::FilterRule& rule : of_answers)
                if (rule.requests_only)
                    rule = {.any_from = false}; // from nobody; each keeps its position
            filter.of_answers = lab::RuleIndex(of_answers, entries_left);
        }
        return lab_.filters.add(std::move(filter));
    }

    Lab lab_;
    std::map<NicId, Found> of_addresses_;
    std::map<MachineId, Found> of_routes_;
    std::vector<std::pair<MachineId, lab::PerFamily<bool>>> of_forwarding_;
};

// --- the differences ---------------------------------------------------------------------------

class Finder {
  public:
    explicit Finder(const routing::Settled& settled) : settled_(settled), lab_(settled.lab()) {
        for (NicId nic : lab_.nics.ids())
            by_mac_.emplace(lab_.nics[nic].mac.bits, nic);
    }

    Drift run(const Facts& facts) {
        Drift drift;
        std::set<MachineId> known;
        for (const FoundMachine& found : facts) {
            ++drift.machines;
            if (auto machine = lab_.machine(found.name)) {
                known.insert(*machine);
                look_at(*machine, found);
            } else {
                differences_.push_back(
                    {.deviation = Deviation::unknown_machine,
                     .machine = found.name,
                     .what = found.name,
                     .found = fmt::format("a machine of {} NICs", found.nics.size())});
            }
        }
        for (MachineId id : lab_.machines.ids())
            if (!lab_.machines[id].outside && !known.contains(id))
                drift.unasked.push_back(lab_.machines[id].name);
        drift.differences = std::move(differences_);
        return drift;
    }

  private:
    Difference& add(Deviation deviation, MachineId machine, NicId nic = {}) {
        const std::string& name = lab_.machines[machine].name;
        return differences_.emplace_back(
            Difference{.deviation = deviation,
                       .machine = name,
                       .id = machine,
                       .nic = nic,
                       .what = nic ? lab_.nic_name(nic) : name,
                       .at = nic ? lab_.nics[nic].at : lab_.machines[machine].at});
    }

    void look_at(MachineId machine, const FoundMachine& found) {
        if (!found.answers) {
            if (lab_.machines[machine].up) {
                Difference& d = add(Deviation::no_answer, machine);
                d.planned = "it runs";
                d.found = "no answer";
            }
            return;
        }
        routes_ = settled_.routes(machine);
        compare_learned(machine, found);
        std::erase_if(routes_, [](const routing::Route& route) {
            return route.kind != routing::RouteKind::static_route;
        });
        std::vector<const FoundNic*> unknown;
        for (const FoundNic& nic : found.nics)
            unknown.push_back(&nic);
        for (NicId nic : lab_.nics_of(machine)) {
            const FoundNic* row = counterpart(nic, found);
            std::erase(unknown, row);
            if (row == nullptr) {
                Difference& d = add(Deviation::nic_missing, machine, nic);
                d.planned = fmt::format("{}, MAC {}", lab_.nics[nic].name,
                                        net::to_string(lab_.nics[nic].mac));
                continue;
            }
            device_names_[nic] = row->name;
            compare(nic, *row);
        }
        for (const FoundNic* nic : unknown)
            if (!nic->addresses.empty()) {
                Difference& d = add(Deviation::nic_unknown, machine);
                d.found = fmt::format("{} with {}", nic->name, text_of(nic->addresses.front()));
            }
        compare_forwarding(machine, found);
        compare_routes(machine, found);
        compare_rules(machine, found);
    }

    // The NIC of its MAC, else that of its name if its MAC is nobody's.
    const FoundNic* counterpart(NicId nic, const FoundMachine& found) const {
        const lab::Nic& planned = lab_.nics[nic];
        const FoundNic* by_name = nullptr;
        const bool is_alone = std::ranges::count(found.nics, planned.mac, &FoundNic::mac) == 1;
        for (const FoundNic& row : found.nics) {
            if (!planned.is_loopback() && row.mac == planned.mac
                && (row.name == planned.name || is_alone))
                return &row;
            if (row.name == planned.name)
                by_name = &row;
        }
        if (by_name == nullptr || planned.is_loopback())
            return by_name;
        for (NicId other : lab_.nics_of(planned.machine))
            if (other != nic && lab_.nics[other].mac == by_name->mac)
                return nullptr;
        return by_name;
    }

    void compare(NicId nic, const FoundNic& row) {
        const lab::Nic& planned = lab_.nics[nic];
        const MachineId machine = planned.machine;
        const std::string& machine_name = lab_.machines[machine].name;
        if (!planned.is_loopback()) {
            if (row.name != planned.name) {
                Difference& d = add(Deviation::nic_renamed, machine, nic);
                d.planned = planned.name;
                d.found = row.name;
            }
            if (row.mac != planned.mac) {
                Difference& d = add(Deviation::mac_differs, machine, nic);
                d.planned = net::to_string(planned.mac);
                d.found = net::to_string(row.mac);
            }
            if (row.up != planned.up) {
                Difference& d = add(Deviation::nic_down, machine, nic);
                d.planned = planned.up ? "up" : "down";
                d.found = row.up ? "up" : "down";
                d.command =
                    fmt::format("ip link set dev {} {}", plan::shell_word(row.name), d.planned);
            } else if (row.up && !row.has_carrier && has_other_end(nic)) {
                Difference& d = add(Deviation::no_carrier, machine, nic);
                d.planned = "a carrier";
                d.found = "none";
            }
            if (row.mtu_bytes != planned.mtu_bytes) {
                Difference& d = add(Deviation::mtu_differs, machine, nic);
                d.planned = fmt::format("MTU {}", planned.mtu_bytes);
                d.found = fmt::format("MTU {}", row.mtu_bytes);
                d.mtu_bytes = row.mtu_bytes;
                d.command = fmt::format("ip link set dev {} mtu {}", plan::shell_word(row.name),
                                        planned.mtu_bytes);
                if (is_of_subnet(nic))
                    d.edits = {plan::set_nic_mtu(lab_.plan, machine_name, planned.plan_index,
                                                 row.mtu_bytes)};
            }
            compare_segment(nic, row);
        }
        if (row.up)
            compare_addresses(nic, row);
    }

    bool is_of_subnet(NicId nic) const {
        return bool(lab_.segments[lab_.nics[nic].segment].subnet);
    }

    // Of a link: its other end, on a machine that runs.
    bool has_other_end(NicId nic) const {
        const lab::Segment& segment = lab_.segments[lab_.nics[nic].segment];
        if (!segment.link)
            return true;
        const lab::Link& link = lab_.links[segment.link];
        const NicId other = link.other_end(nic);
        return link.up && lab_.nics[other].up && lab_.machines[lab_.nics[other].machine].up;
    }

    // By whom it hears: of its own segment nobody, of one other somebody.
    void compare_segment(NicId nic, const FoundNic& row) {
        const lab::SegmentId own = lab_.nics[nic].segment;
        lab::SegmentId other;
        for (net::Mac mac : row.heard) {
            auto [first, last] = by_mac_.equal_range(mac.bits);
            for (; first != last; ++first) {
                if (settled_.wiring().domain(lab_, first->second)
                    == settled_.wiring().domain(lab_, nic))
                    return;
                other = lab_.nics[first->second].segment;
            }
        }
        if (!other)
            return;
        Difference& d = add(Deviation::other_segment, lab_.nics[nic].machine, nic);
        d.planned = lab_.segment_name(own);
        d.found = lab_.segment_name(other);
        if (lab_.segments[other].subnet && is_of_subnet(nic)) {
            d.edits = {plan::set_nic_subnet(lab_.plan, lab_.machine_name(nic),
                                            lab_.nics[nic].plan_index,
                                            lab_.subnets[lab_.segments[other].subnet].name)};
            if (!lab_.has_wiring())
                d.segment = other;
        }
    }

    void compare_addresses(NicId nic, const FoundNic& row) {
        const std::string device = plan::shell_word(row.name);
        std::vector<FoundNic::Address> found = row.addresses;
        const MachineId machine = lab_.nics[nic].machine;
        struct Missing {
            FoundNic::Address planned;
            bool is_lease = false;
            plan::Mark at;
        };
        std::vector<Missing> missing;
        for (lab::AddressId id : lab_.addresses_of(nic)) {
            const lab::InterfaceAddress& planned = lab_.addresses[id];
            const FoundNic::Address address{planned.address, planned.length};
            const bool is_lease = planned.origin == lab::AddressOrigin::lease
                                  && planned.address.family() == net::Family::ipv4;
            if (planned.origin == lab::AddressOrigin::link_local || std::erase(found, address) != 0)
                continue;
            missing.push_back({address, is_lease, planned.at});
        }
        for (const Missing& one : missing) {
            auto same = std::ranges::find(found, one.planned.address, &FoundNic::Address::address);
            auto instead =
                same != found.end() ? same : std::ranges::find_if(found, [&](const auto& other) {
                    return other.address.family() == one.planned.address.family();
                });
            const bool has_same = same != found.end();
            const bool is_swapped = instead != found.end();
            Difference& d = add(has_same       ? Deviation::length_differs
                                : one.is_lease ? Deviation::lease_differs
                                               : Deviation::address_missing,
                                machine, nic);
            d.planned = text_of(one.planned);
            d.planned_address = one.planned;
            d.at = one.at ? one.at : d.at;
            d.command = one.is_lease ? fmt::format("ask for a lease anew on {}", device)
                                     : fmt::format("ip address add {} dev {}", d.planned, device);
            if (!is_swapped)
                continue;
            d.found = text_of(*instead);
            d.address = *instead;
            if (!one.is_lease)
                d.command =
                    fmt::format("ip address delete {0} dev {1} && ip address add {2} dev {1}",
                                d.found, device, d.planned)
                    + routes_again(nic, one.planned.address.family(), device);
            if (!has_same && is_of_subnet(nic) && !one.is_lease)
                d.edits = {plan::set_nic_address(lab_.plan, lab_.machine_name(nic),
                                                 lab_.nics[nic].plan_index, one.planned.address,
                                                 instead->address)};
            found.erase(instead);
        }
        for (const FoundNic::Address& address : found) {
            Difference& d = add(Deviation::address_extra, machine, nic);
            d.found = text_of(address);
            d.address = address;
            d.command = fmt::format("ip address delete {} dev {}", d.found, device);
        }
    }

    // Routes go with the last address that their next hops are near to.
    std::string routes_again(NicId nic, net::Family family, const std::string& device) const {
        std::string text;
        for (const routing::Route& route : routes_)
            if (route.out == nic && route.to.family() == family)
                text +=
                    fmt::format(" && ip route replace {} dev {}",
                                text_of(FoundRoute{route.to, route.via, "", route.metric}), device);
        return text;
    }

    // Both families go by one key of the plan.
    void compare_forwarding(MachineId machine, const FoundMachine& found) {
        const bool planned = lab_.machines[machine].forwards_any();
        lab::PerFamily<bool> other;
        std::string keys;
        for (net::Family family : net::both_families) {
            const bool is_ipv4 = family == net::Family::ipv4;
            const auto& is = found.forwards[family];
            other[family] = is && *is != planned;
            if (other[family])
                keys += fmt::format(
                    " {}={}", is_ipv4 ? "net.ipv4.ip_forward" : "net.ipv6.conf.all.forwarding",
                    planned ? 1 : 0);
        }
        if (keys.empty())
            return;
        const bool both = other.ipv4 && other.ipv6;
        Difference& d = add(Deviation::forwarding, machine);
        d.families = other;
        d.planned = planned ? "forwards" : "does not forward";
        d.found = fmt::format("{}{}", planned ? "does not forward" : "forwards",
                              both         ? ""
                              : other.ipv4 ? " IPv4"
                                           : " IPv6");
        d.command = "sysctl -w" + keys;
        if (both)
            d.edits = {plan::set_forwards(lab_.plan, lab_.machines[machine].name, !planned)};
    }

    std::string device(NicId nic) const {
        auto known = device_names_.find(nic);
        return known == device_names_.end() ? lab_.nics[nic].name : known->second;
    }

    void compare_routes(MachineId machine, const FoundMachine& found) {
        using Key = std::tuple<net::Prefix, net::Address, std::uint32_t>;
        std::multimap<Key, const FoundRoute*> extra;
        for (const FoundRoute& route : found.routes)
            if (!route.is_learned)
                extra.emplace(Key(route.to, route.via, route.metric), &route);
        for (const routing::Route& planned : routes_) {
            auto same = extra.find({planned.to, planned.via, planned.metric});
            if (same != extra.end()) {
                extra.erase(same);
                continue;
            }
            const lab::StaticRoute& row = lab_.routes[planned.written];
            Difference& d = add(Deviation::route_missing, machine);
            d.route = FoundRoute{planned.to, planned.via, device(planned.out), planned.metric};
            d.planned = text_of(*d.route);
            d.at = row.at ? row.at : d.at;
            d.command =
                fmt::format("ip route add {} dev {}", d.planned, plan::shell_word(d.route->nic));
            if (row.origin <= lab::RouteOrigin::written_by_name)
                d.edits = {
                    plan::remove_route(lab_.plan, lab_.machines[machine].name, row.plan_index)};
        }
        for (const auto& [key, route] : extra) {
            Difference& d = add(Deviation::route_extra, machine);
            d.route = *route;
            d.found = text_of(*route);
            d.command = fmt::format("ip route delete {}", d.found);
            d.edits = {plan::add_route(lab_.plan, lab_.machines[machine].name,
                                       plan::Route::Target(route->to), route->via)};
        }
    }

    // By their prefixes: which of several next hops a daemon takes can be luck.
    void compare_learned(MachineId machine, const FoundMachine& found) {
        std::set<net::Prefix> known;
        std::size_t taught = 0;
        for (const FoundRoute& route : found.routes) {
            known.insert(route.to);
            taught += route.is_learned ? 1 : 0;
        }
        std::set<net::Prefix> missing;
        for (const routing::Route& route : routes_)
            if (routing::is_learned(route.kind) && route.has_next_hop()
                && !known.contains(route.to))
                missing.insert(route.to);
        if (missing.empty())
            return;
        constexpr std::size_t most_told = 3;
        std::vector<std::string> told;
        for (const net::Prefix& prefix : missing)
            if (told.size() < most_told)
                told.push_back(net::to_string(prefix));
        Difference& d = add(Deviation::learned_missing, machine);
        d.planned = fmt::format("taught {}", fmt::join(told, ", "));
        if (missing.size() > told.size())
            d.planned += fmt::format(" and {} more", missing.size() - told.size());
        if (taught != 0)
            d.found = fmt::format("{} others", taught);
    }

    // By what they do, in whatever tables they are.
    void compare_rules(MachineId machine, const FoundMachine& found) {
        if (!found.rules)
            return;
        const FoundRules planned = planned_rules(lab_, machine);
        const std::vector<std::string> wanted = words(planned);
        const std::vector<std::string> has = words(*found.rules);
        const bool is_end = !lab_.machines[machine].forwards_any() && found.passes_nothing_on();
        if (has == wanted || (is_end && are_alike(machine, planned, found)))
            return;
        const bool is_by_others = words(found.own_rules) == wanted;
        Difference& d = add(is_by_others              ? Deviation::other_rules
                            : found.rules->is_empty() ? Deviation::rules_missing
                                                      : Deviation::rules_differ,
                            machine);
        d.planned = only_in(wanted, has);
        d.found = only_in(has, wanted);
        if (d.planned.empty() && d.found.empty())
            d.found = "the same rules in another order";
        std::vector<std::string> commands;
        if (!is_by_others)
            commands.emplace_back(planned.is_empty() ? "nft delete table inet jackal"
                                                     : "nft -f /etc/nftables.conf");
        for (const std::string& table : found.other_tables)
            commands.push_back("nft delete table " + table);
        d.command = fmt::format("{}", fmt::join(commands, " && "));
        if (found.rules->not_relaying.empty()
            || found.rules->not_relaying == planned.not_relaying) // others have no word
            d.rules = found.rules;
    }

    // True if all NICs let in and out what the plan's do.
    bool are_alike(MachineId machine, const FoundRules& planned, const FoundMachine& found) const {
        std::vector<std::string> nics;
        for (NicId nic : lab_.nics_of(machine))
            nics.push_back(lab_.nics[nic].name);
        return words(rules_of_end(planned, nics)) == words(rules_of_end(*found.rules, nics));
    }

    // The first few of the lines that the others have not.
    static std::string only_in(const std::vector<std::string>& lines,
                               const std::vector<std::string>& others) {
        constexpr std::size_t most_told = 3;
        std::multiset<std::string> known(others.begin(), others.end());
        std::vector<std::string> told;
        for (const std::string& line : lines)
            if (auto same = known.find(line); same == known.end())
                told.push_back(line);
            else
                known.erase(same);
        const std::size_t count = told.size();
        told.resize(std::min(count, most_told));
        return fmt::format("{}{}", fmt::join(told, "; "),
                           count > most_told ? fmt::format(" and {} more", count - most_told) : "");
    }

    const routing::Settled& settled_;
    const Lab& lab_;
    std::vector<routing::Route> routes_; // of the machine, the static ones
    std::multimap<std::uint64_t, NicId> by_mac_;
    std::map<NicId, std::string> device_names_;
    std::vector<Difference> differences_;
};

} // namespace

Drift drift(const routing::Settled& settled, const Facts& facts,
            const std::function<void(std::size_t, std::size_t)>& progress) {
    Drift drift = Finder(settled).run(facts);
    std::vector<const Difference*> all;
    for (const Difference& d : drift.differences)
        if (Changed::can_put(d))
            all.push_back(&d);
    drift.not_put = drift.differences.size() - all.size();
    if (all.empty())
        return drift;
    auto is_of_ipv6_alone = [](const Difference* d) {
        return d->deviation == Deviation::forwarding && !d->families.ipv4;
    };
    auto ask = [&](const std::vector<const Difference*>& differences) {
        const Changed changed(settled.lab(), differences);
        const routing::Settled found = routing::settle(changed.lab());
        Comparison comparison = compare(settled, found);
        if (std::ranges::any_of(differences, is_of_ipv6_alone))
            for (ReachChange& change : reach_changes(settled, found, net::Family::ipv6))
                if (std::ranges::none_of(comparison.reach, [&](const ReachChange& known) {
                        return known.from == change.from && known.to == change.to;
                    }))
                    comparison.reach.push_back(std::move(change));
        return comparison;
    };
    std::size_t done = 0;
    Comparison together = ask(all);
    drift.reach = std::move(together.reach);
    drift.expectations = std::move(together.expectations);
    for (Difference& d : drift.differences) {
        if (!Changed::can_put(d) || done == most_asked)
            continue;
        if (progress)
            progress(done, std::min(all.size(), most_asked));
        Comparison alone = ask({&d});
        d.is_asked = true;
        d.reach = std::move(alone.reach);
        d.expectations = std::move(alone.expectations);
        ++done;
    }
    return drift;
}

std::vector<Holder> holders(const lab::Lab& lab, const Facts& facts, net::Address address) {
    std::map<std::string, Holder> found;
    auto of = [&](const std::string& machine, const std::string& nic) -> Holder& {
        Holder& holder = found[machine + "/" + nic];
        holder.what = machine + "/" + nic;
        return holder;
    };
    for (const FoundMachine& machine : facts) {
        if (!machine.answers)
            continue;
        for (const FoundNic& nic : machine.nics)
            for (const FoundNic::Address& own : nic.addresses)
                if (own.address == address)
                    of(machine.name, nic.name).has_it = true;
        for (const lab::Owner& owner : lab.owners_of(address))
            if (lab.machines[owner.machine].name == machine.name)
                of(machine.name, lab.nics[owner.nic].name).is_planned = true;
    }
    std::vector<Holder> all;
    for (auto& [name, holder] : found)
        all.push_back(std::move(holder));
    return all;
}

} // namespace jackal::reach
