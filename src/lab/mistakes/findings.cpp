#include "jackal/lab/finding.h"
#include "jackal/lab/peering.h"
#include "jackal/lab/place.h"
#include "jackal/net/special_use.h"

#include "leasing.h"
#include "switching.h"

#include <algorithm>
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <map>
#include <set>
#include <tuple>

namespace jackal::lab {

namespace {

using net::to_string;
using plan::Cause;

class Inspector {
  public:
    explicit Inspector(const Lab& lab) : lab_(lab), wired_(islands(lab, JoinedBy::any_machine)) {}

    std::vector<Finding> run() {
        unplaced();
        overlapping_subnets();
        subnets_outside_their_space();
        special_use_ranges();
        overlaps_with_outside();
        overlapping_spaces();
        exceeded_limits();
        duplicate_addresses();
        duplicate_macs();
        addresses_set_aside();
        misplaced_addresses();
        nics_without_use();
        subnet_gateways();
        next_hops();
        machines_that_do_not_forward();
        repeated_routes();
        default_route_loops();
        subnets_that_nothing_joins();
        filter_rules();
        add_switch_findings(lab_, found_);
        add_lease_findings(lab_, found_);
        add_peering_findings(lab_, found_);
        for (Finding& finding : found_)
            finding.remedy = within(lab_, std::move(finding.remedy));
        sort_findings(found_);
        return std::move(found_);
    }

  private:
    // Some remedies search the whole lab. They are worked out for the first findings only; who has
    // hundreds of one sort mends the first and asks again.
    bool worth_working_out() { return worked_out_++ < most_worked_out; }

    void find(Cause cause, Severity severity, std::string subject, std::string message,
              Remedy remedy, plan::Mark at) {
        found_.push_back(
            {cause, severity, std::move(subject), std::move(message), std::move(remedy), at});
    }

    // --- address plan ----------------------------------------------------------------------

    void unplaced() {
        for (const Unplaced& entry : lab_.unplaced)
            find(Cause::no_space_left, Severity::error, entry.what,
                 fmt::format("{}, but {}", entry.what, entry.why),
                 {worth_working_out() ? make_room(lab_, entry) : std::vector<plan::Edit>{},
                  entry.advice},
                 entry.at);
    }

    struct Range {
        net::Prefix prefix;
        SegmentId segment;
    };

    void overlapping_subnets() {
        std::vector<Range> ranges;
        for (SegmentId id : lab_.segments.ids())
            for (net::Family family : net::both_families)
                if (const auto& prefix = lab_.segments[id].prefix[family])
                    ranges.push_back({*prefix, id});
        each_with_those_around(ranges, [&](const Range& range, const auto& around) {
            for (const Range* other : around)
                if (other->prefix.contains(range.prefix)
                    && wired_[other->segment.row] == wired_[range.segment.row]) {
                    overlap(std::min(other->segment, range.segment),
                            std::max(other->segment, range.segment), range.prefix.family());
                    break; // one finding for each prefix is enough
                }
        });
    }

    // Sorts rows by their prefixes, and calls use(row, around) for each with those rows before it
    // that reach as far, outermost first. Those hold it, but for `::/0` around IPv4.
    template <class Row, class Use>
    static void each_with_those_around(std::vector<Row>& rows, Use use) {
        std::ranges::stable_sort(rows, {}, &Row::prefix);
        std::vector<const Row*> around;
        for (const Row& row : rows) {
            while (!around.empty() && around.back()->prefix.last() < row.prefix.first())
                around.pop_back();
            use(row, around);
            around.push_back(&row);
        }
    }

    void overlap(SegmentId kept, SegmentId moved, net::Family family) {
        const auto& kept_prefix = *lab_.segments[kept].prefix[family];
        const auto& moved_prefix = *lab_.segments[moved].prefix[family];
        std::string subject = lab_.segment_name(moved);
        Remedy remedy = another_prefix(moved, family);
        if (Remedy other = another_prefix(kept, family); // the smaller change
            !other.edits.empty()
            && (remedy.edits.empty() || other.edits.size() < remedy.edits.size()))
            remedy = std::move(other);
        find(Cause::subnets_overlap, Severity::error, subject,
             fmt::format("{} ({}) overlaps {} ({}) from {} to {}", subject, to_string(moved_prefix),
                         lab_.segment_name(kept), to_string(kept_prefix),
                         to_string(std::max(kept_prefix.first(), moved_prefix.first())),
                         to_string(std::min(kept_prefix.last(), moved_prefix.last()))),
             std::move(remedy), mark_of(moved));
    }

    // Not written in the plan.
    bool is_outside(SegmentId id) const {
        const Segment& segment = lab_.segments[id];
        return segment.subnet ? lab_.subnets[segment.subnet].outside
                              : lab_.machines[lab_.nics[segment.nics.front()].machine].outside;
    }

    // The physical network itself.
    bool is_lan(SegmentId id) const {
        SubnetId subnet = lab_.segments[id].subnet;
        return subnet && lab_.subnets[subnet].uplink == plan::Uplink::bridge;
    }

