// Who hears what a machine sends to all on a segment, and what keeps it from being heard.
#pragma once

#include "jackal/routing/condition.h"
#include "jackal/routing/learned.h"

namespace jackal::routing {

/// A filter that drops a packet between two NICs of one segment, or none.
lab::FilterId dropped_by(const lab::Lab& lab, lab::NicId from, lab::NicId to,
                         const net::Flow& flow);

/// A filter that drops what the machine itself sends by the NIC, or takes by it, or none.
lab::FilterId dropped_at(const lab::Lab& lab, lab::NicId nic, plan::Way way, const net::Flow& flow);

/// A filter that drops what the machine forwards from one NIC to another, or none.
lab::FilterId dropped_between(const lab::Lab& lab, lab::NicId in, lab::NicId out,
                              const net::Flow& flow);

/// True if the machine has the address on a NIC that works.
bool is_own(const lab::Lab& lab, const Condition& condition, lab::MachineId machine,
            net::Address address);

/// True if the NIC works, and with its link has a carrier.
bool is_live(const lab::Lab& lab, const Condition& condition, lab::NicId nic, net::Family family);

} // namespace jackal::routing
