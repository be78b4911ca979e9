#include "lab/address/assign.h"

#include "lab/address/assignment.h"

namespace jackal::lab {

void assign_addresses(const plan::Complete& plan, Lab& lab) {
    Assignment a{plan, plan.entries(), lab};
    collect_written(a);
    set_regions_aside(a);
    assign_all(a);
    assign_leases(a);
}

} // namespace jackal::lab