    plan::Mark mark_of(SegmentId id) const {
        const Segment& segment = lab_.segments[id];
        if (segment.subnet)
            return lab_.subnets[segment.subnet].at;
        return segment.link ? lab_.links[segment.link].at : lab_.nics[segment.nics.front()].at;
    }

    // Moves a subnet to the next free prefix of its size.
    Remedy another_prefix(SegmentId id, net::Family family) {
        Remedy remedy{
            {}, fmt::format("give {} a prefix that nothing else uses", lab_.segment_name(id))};
        SubnetId subnet = lab_.segments[id].subnet;
        if (!subnet || !worth_working_out())
            return remedy;
        auto to = free_prefix(lab_, lab_.subnets[subnet].site, family,
                              lab_.segments[id].prefix[family]->length());
        if (to && net::special_use(*to) == nullptr)
            remedy.edits = renumber(lab_, subnet, *to);
        return remedy;
    }

    void subnets_outside_their_space() {
        for (const Subnet& subnet : lab_.subnets)
            for (net::Family family : net::both_families) {
                const auto& prefix = lab_.segments[subnet.segment].prefix[family];
                const Site& site = lab_.sites[subnet.site];
                auto of_family = [&](const auto& space) { return space.family() == family; };
                auto holds_it = [&](const auto& space) { return space.contains(*prefix); };
                if (!prefix || site.space_chosen || is_lan(subnet.segment)
                    || std::ranges::none_of(site.space, of_family)
                    || std::ranges::any_of(site.space, holds_it))
                    continue;
                find(Cause::subnet_outside_space, Severity::warning, subnet.name,
                     fmt::format("{} is not part of the space of site {}", to_string(*prefix),
                                 site.name),
                     {{},
                      fmt::format("add {} to the site's space, or choose another prefix",
                                  to_string(*prefix))},
                     subnet.at);
            }
    }

    void special_use_ranges() {
        for (SegmentId id : lab_.segments.ids())
            for (net::Family family : net::both_families)
                if (const auto& prefix = lab_.segments[id].prefix[family];
                    prefix && !is_outside(id))
                    if (const net::SpecialUse* use = net::special_use(*prefix))
                        special_use_range(id, *prefix, *use);
    }

    void special_use_range(SegmentId id, const net::Prefix& prefix, const net::SpecialUse& use) {
        std::string name = lab_.segment_name(id);
        find(Cause::special_use_range, use.works ? Severity::warning : Severity::error, name,
             fmt::format("{} of {} is part of {}, which is for {} ({})", to_string(prefix), name,
                         to_string(use.prefix), use.meaning, use.source),
             another_prefix(id, prefix.family()), mark_of(id));
    }

    void overlaps_with_outside() {
        for (SegmentId id : lab_.segments.ids())
            for (net::Family family : net::both_families)
                for (const net::Prefix& lan : lab_.outside_lan)
                    if (const auto& prefix = lab_.segments[id].prefix[family];
                        prefix && prefix->overlaps(lan) && !is_outside(id) && !is_lan(id))
                        find(Cause::overlaps_outside, Severity::warning, lab_.segment_name(id),
                             fmt::format("{} of {} overlaps {}, the network around the lab",
                                         to_string(*prefix), lab_.segment_name(id), to_string(lan)),
                             another_prefix(id, family), mark_of(id));
    }

    // --- sites ---------------------------------------------------------------------------------

    struct Space {
        net::Prefix prefix;
        SiteId site;
    };

    // Sites that are joined should not own the same addresses, even where no subnet has them yet.
    void overlapping_spaces() {
        std::vector<Space> spaces;
        for (SiteId id : lab_.sites.ids())
            for (const net::Prefix& space : lab_.sites[id].space)
                spaces.push_back({space, id});
        std::vector<std::set<std::uint32_t>> wires; // islands that each site has subnets on
        each_with_those_around(spaces, [&](const Space& space, const auto& around) {
            if (around.empty() || !around.back()->prefix.contains(space.prefix)
                || around.back()->site == space.site)
                return;
            if (wires.empty())
                wires = wires_of_sites();
            overlapping_spaces(*around.back(), space, wires);
        });
    }

    std::vector<std::set<std::uint32_t>> wires_of_sites() const {
        std::vector<std::set<std::uint32_t>> wires(lab_.sites.size());
        for (const Subnet& subnet : lab_.subnets)
            if (!lab_.segments[subnet.segment].nics.empty())
                wires[subnet.site.row].insert(wired_[subnet.segment.row]);
        return wires;
    }

