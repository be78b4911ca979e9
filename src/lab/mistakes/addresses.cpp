#include "lab/mistakes/addresses.h"

#include "jackal/lab/place.h"

#include <algorithm>
#include <fmt/format.h>
#include <fmt/ranges.h>

namespace jackal::lab {

using net::to_string;
using plan::Cause;

Remedy another_address(const Lab& lab, NicId nic, net::Address address, bool work_out) {
    return {work_out ? readdress(lab, {address, nic, lab.nics[nic].machine})
                     : std::vector<plan::Edit>{},
            fmt::format("give {} another address", lab.nic_name(nic))};
}

namespace {

// Where the plan speaks of the address, or else of its NIC.
plan::Mark mark_of(const Lab& lab, NicId nic, net::Address address) {
    for (AddressId id : lab.addresses_of(nic))
        if (lab.addresses[id].address == address && lab.addresses[id].at)
            return lab.addresses[id].at;
    return lab.nics[nic].at;
}

// The only subnet whose prefix an address is in, and where nobody else has it; or none.
SubnetId home_of(const Lab& lab, const InterfaceAddress& row) {
    SubnetId home;
    for (SubnetId id : lab.subnets.ids()) {
        const auto& prefix = lab.segments[lab.subnets[id].segment].prefix[row.address.family()];
        if (!prefix || !prefix->contains(row.address))
            continue;
        if (home || lab.subnets[id].outside)
            return {};
        home = id;
    }
    auto owners = lab.owners_of(row.address);
    return owners.size() == 1 ? home : SubnetId{};
}

// True if all addresses of a NIC are written, and belong on that subnet.
bool belongs_on(const Lab& lab, NicId nic, SubnetId subnet) {
    const Segment& segment = lab.segments[lab.subnets[subnet].segment];
    return std::ranges::all_of(lab.addresses_of(nic), [&](AddressId id) {
        const InterfaceAddress& row = lab.addresses[id];
        const auto& prefix = segment.prefix[row.address.family()];
        return row.origin == AddressOrigin::given && prefix && prefix->contains(row.address);
    });
}

// Puts a NIC whose addresses all belong on another subnet there. If its machine has one there
// already, that has to belong where this one is: then they are in the wrong order, and change
// places.
std::vector<plan::Edit> change_places(const Lab& lab, NicId nic, SubnetId home) {
    const Nic& row = lab.nics[nic];
    SubnetId here = lab.segments[row.segment].subnet;
    if (!here || !belongs_on(lab, nic, home) || !lab.plugs_of(nic).empty())
        return {};
    const std::string& machine = lab.machines[row.machine].name;
    std::vector<plan::Edit> edits{
        plan::set_nic_subnet(lab.plan, machine, row.plan_index, lab.subnets[home].name)};
    for (NicId other : lab.nics_of(row.machine)) {
        if (lab.nics[other].segment != lab.subnets[home].segment)
            continue;
        if (edits.size() > 1 || !belongs_on(lab, other, here) || !lab.plugs_of(other).empty())
            return {};
        edits.emplace_back(plan::set_nic_subnet(lab.plan, machine, lab.nics[other].plan_index,
                                                lab.subnets[here].name));
    }
    return edits;
}

} // namespace

// --- misplaced -----------------------------------------------------------------------------------

std::optional<MisplacedAddress> misplaced(const Lab& lab, AddressId address) {
    using Kind = MisplacedAddress::Kind;
    const InterfaceAddress& row = lab.addresses[address];
    if (row.origin == AddressOrigin::link || row.origin == AddressOrigin::loopback
        || row.origin == AddressOrigin::link_local) // that is told of its lease
        return std::nullopt;
    const auto& prefix = lab.segments[lab.nics[row.nic].segment].prefix[row.address.family()];
    if (!prefix)
        return MisplacedAddress{Kind::no_prefix, address};
    if (!prefix->contains(row.address))
        return MisplacedAddress{Kind::outside, address};
    if (row.length != prefix->length())
        return MisplacedAddress{Kind::other_length, address};
    if (prefix->is_broadcast_address(row.address))
        return MisplacedAddress{Kind::broadcast, address};
    if (prefix->is_network_address(row.address))
        return MisplacedAddress{Kind::network, address};
    return std::nullopt;
}

Finding describe(const Lab& lab, const MisplacedAddress& mistake, bool work_out) {
    using Kind = MisplacedAddress::Kind;
    const InterfaceAddress& row = lab.addresses[mistake.address];
    const Nic& nic = lab.nics[row.nic];
    const auto& prefix = lab.segments[nic.segment].prefix[row.address.family()];
    std::string name = lab.nic_name(row.nic);
    std::string subnet = lab.segment_name(nic.segment);
    std::string address = to_string(row.address);
    auto finding = [&](Cause cause, Severity severity, std::string message, Remedy remedy) {
        return Finding{cause,
                       severity,
                       name,
                       std::move(message),
                       std::move(remedy),
                       mark_of(lab, row.nic, row.address)};
    };
    auto another = [&] { return another_address(lab, row.nic, row.address, work_out); };
    switch (mistake.kind) {
    case Kind::no_prefix:
        return finding(Cause::address_outside_subnet, Severity::warning,
                       fmt::format("{} has {}, but {} has no {} prefix", name, address, subnet,
                                   to_string(row.address.family())),
                       {{}, fmt::format("give {} a prefix of that family too", subnet)});
    case Kind::outside:
        if (SubnetId home = work_out ? home_of(lab, row) : SubnetId{})
            if (auto edits = change_places(lab, row.nic, home); !edits.empty())
                return finding(Cause::address_outside_subnet, Severity::error,
                               fmt::format("{} has {}, which is not in {} ({}), but in {}", name,
                                           address, subnet, to_string(*prefix),
                                           lab.subnets[home].name),
                               {std::move(edits), ""});
        return finding(Cause::address_outside_subnet, Severity::error,
                       fmt::format("{} has {}, which is not in {} ({})", name, address, subnet,
                                   to_string(*prefix)),
                       another());
    case Kind::other_length:
        return finding(Cause::prefix_length_differs, Severity::error,
                       fmt::format("{} has {}/{}, but {} is {}", name, address, row.length, subnet,
                                   to_string(*prefix)),
                       {{plan::set_nic_address(lab.plan, lab.machines[nic.machine].name,
                                               nic.plan_index, row.address, row.address)},
                        ""});
    case Kind::broadcast:
        return finding(Cause::broadcast_address, Severity::error,
                       fmt::format("{} has {}, the broadcast address of {} ({})", name, address,
                                   subnet, to_string(*prefix)),
                       another());
    case Kind::network: break;
    }
    return finding(Cause::network_address, Severity::warning,
                   fmt::format("{} has {}, the address of {} ({}) itself; many systems do "
                               "not answer at it",
                               name, address, subnet, to_string(*prefix)),
                   another());
}

Finding describe(const Lab& lab, const BroadcastAddress& mistake) {
    std::string address = to_string(mistake.address);
    std::string segment = lab.segment_name(mistake.segment);
    Finding f{.cause = Cause::broadcast_address, .subject = address};
    if (mistake.nic) {
        f.subject = lab.nic_name(mistake.nic);
        f.message =
            fmt::format("{} has {}, the broadcast address of {}", f.subject, address, segment);
        f.remedy = another_address(lab, mistake.nic, mistake.address);
        f.at = mark_of(lab, mistake.nic, mistake.address);
    } else {
        f.message = fmt::format("{} is the broadcast address of {}", address, segment);
        f.remedy.advice = "ask for the address of one machine";
    }
    return f;
}

void misplaced_addresses(Inspection& in) {
    for (AddressId id : in.lab.addresses.ids())
        if (auto mistake = misplaced(in.lab, id)) {
            using Kind = MisplacedAddress::Kind;
            bool searches = mistake->kind != Kind::no_prefix && mistake->kind != Kind::other_length;
            in.found.push_back(describe(in.lab, *mistake, searches && in.worth_working_out()));
        }
}

// --- set aside -----------------------------------------------------------------------------------

void addresses_set_aside(Inspection& in) {
    for (const InterfaceAddress& row : in.lab.addresses) {
        SubnetId id = in.lab.segments[in.lab.nics[row.nic].segment].subnet;
        if (!id || (row.origin != AddressOrigin::given && row.origin != AddressOrigin::pinned))
            continue;
        const Subnet& subnet = in.lab.subnets[id];
        const net::Range* range = subnet.set_aside(row.address);
        if (range == nullptr)
            continue;
        std::string nic = in.lab.nic_name(row.nic);
        Remedy another = another_address(in.lab, row.nic, row.address, in.worth_working_out());
        if (subnet.dhcp && range == &*subnet.dhcp)
            in.find(Cause::dhcp_range_over_static, Severity::error, nic,
                    fmt::format("{} has {}, which {} gives out by DHCP ({})", nic,
                                to_string(row.address), subnet.name, to_string(*range)),
                    std::move(another), row.at);
        else
            in.find(Cause::address_reserved, Severity::warning, nic,
                    fmt::format("{} has {}, which {} reserves ({})", nic, to_string(row.address),
                                subnet.name, to_string(*range)),
                    std::move(another), row.at);
    }
}

// --- duplicate -----------------------------------------------------------------------------------

namespace {

std::string words(const Lab& lab, const DuplicateAddress& mistake, Seen seen) {
    std::string name = lab.nic_name(mistake.changed);
    std::string address = to_string(mistake.address);
    if (seen == Seen::by_packet) {
        std::vector<std::string> names;
        for (NicId owner : mistake.owners)
            names.push_back(lab.nic_name(owner));
        return fmt::format("{} both have {}, so which one answers is luck",
                           fmt::join(names, " and "), address);
    }
    if (mistake.owners.size() == 1)
        return fmt::format("{} has {}, which every router on {} has too (RFC 4291 section 2.6.1)",
                           name, address, lab.segment_name(lab.nics[mistake.changed].segment));
    auto other =
        std::ranges::find_if(mistake.owners, [&](NicId owner) { return owner != mistake.changed; });
    return fmt::format("{} has {}, which {} has too", name, address,
                       lab.nic_name(other == mistake.owners.end() ? mistake.changed : *other));
}

// The address of the owner, or null if it has it only as a router of the prefix.
const InterfaceAddress* written_row(const Lab& lab, const Owner& owner) {
    for (AddressId id : lab.addresses_of(owner.nic))
        if (lab.addresses[id].address == owner.address)
            return &lab.addresses[id];
    return nullptr;
}

} // namespace

Finding describe(const Lab& lab, const DuplicateAddress& mistake, Seen seen, bool work_out) {
    return {Cause::duplicate_address,
            Severity::error,
            lab.nic_name(mistake.changed),
            words(lab, mistake, seen),
            another_address(lab, mistake.changed, mistake.address, work_out),
            mark_of(lab, mistake.changed, mistake.address)};
}

void duplicate_addresses(Inspection& in) {
    for (std::size_t i = 1; i < in.lab.owners.size(); ++i) {
        const Owner& first = in.lab.owners[i - 1];
        const Owner& second = in.lab.owners[i];
        if (first.address != second.address
            || (in.lab.is_own_way_out(in.lab.nics[first.nic].segment)
                && in.lab.is_own_way_out(in.lab.nics[second.nic].segment))
            || in.wired[in.lab.nics[first.nic].segment.row]
                   != in.wired[in.lab.nics[second.nic].segment.row])
            continue;
        const InterfaceAddress* row = written_row(in.lab, second);
        const InterfaceAddress* other = written_row(in.lab, first);
        DuplicateAddress mistake{.address = second.address, .changed = {}, .owners = {}};
        if (row == nullptr && other == nullptr)
            continue;
        if (row == nullptr || other == nullptr) { // the Subnet-Router anycast address
            mistake.changed = (row != nullptr ? row : other)->nic;
            mistake.owners = {mistake.changed};
        } else {
            if (row->origin != AddressOrigin::given) // mend the one that the builder wrote
                std::swap(row, other);
            mistake.changed = row->nic;
            mistake.owners = {row->nic, other->nic};
        }
        in.found.push_back(describe(in.lab, mistake, Seen::in_tables, in.worth_working_out()));
    }
}

} // namespace jackal::lab
