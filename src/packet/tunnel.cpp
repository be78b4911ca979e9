#include "jackal/packet/tunnel.h"

#include "jackal/limits.h"
#include "jackal/packet/walk.h"

namespace jackal::packet {

using lab::NicId;

namespace {

// Tunnels inside tunnels, at most. Whoever sends a tunnel's outer packets into that tunnel itself
// gets no further.
constexpr int most_nested = limits::nested_tunnels;

// Outer packets may be fragmented anywhere (RFC 7348 section 4.3 only advises against it), and say
// nothing of the packets before them: each is judged on its own.
Journey walk_outer(const routing::Settled& settled, lab::MachineId sender, net::Address from,
                   net::Address to, unsigned size_bytes, int tunnels) {
    constexpr std::uint16_t first_dynamic_port = 49152; // RFC 6335 section 6
    Packet packet{.source = from,
                  .destination = to,
                  .size_bytes = size_bytes + lab::tunnel_overhead_bytes(to.family()),
                  .is_reply = true,
                  .protocol = net::Protocol::udp,
                  .source_port = first_dynamic_port,
                  .destination_port = lab::tunnel_port,
                  .tunnels = tunnels};
    return walk(settled, sender, packet);
}

} // namespace

Crossing cross(const routing::Settled& settled, NicId from, unsigned size_bytes, int tunnels) {
    constexpr unsigned question_bytes = 28; // an ARP request (RFC 826)
    const lab::Lab& lab = settled.lab();
    Crossing crossing{.tunnel = lab.tunnel(from)};
    const lab::Link& link = lab.links[crossing.tunnel];
    int around = tunnels + 1;
    if (!link.outer || around > most_nested)
        return crossing;
    bool is_first = link.first == from;
    NicId ends[2] = {from, is_first ? link.second : link.first};
    net::Address addresses[2] = {(*link.outer)[is_first ? 0 : 1], (*link.outer)[is_first ? 1 : 0]};
    for (bool back : {false, true}) {
        int here = back ? 1 : 0;
        Journey outer = walk_outer(settled, lab.nics[ends[here]].machine, addresses[here],
                                   addresses[1 - here], back ? question_bytes : size_bytes, around);
        crossing.works = outer.ending == Ending::delivered
                         && outer.last_machine() == lab.nics[ends[1 - here]].machine;
        crossing.is_way_back = back && !crossing.works;
        if (!back || !crossing.works)
            crossing.outer = std::make_shared<const Journey>(std::move(outer));
        if (!crossing.works)
            break;
    }
    return crossing;
}

} // namespace jackal::packet
