// Tables as CSV (RFC 4180), for spreadsheets and scripts: a header line, then one record a line.
// Nothing in them needs quotes, as names are host-name labels.
#pragma once

#include "jackal/api.h"
#include "jackal/export/pin.h"
#include "jackal/lab/usage.h"
#include "jackal/reach/grid.h"
#include "jackal/reach/services.h"
#include "jackal/reach/sites.h"
#include "jackal/reach/sweep.h"

#include <string>

namespace jackal::exports {

/// `site,segment,prefix,mask,first,last,gateway,dhcp_first,dhcp_last,reserved,used,free,growth_left`,
/// a record for each prefix.
JACKAL_API std::string addresses_csv(const lab::Lab& lab);

/// `machine,kind,forwards,machine_state,cpus,memory_mib,disk_mib,nic,mac,segment,nic_state,mtu,
/// address,length,origin`, a record for each address; NICs and machines without one have a record
/// with empty fields.
JACKAL_API std::string machines_csv(const lab::Lab& lab);
JACKAL_API std::string start_order_csv(const lab::Lab& lab);

/// `site,first,block,count`.
JACKAL_API std::string rooms_csv(const lab::Lab& lab, const std::vector<lab::Room>& rooms);

/// `site,says,other_site,other_says,state,delay_ms,hourly_cost`.
JACKAL_API std::string peerings_csv(const lab::Lab& lab,
                                    const std::vector<lab::PeeringId>& peerings);

/// `from,to,pairs,replies`; cells without pairs are left out.
JACKAL_API std::string grid_csv(const reach::Grid& grid);
/// `cut,kind,lost,gained,moved,expectations,settles_after_ms`; two cuts at once stand in `cut` with
/// a blank between them.
JACKAL_API std::string sweep_csv(const lab::Lab& lab, const reach::Sweep& sweep);
/// `from,to,pairs,services`, a record for all pairs between which the same gets through.
JACKAL_API std::string services_csv(const reach::ServicesGrid& grid);
/// `from,to,pairs,replies,rtt_ms,cause`.
JACKAL_API std::string sites_csv(const lab::Lab& lab, const reach::SiteReach& reach);

/// `what,from,to`.
JACKAL_API std::string renumbering_csv(const Renumbering& renumbering);

} // namespace jackal::exports
