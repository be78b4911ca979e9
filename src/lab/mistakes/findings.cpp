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
            if (edit.move == Move::set_subnet_prefix || edit.move == Move::give_subnet_prefix)
                return settle_prefix(remedy, edit);
        for (plan::Edit& edit : remedy.edits)
            if (edit.changes.empty())
                continue;
            else if (edit.move == Move::set_nic_address || edit.move == Move::set_nic_length)
                settle_address(edit);
            else if (edit.move == Move::add_router)
                settle_router(edit);
    }

  private:
    using Move = plan::Move;

    // The address, unless it was proposed before: then another that is free.
    void settle_address(plan::Edit& edit) {
        std::string& value = edit.changes.front().value;
        net::Address to = net::parse_address(value).value();
        const bool again = std::ranges::find(addresses_, to) != addresses_.end();
        if (auto machine = lab_.machine(machine_in(edit)); again && machine) {
            const NicId nic{lab_.machines[*machine].first_nic.row
                            + static_cast<std::uint32_t>(nic_in(edit).value())};
            if (auto other = free_address(lab_, lab_.nics[nic].segment, to.family(), addresses_)) {
                to = *other;
                value = net::to_string(to);
            }
        }
        addresses_.push_back(to);
    }

    // The name of a new router, unless another one was proposed under it.
    void settle_router(plan::Edit& edit) {
        const std::string& nics = edit.changes.front().value;
        std::string& name = edit.changes.front().place.steps.back().word;
        auto known = routers_.find(name);
        if (known != routers_.end() && known->second != nics) {
            const std::string stem = name.substr(0, name.rfind("-r") + 2);
            for (int number = 1; routers_.contains(name) || lab_.machine(name); ++number)
                name = fmt::format("{}{}", stem, number);
        }
        routers_.emplace(name, nics);
    }

    void settle_prefix(Remedy& remedy, const plan::Edit& edit) {
        if (edit.changes.empty())
            return;
        const plan::PlaceChange& change = edit.changes.front();
        auto subnet = lab_.subnet(change.place.steps[1].word);
        net::Prefix to = net::parse_prefix(change.value).value();
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
    std::map<std::string, std::string> routers_; // what each has, by name
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
        finding.remedy = within(std::move(finding.remedy));
    sort_findings(in.found);
    part_proposals(lab, in.found);
    return std::move(in.found);
}

} // namespace jackal::lab
