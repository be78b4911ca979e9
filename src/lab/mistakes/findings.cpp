#include "jackal/lab/finding.h"
#include "jackal/lab/peering.h"
#include "jackal/lab/place.h"
#include "lab/mistakes/inspection.h"
#include "lab/mistakes/leasing.h"
#include "lab/mistakes/switching.h"

namespace jackal::lab {

using plan::Cause;

Inspection::Inspection(const Lab& of)
    : lab(of), wired(islands(of, JoinedBy::any_machine)), forwarding_(of.segments.size()) {
    for (NicId id : lab.nics.ids())
        if (lab.machines[lab.nics[id].machine].forwards)
            forwarding_[lab.nics[id].segment.row].push_back(id);
}

void Inspection::find(Cause cause, Severity severity, std::string subject, std::string message,
                      Remedy remedy, plan::Mark at) {
    found.push_back(
        {cause, severity, std::move(subject), std::move(message), std::move(remedy), at});
}

std::vector<Finding> findings(const Lab& lab) {
    Inspection in(lab);
    for (auto look :
         {unplaced, overlapping_subnets, subnets_outside_their_space, special_use_ranges,
          overlaps_with_outside, overlapping_spaces, exceeded_limits, duplicate_addresses,
          duplicate_macs, addresses_set_aside, misplaced_addresses, nics_without_use,
          subnet_gateways, next_hops, machines_that_do_not_forward, repeated_routes,
          default_route_loops, subnets_that_nothing_joins, filter_rules})
        look(in);
    add_switch_findings(lab, in.found);
    add_lease_findings(lab, in.found);
    add_peering_findings(lab, in.found);
    for (Finding& finding : in.found)
        finding.remedy = within(lab, std::move(finding.remedy));
    sort_findings(in.found);
    return std::move(in.found);
}

} // namespace jackal::lab