    void overlapping_spaces(const Space& one, const Space& other,
                            const std::vector<std::set<std::uint32_t>>& wires) {
        const auto* few = &wires[one.site.row];
        const auto* many = &wires[other.site.row];
        if (few->size() > many->size())
            std::swap(few, many);
        auto is_shared = [&](std::uint32_t wire) { return many->contains(wire); };
        if (std::ranges::none_of(*few, is_shared))
            return;
        auto machines = [&](const Space& s) { return lab_.sites[s.site].totals.machines; };
        const Space& moved = machines(one) < machines(other) ? one : other; // the smaller change
        const Site& site = lab_.sites[moved.site];
        std::string advice = fmt::format("give site {} a space of its own", site.name);
        if (worth_working_out())
            if (auto to = free_space(lab_, moved.prefix.family(), moved.prefix.length(),
                                     fmt::format("{}/{}", lab_.name, site.name)))
                advice += fmt::format("; jackal addresses {} --renumber {}={} shows what changes",
                                      lab_.source, site.name, to_string(*to));
        find(Cause::spaces_overlap, Severity::warning, site.name,
             fmt::format("site {} ({}) and site {} ({}) are joined, and both own {} to {}",
                         lab_.sites[one.site].name, to_string(one.prefix),
                         lab_.sites[other.site].name, to_string(other.prefix),
                         to_string(other.prefix.first()), to_string(other.prefix.last())),
             {{}, std::move(advice)}, site.at);
    }

    void exceeded_limits() {
        Totals sum;
        for (const Site& site : lab_.sites) {
            sum.cpus += site.totals.cpus;
            sum.memory_mib += site.totals.memory_mib;
            sum.disk_mib += site.totals.disk_mib;
        }
        auto compare = [&](std::string_view what, auto text, std::uint64_t has,
                           std::uint64_t limit) {
            if (limit != 0 && has > limit)
                find(Cause::limits_exceeded, Severity::error, std::string(what),
                     fmt::format("the machines ask for {} {}, and the limit is {}", text(has), what,
                                 text(limit)),
                     {{}, fmt::format("ask for less {}, or raise the limit", what)},
                     lab_.limits.at);
        };
        const plan::Sizes& limit = lab_.limits.sizes;
        compare(
            "cpus", [](std::uint64_t n) { return fmt::format("{}", n); }, sum.cpus, limit.cpus);
        compare("memory", plan::size_text, sum.memory_mib, limit.memory_mib);
        compare("disk", plan::size_text, sum.disk_mib, limit.disk_mib);
    }

    // --- filters -------------------------------------------------------------------------------

    void filter_rules() {
        std::size_t comparisons_left = 100'000'000;
        for (const Filter& filter : lab_.filters) {
            auto report = [&](Cause cause, std::uint32_t rule, std::string_view why) {
                find(cause, Severity::warning, fmt::format("{} rule {}", filter.name, rule + 1),
                     fmt::format("rule {} of filter {} {}", rule + 1, filter.name, why),
                     {{plan::RemoveFilterRule{filter.name, rule}}, ""}, filter.rules[rule].at);
            };
            for (std::uint32_t rule : shadowed_rules(filter, comparisons_left))
                report(Cause::rule_shadowed, rule,
                       "never decides anything: rules before it match all that it does");
            for (std::uint32_t i = 0; i < filter.rules.size(); ++i) {
                const FilterRule& rule = filter.rules[i];
                if (!meets_somebody(rule.any_from, rule.from))
                    report(Cause::rule_matches_nothing, i,
                           "matches nothing: nobody has an address in `from`");
                else if (!meets_somebody(rule.any_to, rule.to))
                    report(Cause::rule_matches_nothing, i,
                           "matches nothing: nobody has an address in `to`");
            }
        }
    }

    bool meets_somebody(bool any, const std::vector<net::Prefix>& prefixes) const {
        auto holds_owner = [&](const net::Prefix& prefix) {
            auto next = std::ranges::lower_bound(lab_.owners, prefix.first(), {}, &Owner::address);
            while (next != lab_.owners.end() && next->address <= prefix.last()) {
                if (prefix.contains(next->address)) // IPv4 addresses are between IPv6 ones
                    return true;
                ++next;
            }
            return false;
        };
        return any || std::ranges::any_of(prefixes, holds_owner);
    }

    // --- addresses -----------------------------------------------------------------------------

    void duplicate_macs() {
        std::map<std::pair<std::uint32_t, net::Mac>, NicId> first;
        Wiring wiring(lab_, WiringState(lab_));
        for (NicId id : lab_.nics.ids()) {
            const Nic& nic = lab_.nics[id];
            if (!nic.shares_mac)
                continue;
            auto [known, is_new] = first.emplace(std::pair(wiring.domain(lab_, id), nic.mac), id);
            if (!is_new)
                find(Cause::duplicate_mac, Severity::error, lab_.nic_name(id),
                     fmt::format("{} has the MAC {}, which {} on {} has too", lab_.nic_name(id),
                                 to_string(nic.mac), lab_.nic_name(known->second),
                                 lab_.segment_name(nic.segment)),
                     {{plan::RemoveNicMac{lab_.machines[nic.machine].name, nic.plan_index}}, ""},
                     nic.at);
        }
    }

