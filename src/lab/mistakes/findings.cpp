#include "jackal/lab/finding.h"
#include "jackal/lab/peering.h"
#include "jackal/lab/place.h"
#include "lab/mistakes/inspection.h"
#include "lab/mistakes/leasing.h"
#include "lab/mistakes/switching.h"

#include <algorithm>
#include <fmt/format.h>
#include <map>

namespace jackal::lab {

using plan::Cause;

Inspection::Inspection(const Lab& of)
    : lab(of), wired(islands(of, JoinedBy::any_machine)), forwarding_(of.segments.size()) {
    for (NicId id : lab.nics.ids())
        if (lab.machines[lab.nics[id].machine].forwards_any())
            forwarding_[lab.nics[id].segment.row].push_back(id);
}

void Inspection::find(Cause cause, Severity severity, std::string subject, std::string message,
                      Remedy remedy, plan::Mark at) {
    found.push_back(
        {cause, severity, std::move(subject), std::move(message), std::move(remedy), at});
}

namespace {

class Proposals {
  public:
    explicit Proposals(const Lab& lab) : lab_(lab) {}

    void settle(Remedy& remedy) {
        // All that is inside moves with a subnet.
        for (const plan::Edit& edit : remedy.edits)
            if (const auto* moves = edit.as<plan::SetSubnetPrefix>())
                return settle(remedy, plan::SetSubnetPrefix(*moves));
        for (plan::Edit& edit : remedy.edits)
            if (const auto* gives = edit.as<plan::SetNicAddress>(); gives != nullptr && gives->to)
                edit = settled(*gives);
            else if (const auto* adds = edit.as<plan::AddRouter>())
                edit = settled(*adds);
    }

  private:
    plan::SetNicAddress settled(plan::SetNicAddress change) {
        bool again = std::ranges::find(addresses_, *change.to) != addresses_.end();
        if (auto machine = lab_.machine(change.machine); again && machine) {
            NicId nic{lab_.machines[*machine].first_nic.row
                      + static_cast<std::uint32_t>(change.nic)};
            if (auto other =
                    free_address(lab_, lab_.nics[nic].segment, change.to->family(), addresses_))
                change.to = other;
        }
        addresses_.push_back(*change.to);
        return change;
    }

    plan::AddRouter settled(plan::AddRouter change) {
        auto known = routers_.find(change.name);
        if (known == routers_.end() || known->second == change.subnets) {
            routers_.emplace(change.name, change.subnets);
            return change;
        }
        std::string stem = change.name.substr(0, change.name.rfind("-r") + 2);
        for (int number = 1; routers_.contains(change.name) || lab_.machine(change.name); ++number)
            change.name = fmt::format("{}{}", stem, number);
        routers_.emplace(change.name, change.subnets);
        return change;
    }

    void settle(Remedy& remedy, const plan::SetSubnetPrefix& change) {
        auto subnet = lab_.subnet(change.subnet);
        net::Prefix to = change.to;
        bool again = std::ranges::any_of(
            prefixes_, [&](const net::Prefix& p) { return p.contains(to) || to.contains(p); });
        if (again && subnet)
            if (auto other = free_prefix(lab_, lab_.subnets[*subnet].site, to.family(), to.length(),
                                         prefixes_)) {
                to = *other;
                remedy.edits = renumber(lab_, *subnet, to);
            }
        prefixes_.push_back(to);
    }

    const Lab& lab_;
    std::vector<net::Address> addresses_;
    std::vector<net::Prefix> prefixes_;
    std::map<std::string, std::vector<std::string>> routers_; // subnets, by name
};

} // namespace

void part_proposals(const Lab& lab, std::vector<Finding>& findings) {
    Proposals proposals(lab);
    for (Finding& finding : findings)
        proposals.settle(finding.remedy);
}

std::vector<Finding> findings(const Lab& lab) {
    Inspection in(lab);
    for (auto look : {unplaced,
                      overlapping_subnets,
                      subnets_outside_their_space,
                      special_use_ranges,
                      overlaps_with_outside,
                      overlapping_spaces,
                      exceeded_limits,
                      duplicate_addresses,
                      duplicate_macs,
                      addresses_set_aside,
                      misplaced_addresses,
                      nics_without_use,
                      subnet_gateways,
                      next_hops,
                      machines_that_do_not_forward,
                      repeated_routes,
                      default_route_loops,
                      subnets_that_nothing_joins,
                      filter_rules,
                      translations})
        look(in);
    add_switch_findings(lab, in.found);
    add_lease_findings(lab, in.found);
    add_peering_findings(lab, in.found);
    for (Finding& finding : in.found)
        finding.remedy = within(lab, std::move(finding.remedy));
    sort_findings(in.found);
    part_proposals(lab, in.found);
    return std::move(in.found);
}

} // namespace jackal::lab
