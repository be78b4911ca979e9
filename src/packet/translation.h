// What the translations of a machine make of a packet (RFC 3022).
#pragma once

#include "jackal/packet/decide.h"

namespace jackal::packet {

/// Puts another destination in, and looks it up.
void set_destination(const routing::Settled& settled, Header& header, net::Address address,
                     std::uint16_t port);

/// Puts another source in, and looks it up.
void set_source(const routing::Settled& settled, Header& header, net::Address address,
                std::uint16_t port);

/// Gives what belongs to a flow that came as `passage` the source that its answers have: the
/// address that was asked for. An error gets it if the machine had changed it, and tells of the
/// packet as it came.
void answer_as(const routing::Settled& settled, Header& header, const Memory::Passage& passage);

/// Sends a packet that comes in for the machine's own address on, as its rules say.
void redirect(const routing::Settled& settled, lab::MachineId machine, Header& header);

/// Gives a packet that leaves by `hop` that NIC's address for its source, where the rules say so.
void masquerade(const routing::Settled& settled, lab::MachineId machine, const routing::Hop& hop,
                Header& header);

} // namespace jackal::packet