    void addresses_set_aside() {
        for (const InterfaceAddress& row : lab_.addresses) {
            SubnetId id = lab_.segments[lab_.nics[row.nic].segment].subnet;
            if (!id || (row.origin != AddressOrigin::given && row.origin != AddressOrigin::pinned))
                continue;
            const Subnet& subnet = lab_.subnets[id];
            const net::Range* range = subnet.set_aside(row.address);
            if (range == nullptr)
                continue;
            std::string nic = lab_.nic_name(row.nic);
            if (subnet.dhcp && range == &*subnet.dhcp)
                find(Cause::dhcp_range_over_static, Severity::error, nic,
                     fmt::format("{} has {}, which {} gives out by DHCP ({})", nic,
                                 to_string(row.address), subnet.name, to_string(*range)),
                     another_address(row), row.at);
            else
                find(Cause::address_reserved, Severity::warning, nic,
                     fmt::format("{} has {}, which {} reserves ({})", nic, to_string(row.address),
                                 subnet.name, to_string(*range)),
                     another_address(row), row.at);
        }
    }

    Remedy another_address(const InterfaceAddress& row) {
        return {worth_working_out() ? readdress(lab_, {row.address, row.nic})
                                    : std::vector<plan::Edit>{},
                fmt::format("give {} another address", lab_.nic_name(row.nic))};
    }

    void duplicate_addresses() {
        for (std::size_t i = 1; i < lab_.owners.size(); ++i) {
            const Owner& first = lab_.owners[i - 1];
            const Owner& second = lab_.owners[i];
            if (first.address != second.address
                || wired_[lab_.nics[first.nic].segment.row]
                       != wired_[lab_.nics[second.nic].segment.row])
                continue;
            const InterfaceAddress* row = written_row(second);
            const InterfaceAddress* other = written_row(first);
            if (row == nullptr || other == nullptr) {
                shared_with_routers(row != nullptr ? row : other);
                continue;
            }
            if (row->origin != AddressOrigin::given) // mend the one that the builder wrote
                std::swap(row, other);
            find(Cause::duplicate_address, Severity::error, lab_.nic_name(row->nic),
                 fmt::format("{} has {}, which {} has too", lab_.nic_name(row->nic),
                             to_string(row->address), lab_.nic_name(other->nic)),
                 another_address(*row), row->at);
        }
    }

    // `row` has the Subnet-Router anycast address of its prefix, or is null.
    void shared_with_routers(const InterfaceAddress* row) {
        if (row != nullptr)
            find(Cause::duplicate_address, Severity::error, lab_.nic_name(row->nic),
                 fmt::format("{} has {}, which every router on {} has too (RFC 4291 section 2.6.1)",
                             lab_.nic_name(row->nic), to_string(row->address),
                             lab_.segment_name(lab_.nics[row->nic].segment)),
                 another_address(*row), row->at);
    }

    // The address of the owner, or null if it has it only as a router of the prefix.
    const InterfaceAddress* written_row(const Owner& owner) const {
        for (AddressId id : lab_.addresses_of(owner.nic))
            if (lab_.addresses[id].address == owner.address)
                return &lab_.addresses[id];
        return nullptr;
    }

    void misplaced_addresses() {
        for (const InterfaceAddress& row : lab_.addresses) {
            if (row.origin == AddressOrigin::link || row.origin == AddressOrigin::loopback
                || row.origin == AddressOrigin::link_local) // that is told of its lease
                continue;
            const Segment& segment = lab_.segments[lab_.nics[row.nic].segment];
            const auto& prefix = segment.prefix[row.address.family()];
            std::string nic = lab_.nic_name(row.nic);
            std::string subnet = lab_.segment_name(lab_.nics[row.nic].segment);
            if (!prefix)
                find(Cause::address_outside_subnet, Severity::warning, nic,
                     fmt::format("{} has {}, but {} has no {} prefix", nic, to_string(row.address),
                                 subnet, to_string(row.address.family())),
                     {{}, fmt::format("give {} a prefix of that family too", subnet)}, row.at);
            else if (!prefix->contains(row.address))
                find(Cause::address_outside_subnet, Severity::error, nic,
                     fmt::format("{} has {}, which is not in {} ({})", nic, to_string(row.address),
                                 subnet, to_string(*prefix)),
                     another_address(row), row.at);
            else if (row.length != prefix->length())
                find(
                    Cause::prefix_length_differs, Severity::error, nic,
                    fmt::format("{} has {}/{}, but {} is {}", nic, to_string(row.address),
                                row.length, subnet, to_string(*prefix)),
                    {{plan::SetNicAddress{lab_.machines[lab_.nics[row.nic].machine].name,
                                          lab_.nics[row.nic].plan_index, row.address, row.address}},
                     ""},
                    row.at);
            else if (prefix->is_broadcast_address(row.address))
                find(Cause::broadcast_address, Severity::error, nic,
                     fmt::format("{} has {}, the broadcast address of {} ({})", nic,
                                 to_string(row.address), subnet, to_string(*prefix)),
                     another_address(row), row.at);
            else if (prefix->is_network_address(row.address))
                find(Cause::network_address, Severity::warning, nic,
                     fmt::format("{} has {}, the address of {} ({}) itself; many systems do "
                                 "not answer at it",
                                 nic, to_string(row.address), subnet, to_string(*prefix)),
                     another_address(row), row.at);
        }
    }

