#include "reach/engine/packets.h"

#include "jackal/probe/exchange.h"

#include "probe/request.h"

namespace jackal::reach {

Packets::Packets(net::Family of, const Asking& asking)
    : family(of), service(asking.service), is_served(asking.is_served),
      is_one_way(asking.is_one_way),
      size_bytes(probe::packet_bytes(of, protocol(), probe::PingQuestion{}.payload_bytes)) {}

packet::Header Packets::header(bool is_answer) const {
    packet::Header header;
    header.protocol = protocol();
    header.size_bytes = size_bytes;
    header.is_reply = is_answer && is_ping();
    header.begins_flow = begins_flow(is_answer);
    if (service) {
        header.source_port = is_answer ? service->port : probe::asking_port;
        header.destination_port = is_answer ? probe::asking_port : service->port;
    }
    return header;
}

net::Flow Packets::flow(net::Address source, net::Address destination, bool is_answer) const {
    packet::Header ports = header(is_answer);
    return {source, destination, ports.protocol, ports.source_port, ports.destination_port};
}

} // namespace jackal::reach
