#include "jackal/lab/usage.h"

#include <algorithm>
#include <set>

namespace jackal::lab {

std::vector<PrefixUsage> usage(const Lab& lab) {
    std::vector<PrefixUsage> rows;
    for (SegmentId id : lab.segments.ids()) {
        const Segment& segment = lab.segments[id];
        for (net::Family family : net::both_families) {
            if (!segment.prefix[family])
                continue;
            PrefixUsage row{.segment = id, .site = {}, .prefix = *segment.prefix[family]};
            if (segment.subnet) {
                row.site = lab.subnets[segment.subnet].site;
                row.gateway = lab.subnets[segment.subnet].gateway[family];
            }
            std::set<net::Address> taken;
            for (NicId nic : segment.nics)
                for (AddressId address : lab.addresses_of(nic))
                    if (row.prefix.contains(lab.addresses[address].address))
                        taken.insert(lab.addresses[address].address);
            row.used = taken.size();
            row.free = row.prefix.usable() - std::min(row.used, row.prefix.usable());
            rows.push_back(row);
        }
    }
    return rows;
}

} // namespace jackal::lab
