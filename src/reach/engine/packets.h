// The packets that a matrix asks with: one there, one back.
#pragma once

#include "jackal/packet/decide.h"
#include "jackal/reach/matrix.h"

namespace jackal::reach {

struct Packets {
    net::Family family = net::Family::ipv4;
    std::optional<net::Service> service;
    bool is_served = false;
    bool is_one_way = false; ///< what comes back does not matter
    unsigned size_bytes = 0;

    Packets(net::Family of, const Asking& asking);

    bool is_ping() const { return !service; }
    net::Protocol protocol() const { return service ? service->protocol : net::Protocol::icmp; }

    /// In front of its sender, but for the addresses.
    packet::Header header(bool is_answer) const;
    /// Of the request, and of the answer if its ends are given in that order.
    net::Flow flow(net::Address source, net::Address destination, bool is_answer) const;
    /// True if rules of translation are asked of such a packet.
    bool begins_flow(bool is_answer) const {
        return !is_answer || protocol() == net::Protocol::udp;
    }
};

} // namespace jackal::reach