    void small_mtu(NicId id) {
        const Nic& nic = lab_.nics[id];
        plan::Edit edit = plan::SetNicMtu{lab_.machines[nic.machine].name, nic.plan_index,
                                          ipv6_minimum_mtu_bytes};
        if (LinkId link = lab_.segments[nic.segment].link)
            edit = plan::SetLinkMtu{link.row, ipv6_minimum_mtu_bytes};
        find(Cause::mtu_too_small, Severity::error, lab_.nic_name(id),
             fmt::format("{} has an MTU of {} bytes, and IPv6 needs {}", lab_.nic_name(id),
                         nic.mtu_bytes, ipv6_minimum_mtu_bytes),
             {{std::move(edit)}, ""}, nic.at);
    }

    void nics_without_use() {
        for (NicId id : lab_.nics.ids()) {
            const Nic& nic = lab_.nics[id];
            const Segment& segment = lab_.segments[nic.segment];
            const std::string& machine = lab_.machines[nic.machine].name;
            if (!nic.up)
                find(Cause::nic_down, Severity::warning, lab_.nic_name(id),
                     fmt::format("{} is down, so {} has no route to {}", lab_.nic_name(id), machine,
                                 lab_.segment_name(nic.segment)),
                     {{plan::SetNicUp{machine, nic.plan_index}}, ""}, nic.at);
            if (nic.mtu_bytes < ipv6_minimum_mtu_bytes
                && lab_.first_address(id, net::Family::ipv6) != nullptr)
                small_mtu(id);
            bool has_prefix = segment.prefix.ipv4 || segment.prefix.ipv6;
            if (nic.address_count == 0 && segment.subnet && has_prefix)
                find(Cause::nic_unaddressed, Severity::warning, lab_.nic_name(id),
                     fmt::format("{} has no address on {}", lab_.nic_name(id),
                                 lab_.segment_name(nic.segment)),
                     {{plan::SetNicAddress{machine, nic.plan_index, {}, std::nullopt}}, ""},
                     nic.at);
        }
    }

    // --- gateways and next hops ------------------------------------------------------------

    bool claimed(net::Address address, SegmentId segment) const {
        return std::ranges::any_of(lab_.owners_of(address), [&](const Owner& owner) {
            return lab_.nics[owner.nic].segment == segment;
        });
    }

    void subnet_gateways() {
        for (const Subnet& subnet : lab_.subnets) {
            if (!subnet.gateway_written)
                continue;
            const Segment& segment = lab_.segments[subnet.segment];
            for (net::Family family : net::both_families) {
                const auto& gateway = subnet.gateway[family];
                const auto& prefix = segment.prefix[family];
                if (!gateway)
                    continue;
                auto router = router_address(lab_, subnet.segment, family);
                Remedy remedy{{plan::SetSubnetGateway{subnet.name, router}}, ""};
                if (!prefix || !prefix->contains(*gateway))
                    find(Cause::gateway_off_subnet, Severity::error, subnet.name,
                         fmt::format("the gateway {} is not in {}{}", to_string(*gateway),
                                     subnet.name,
                                     prefix ? fmt::format(" ({})", to_string(*prefix)) : ""),
                         remedy, subnet.gateway_at);
                else if (!claimed(*gateway, subnet.segment))
                    find(Cause::gateway_unclaimed, Severity::error, subnet.name,
                         fmt::format("no machine on {} has its gateway address {}", subnet.name,
                                     to_string(*gateway)),
                         router ? remedy : join(subnet), subnet.gateway_at);
            }
        }
    }

    struct Reach {
        bool on_link = false; // some prefix of the machine holds the address
        bool own = false;     // it is the machine's own address
        SegmentId segment;
    };

    Reach reach_of(MachineId machine, net::Address via) const {
        Reach reach;
        int longest = -1;
        for (NicId nic : lab_.nics_of(machine))
            for (AddressId id : lab_.addresses_of(nic)) {
                const InterfaceAddress& row = lab_.addresses[id];
                reach.own |= row.address == via;
                if (row.prefix().contains(via) && row.length > longest) {
                    longest = row.length;
                    reach.on_link = true;
                    reach.segment = lab_.nics[nic].segment;
                }
            }
        return reach;
    }

    void next_hops() {
        for (const UnresolvedRoute& route : lab_.unresolved_routes) {
            const std::string& name = lab_.machines[route.machine].name;
            find(Cause::next_hop_off_link, Severity::error, name,
                 fmt::format("{} shares no segment with {}, or no address family", name, route.via),
                 {{}, fmt::format("name a machine that is on a segment of {}", name)}, route.at);
        }
        for (MachineId id : lab_.machines.ids())
            for (RouteId route : lab_.routes_of(id))
                next_hop(id, lab_.routes[route]);
    }

