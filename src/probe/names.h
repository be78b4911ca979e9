// Names of hosts outside, which a machine asks a name server for (RFC 1035).
#pragma once

#include "jackal/probe/exchange.h"

namespace jackal::probe {

/// Names of the lab are known everywhere. True if the question is for the name of a host outside.
bool needs_name(const lab::Lab& lab, const PingQuestion& question);

/// Those that the machine knows, in the order that it asks them.
std::vector<net::Address> name_servers(const lab::Lab& lab, lab::MachineId machine);

/// What comes of asking the server of that address.
Exchange ask_server(const routing::Settled& settled, const Endpoint& from, net::Address server);

} // namespace jackal::probe
