// How a packet gets through a tunnel: inside another one (VXLAN, RFC 7348).
#pragma once

#include "jackal/api.h"
#include "jackal/routing/settled.h"

#include <memory>

namespace jackal::packet {

struct Journey;

/// How a packet got from one end of a tunnel to the other, or why not: the journey of the packet
/// around it. Of a tunnel that does not work it may be the one the other way, as the two ends must
/// find each other (ARP, RFC 826; ND, RFC 4861) before anything is sent.
struct Crossing {
    std::uint32_t step = 0; ///< which put it in
    lab::LinkId tunnel;
    bool works = false;
    bool is_way_back = false;
    std::shared_ptr<const Journey> outer; ///< null if the ends have no addresses of one family
};

/// Whether a packet of `size_bytes` that enters the tunnel at `from` comes out at the other end:
/// its outer packet (UDP to port 4789, RFC 7348) arrives, and so would one that comes back. The
/// packet itself travels in `tunnels` others; in more than four no packet gets anywhere.
JACKAL_API Crossing cross(const routing::Settled& settled, lab::NicId from, unsigned size_bytes,
                          int tunnels = 0);

} // namespace jackal::packet