    void next_hop(MachineId id, const StaticRoute& route) {
        const Machine& machine = lab_.machines[id];
        if (route.origin == RouteOrigin::gateway_automatic) // said once, at the subnet
            return;
        Reach reach = reach_of(id, route.via);
        bool off_link = !reach.on_link || reach.own;
        if (!off_link && claimed(route.via, reach.segment))
            return;
        auto better = router_towards(id, route);
        Remedy remedy{{}, "name the address of a router on one of its segments"};
        if (better && route.is_gateway())
            remedy = {{plan::SetMachineGateway{machine.name, better}}, ""};
        else if (better)
            remedy = {{plan::SetRouteVia{machine.name, route.plan_index, *better}}, ""};
        Cause cause = route.is_gateway()
                          ? (off_link ? Cause::gateway_off_subnet : Cause::gateway_unclaimed)
                          : (off_link ? Cause::next_hop_off_link : Cause::next_hop_unclaimed);
        std::string what =
            route.is_gateway()
                ? fmt::format("the gateway {}", to_string(route.via))
                : fmt::format("the next hop {} for {}", to_string(route.via), to_string(route.to));
        std::string why = reach.own        ? fmt::format("is {}'s own address", machine.name)
                          : !reach.on_link ? fmt::format("is on no subnet of {}", machine.name)
                                           : fmt::format("belongs to no machine on {}",
                                                         lab_.segment_name(reach.segment));
        find(cause, Severity::error, machine.name, fmt::format("{} {}", what, why),
             std::move(remedy), route.at);
    }

    // The address of a forwarding neighbour to replace a wrong next hop: one that has a NIC on
    // the segment the route leads to, else the first.
    std::optional<net::Address> router_towards(MachineId id, const StaticRoute& route) const {
        std::optional<net::Address> first;
        for (NicId own : lab_.nics_of(id))
            for (NicId theirs : lab_.segments[lab_.nics[own].segment].nics) {
                MachineId neighbour = lab_.nics[theirs].machine;
                const auto* address = lab_.first_address(theirs, route.to.family());
                if (neighbour == id || !lab_.machines[neighbour].forwards || address == nullptr)
                    continue;
                if (!first)
                    first = address->address;
                if (route.to.length() != 0 && reach_of(neighbour, route.to.first()).on_link)
                    return address->address;
            }
        return first;
    }

    void machines_that_do_not_forward() {
        std::map<MachineId, std::pair<std::size_t, MachineId>> users; // how many, and the first
        for (MachineId id : lab_.machines.ids()) {
            std::set<MachineId> asked;
            for (RouteId route : lab_.routes_of(id)) {
                SegmentId segment = reach_of(id, lab_.routes[route].via).segment;
                for (const Owner& owner : lab_.owners_of(lab_.routes[route].via))
                    if (segment && lab_.nics[owner.nic].segment == segment)
                        asked.insert(lab_.nics[owner.nic].machine);
            }
            for (MachineId next : asked)
                if (next != id && !lab_.machines[next].forwards)
                    ++users.try_emplace(next, 0, id).first->second.first;
        }
        for (const auto& [id, use] : users) {
            const Machine& machine = lab_.machines[id];
            find(Cause::next_hop_does_not_forward, Severity::error, machine.name,
                 fmt::format("{}{} sends by way of {}, which does not forward",
                             lab_.machines[use.second].name,
                             use.first == 1 ? "" : fmt::format(" (and {} more)", use.first - 1),
                             machine.name),
                 {{plan::SetForwards{machine.name, true}}, ""}, machine.at);
        }
    }

    void repeated_routes() {
        for (MachineId id : lab_.machines.ids()) {
            std::set<std::pair<net::Prefix, std::uint32_t>> seen = connected_routes(id);
            const auto connected = seen;
            for (RouteId route : lab_.routes_of(id)) {
                const StaticRoute& row = lab_.routes[route];
                std::pair key(row.to, row.metric);
                if (seen.insert(key).second || row.origin == RouteOrigin::gateway_lease)
                    continue;
                const std::string& name = lab_.machines[id].name;
                Remedy remedy{{plan::RemoveRoute{name, row.plan_index}}, ""};
                if (row.is_gateway())
                    remedy = {{}, "set gateway: none, or give the route to default a metric"};
                find(Cause::route_repeated, Severity::warning, name,
                     connected.contains(key)
                         ? fmt::format("{} has a route to {}, which is connected; only that exists",
                                       name, to_string(row.to))
                         : fmt::format("{} has a second route to {} with metric {}; only the "
                                       "first exists",
                                       name, to_string(row.to), row.metric),
                     std::move(remedy), row.at);
            }
        }
    }

    // Prefixes that are connected while everything is up, with their metrics, as on Linux.
    std::set<std::pair<net::Prefix, std::uint32_t>> connected_routes(MachineId id) const {
        std::set<std::pair<net::Prefix, std::uint32_t>> routes;
        for (NicId nic : lab_.nics_of(id))
            for (AddressId address : lab_.addresses_of(nic)) {
                net::Prefix prefix = lab_.addresses[address].prefix();
                if (lab_.nics[nic].up && prefix.host_bits() > 0)
                    routes.emplace(prefix, connected_metric(prefix.family()));
            }
        return routes;
    }

    // --- shape of the whole ----------------------------------------------------------------

    // The first default route of each machine leads to one other machine; a cycle in that is a
    // loop. Each machine is looked at once.
    void default_route_loops() {
        for (net::Family family : net::both_families) {
            std::vector<RouteId> route(lab_.machines.size());
            std::vector<MachineId> next(lab_.machines.size());
            for (MachineId id : lab_.machines.ids())
                follow_default(id, family, route[id.row], next[id.row]);
            std::vector<std::uint32_t> walk(lab_.machines.size(), 0); // 0: not yet walked
            for (std::uint32_t start = 0; start < walk.size(); ++start) {
                MachineId at{start};
                while (at && walk[at.row] == 0) {
                    walk[at.row] = start + 1;
                    at = next[at.row];
                }
                if (at && walk[at.row] == start + 1)
                    default_route_loop(at, next, route, family);
            }
        }
    }

    void follow_default(MachineId id, net::Family family, RouteId& route, MachineId& next) const {
        for (RouteId r : lab_.routes_of(id)) {
            const StaticRoute& row = lab_.routes[r];
            if (row.to != net::Prefix::everything(family))
                continue;
            SegmentId segment = reach_of(id, row.via).segment;
            for (const Owner& owner : lab_.owners_of(row.via)) {
                MachineId there = lab_.nics[owner.nic].machine;
                if (segment && lab_.nics[owner.nic].segment == segment
                    && lab_.machines[there].forwards && there != id) {
                    route = r;
                    next = there;
                    return;
                }
            }
            return;
        }
    }

    void default_route_loop(MachineId start, const std::vector<MachineId>& next,
                            const std::vector<RouteId>& route, net::Family family) {
        std::vector<std::string> names;
        MachineId last = start;
        MachineId at = start;
        do {
            names.push_back(lab_.machines[at].name);
            last = at;
            at = next[at.row];
        } while (at != start);
        const StaticRoute& row = lab_.routes[route[last.row]];
        Remedy remedy{{plan::RemoveRoute{names.back(), row.plan_index}}, ""};
        if (row.is_gateway())
            remedy = {{}, fmt::format("set gateway: none at {}", names.back())};
        names.push_back(names.front());
        find(Cause::default_route_loop, Severity::error, lab_.machines[last].name,
             fmt::format("{} default routes lead in a circle: {}", to_string(family),
                         fmt::join(names, " -> ")),
             std::move(remedy), row.at);
    }

    // By site: whether its subnets stand on several islands. Sites that are islands as a whole may
    // be meant so in a plan with cores or peerings; elsewhere they count as split.
    std::vector<bool>
    split_sites(const std::map<std::uint32_t, std::vector<SubnetId>>& members) const {
        bool meant =
            lab_.peerings.size() != 0
            || std::ranges::any_of(lab_.sites, [](const Site& site) { return bool(site.core); });
        std::vector<bool> split(lab_.sites.size(), !meant);
        std::vector<std::optional<std::uint32_t>> island(lab_.sites.size());
        for (const auto& [number, subnets] : members)
            for (SubnetId id : subnets) {
                auto& known = island[lab_.subnets[id].site.row];
                if (known && *known != number)
                    split[lab_.subnets[id].site.row] = true;
                known = number;
            }
        return split;
    }

    void subnets_that_nothing_joins() {
        std::vector<std::uint32_t> island = islands(lab_, JoinedBy::forwarding_machines);
        std::map<std::uint32_t, std::vector<SubnetId>> members;
        for (SubnetId id : lab_.subnets.ids())
            if (!lab_.segments[lab_.subnets[id].segment].nics.empty())
                members[island[lab_.subnets[id].segment.row]].push_back(id);
        const std::vector<bool> is_split = split_sites(members);
        for (auto it = members.begin(); it != members.end(); ++it) {
            bool apart = std::ranges::any_of(
                it->second, [&](SubnetId id) { return is_split[lab_.subnets[id].site.row]; });
            if (it == members.begin() || !apart)
                continue;
            const Subnet& first = lab_.subnets[it->second.front()];
            std::vector<std::string> names;
            for (SubnetId id : it->second)
                names.push_back(lab_.subnets[id].name);
            if (names.size() > 5) {
                std::string more = fmt::format("{} more", names.size() - 4);
                names.resize(4);
                names.push_back(more);
            }
            find(Cause::no_router_between, Severity::warning, first.name,
                 fmt::format("no chain of routers joins {} to {}", fmt::join(names, ", "),
                             lab_.subnets[members.begin()->second.front()].name),
                 join(first), first.at);
        }
    }

    // A NIC on the subnet for a router that is elsewhere, or a new router.
    Remedy join(const Subnet& subnet) {
        if (!worth_working_out())
            return {{}, "add a router to it"};
        for (const Machine& machine : lab_.machines)
            if (machine.forwards && machine.kind == plan::MachineKind::router && !machine.is_core
                && machine.nic_count != 0
                && wired_[lab_.nics[machine.first_nic].segment.row] != wired_[subnet.segment.row])
                return {{plan::AddNic{machine.name, subnet.name}}, ""};
        for (const Subnet& other : lab_.subnets)
            if (other.name != subnet.name)
                return {{new_router(lab_, {other.name, subnet.name})}, ""};
        return {{}, "add a router to it"};
    }

    const Lab& lab_;
    std::vector<std::uint32_t> wired_; // island of each segment, joined by any machine
    static constexpr int most_worked_out = 200;
    int worked_out_ = 0;
    std::vector<Finding> found_;
};

} // namespace

std::string_view to_string(Severity severity) {
    return severity == Severity::error ? "error" : "warning";
}

std::vector<std::string> to_lines(const Remedy& remedy, const plan::Plan& plan) {
    std::vector<std::string> lines;
    plan::Plan current; // a change is told as the plan stands after those before it
    for (std::size_t i = 0; i < remedy.edits.size(); ++i) {
        const plan::Plan& before = i == 0 ? plan : current;
        lines.push_back(plan::to_line(plan::to_text(remedy.edits[i], before)));
        if (i == 0 && remedy.edits.size() > 1)
            current = plan;
        if (i + 1 < remedy.edits.size())
            current = plan::apply(std::move(current), {remedy.edits[i]});
    }
    if (lines.empty() && !remedy.advice.empty())
        lines.push_back(remedy.advice);
    return lines;
}

void sort_findings(std::vector<Finding>& findings) {
    auto key = [](const Finding& f) {
        return std::tie(f.at.line, f.at.column, f.cause, f.subject, f.message);
    };
    std::ranges::sort(findings, [&](const auto& a, const auto& b) { return key(a) < key(b); });
    auto repeated = std::ranges::unique(
        findings, [&](const auto& a, const auto& b) { return key(a) == key(b); });
    findings.erase(repeated.begin(), repeated.end());
}

namespace {

// Whether an edit changes what is not written in the plan.
struct ChangesOutside {
    const Lab& lab;

    bool is_machine(std::string_view name) const {
        auto machine = lab.machine(name);
        return machine && (lab.machines[*machine].outside || lab.machines[*machine].is_core);
    }
    // A core's own routes are those of its site.
    bool operator()(const plan::AddRoute& e) const {
        auto machine = lab.machine(e.machine);
        return machine && lab.machines[*machine].outside;
    }
    bool operator()(const plan::SetRouteVia& e) const { return is_implied(e.machine, e.route); }
    bool operator()(const plan::RemoveRoute& e) const { return is_implied(e.machine, e.route); }
    bool is_implied(std::string_view name, std::size_t route) const {
        auto machine = lab.machine(name);
        return machine
               && (lab.machines[*machine].outside
                   || std::ranges::any_of(lab.routes_of(*machine), [&](RouteId id) {
                          return lab.routes[id].plan_index == route
                                 && lab.routes[id].origin == RouteOrigin::peering;
                      }));
    }
    bool is_subnet(std::string_view name) const {
        auto subnet = lab.subnet(name);
        return subnet && lab.subnets[*subnet].outside;
    }
    bool is_outside_link(std::size_t number) const {
        const Link& link = lab.links[LinkId{static_cast<std::uint32_t>(number)}];
        return lab.machines[lab.nics[link.first].machine].outside;
    }
    bool operator()(const plan::AddUplink&) const { return false; }
    bool operator()(const plan::AddRouter& e) const {
        return std::ranges::any_of(e.subnets,
                                   [&](const std::string& name) { return is_subnet(name); });
    }
    template <class Edit>
    bool operator()(const Edit& e) const {
        bool outside = false;
        if constexpr (requires { e.machine; })
            outside = is_machine(e.machine);
        if constexpr (requires { e.subnet; })
            outside |= is_subnet(e.subnet);
        if constexpr (requires { e.link; })
            outside |= is_outside_link(e.link);
        return outside;
    }
};

} // namespace

Remedy within(const Lab& lab, Remedy remedy) {
    bool outside = false;
    for (const plan::Edit& edit : remedy.edits)
        edit.visit([&](const auto& change) { outside |= ChangesOutside{lab}(change); });
    if (!outside)
        return remedy;
    return {{},
            "what is outside cannot be changed: let the lab translate, or give a subnet an uplink"};
}

std::vector<Finding> findings(const Lab& lab) {
    return Inspector(lab).run();
}

} // namespace jackal::lab
