#include "jackal/export/capture.h"

#include "export/wire/answers.h"
#include "export/wire/packets.h"

#include <algorithm>
#include <tins/tins.h>

namespace jackal::exports {

using probe::Bears;
using probe::Frame;
using probe::LeasePart;
using probe::TcpPart;

namespace {

bool is_ipv4(const Frame& frame) {
    return frame.flow.source.family() == net::Family::ipv4;
}

unsigned header_bytes(const Frame& frame) {
    return is_ipv4(frame) ? 20 : 40;
}

// What an IP packet bears that was not cut into pieces.
unsigned whole_bytes(const Frame& frame) {
    return frame.fragment ? frame.fragment->whole_bytes : frame.size_bytes - header_bytes(frame);
}

// The same for each question: bytes that count up.
Tins::RawPDU filling(unsigned bytes) {
    Bytes content(bytes);
    for (std::size_t i = 0; i < content.size(); ++i)
        content[i] = static_cast<std::uint8_t>(i);
    return Tins::RawPDU(content.begin(), content.end());
}

class Composer {
  public:
    explicit Composer(const lab::Lab& lab) : lab_(lab) {}

    Bytes frame(const Frame& frame) {
        Tins::EthernetII whole(to_hardware(frame.to), to_hardware(frame.from));
        const bool is_arp =
            is_ipv4(frame)
            && (frame.bears == Bears::neighbour_ask || frame.bears == Bears::neighbour_answer);
        if (frame.vlan != 0) {
            Tins::Dot1Q tag(frame.vlan);
            tag.append_padding(false);
            whole /= tag;
        }
        if (is_arp)
            whole /= arp(frame);
        else
            add_packet(whole, frame);
        return whole.serialize();
    }

  private:
    static Tins::ARP arp(const Frame& frame) {
        const bool asks = frame.bears == Bears::neighbour_ask;
        Tins::ARP arp(to_ipv4(frame.flow.destination), to_ipv4(frame.flow.source),
                      asks ? Tins::HWAddress<6>() : to_hardware(frame.to), to_hardware(frame.from));
        arp.opcode(asks ? Tins::ARP::REQUEST : Tins::ARP::REPLY);
        return arp;
    }

    // The IP packet, or the piece of one.
    void add_packet(Tins::PDU& onto, const Frame& frame) {
        if (is_ipv4(frame))
            append(onto, ipv4_packet(frame));
        else
            append(onto, ipv6_packet(frame));
    }

    template <class Packet>
    static void append(Tins::PDU& onto, const Packet& packet) {
        Tins::PDU* last = &onto;
        while (last->inner_pdu() != nullptr)
            last = last->inner_pdu();
        last->inner_pdu(packet);
    }

    Tins::IP ipv4_packet(const Frame& frame) {
        Tins::IP ip(to_ipv4(frame.flow.destination), to_ipv4(frame.flow.source));
        ip.ttl(static_cast<std::uint8_t>(frame.ttl));
        ip.id(frame.number);
        if (!frame.may_be_fragmented && !frame.lease)
            ip.flags(Tins::IP::DONT_FRAGMENT);
        add_content(ip, frame);
        if (!frame.fragment)
            return ip;
        return piece_of(ip, ip.serialize(), *frame.fragment);
    }

    Tins::IPv6 ipv6_packet(const Frame& frame) {
        const bool asks = frame.bears == Bears::neighbour_ask;
        const net::Address to =
            asks ? net::Address(0xff02000000000000,
                                0x1ff000000 | (frame.flow.destination.low() & 0xffffff))
                 : frame.flow.destination; // RFC 4291 section 2.7.1
        Tins::IPv6 ip(to_ipv6(to), to_ipv6(frame.flow.source));
        ip.hop_limit(static_cast<std::uint8_t>(frame.ttl));
        add_content(ip, frame);
        if (!frame.fragment)
            return ip;
        return piece_of(ip, ip.serialize(), *frame.fragment, frame.number);
    }

    template <class Ip>
    void add_content(Ip& ip, const Frame& frame) {
        switch (frame.bears) {
        case Bears::tcp: ip /= tcp(frame); return;
        case Bears::udp: add_datagram(ip, frame); return;
        default: break;
        }
        if (is_ipv4(frame))
            add_icmp(ip, frame);
        else
            add_icmpv6(ip, frame);
    }

    static constexpr std::uint16_t ping_id = 1;

    void add_icmp(Tins::PDU& ip, const Frame& frame) {
        if (frame.bears == Bears::error) {
            append(ip, icmp_error(frame.error, frame.mtu_bytes));
            append(ip, told(frame));
            return;
        }
        Tins::ICMP icmp;
        icmp.type(frame.bears == Bears::echo_request ? Tins::ICMP::ECHO_REQUEST
                                                     : Tins::ICMP::ECHO_REPLY);
        icmp.id(ping_id);
        icmp.sequence(frame.number);
        append(ip, icmp);
        append(ip, filling(whole_bytes(frame) - 8));
    }

    void add_icmpv6(Tins::PDU& ip, const Frame& frame) {
        Tins::ICMPv6 icmp;
        switch (frame.bears) {
        case Bears::neighbour_ask:
            icmp.type(Tins::ICMPv6::NEIGHBOUR_SOLICIT);
            icmp.target_addr(to_ipv6(frame.flow.destination));
            icmp.source_link_layer_addr(to_hardware(frame.from));
            break;
        case Bears::neighbour_answer:
            icmp.type(Tins::ICMPv6::NEIGHBOUR_ADVERT);
            icmp.target_addr(to_ipv6(frame.flow.source));
            icmp.target_link_layer_addr(to_hardware(frame.from));
            icmp.solicited(1);
            icmp.override(1);
            icmp.router(frame.is_router ? 1 : 0);
            break;
        case Bears::error:
            append(ip, icmpv6_error(frame.error, frame.mtu_bytes));
            append(ip, told(frame));
            return;
        default:
            icmp.type(frame.bears == Bears::echo_request ? Tins::ICMPv6::ECHO_REQUEST
                                                         : Tins::ICMPv6::ECHO_REPLY);
            icmp.identifier(ping_id);
            icmp.sequence(frame.number);
            append(ip, icmp);
            append(ip, filling(whole_bytes(frame) - 8));
            return;
        }
        append(ip, icmp);
    }

    // The beginning of the packet that an error tells of.
    Tins::RawPDU told(const Frame& error) {
        Bytes packet = is_ipv4(*error.told) ? ipv4_packet(*error.told).serialize()
                                            : ipv6_packet(*error.told).serialize();
        packet.resize(std::min<std::size_t>(packet.size(), whole_bytes(error) - 8));
        return Tins::RawPDU(packet.begin(), packet.end());
    }

    static Tins::TCP tcp(const Frame& frame) {
        constexpr std::uint32_t client = 1000; // the first numbers of the two ends
        constexpr std::uint32_t server = 5000;
        constexpr std::uint16_t segment_bytes = 1460;
        Tins::TCP tcp(frame.flow.destination_port, frame.flow.source_port);
        auto say = [&](int flags, std::uint32_t seq, std::uint32_t ack) {
            tcp.flags(static_cast<std::uint16_t>(flags));
            tcp.seq(seq);
            tcp.ack_seq(ack);
        };
        switch (frame.tcp) {
        case TcpPart::syn: say(Tins::TCP::SYN, client, 0); break;
        case TcpPart::syn_ack: say(Tins::TCP::SYN | Tins::TCP::ACK, server, client + 1); break;
        case TcpPart::ack: say(Tins::TCP::ACK, client + 1, server + 1); break;
        case TcpPart::client_fin:
            say(Tins::TCP::FIN | Tins::TCP::ACK, client + 1, server + 1);
            break;
        case TcpPart::server_fin:
            say(Tins::TCP::FIN | Tins::TCP::ACK, server + 1, client + 2);
            break;
        case TcpPart::last_ack: say(Tins::TCP::ACK, client + 2, server + 2); break;
        case TcpPart::reset: say(Tins::TCP::RST | Tins::TCP::ACK, 0, client + 1); break;
        }
        if (frame.tcp == TcpPart::syn || frame.tcp == TcpPart::syn_ack) {
            tcp.mss(segment_bytes);
            tcp.sack_permitted();
            tcp.timestamp(1, 0);
            tcp.add_option(Tins::TCP::option(Tins::TCP::NOP));
            tcp.winscale(7);
        }
        return tcp;
    }

    void add_datagram(Tins::PDU& ip, const Frame& frame) {
        append(ip, Tins::UDP(frame.flow.destination_port, frame.flow.source_port));
        if (frame.inside)
            append(ip, vxlan(frame));
        else if (frame.lease)
            append(ip, lease(frame));
        else if (frame.name)
            append(ip, name(frame));
        else
            append(ip, filling(whole_bytes(frame) - 8));
    }

    // RFC 7348 section 5.
    Tins::RawPDU vxlan(const Frame& outer) {
        Bytes content{8,
                      0,
                      0,
                      0,
                      static_cast<std::uint8_t>(outer.vni >> 16),
                      static_cast<std::uint8_t>(outer.vni >> 8),
                      static_cast<std::uint8_t>(outer.vni),
                      0};
        const Bytes inner = frame(*outer.inside);
        // Without what fills a frame up that is too short for a wire.
        const std::size_t size = std::min(inner.size(), std::size_t{whole_bytes(outer)} - 16);
        content.insert(content.end(), inner.begin(),
                       inner.begin() + static_cast<std::ptrdiff_t>(size));
        return Tins::RawPDU(content.begin(), content.end());
    }

    static Tins::DNS name(const Frame& frame) {
        const probe::NameTalk& talk = *frame.name;
        Tins::DNS dns;
        const bool is_ipv6 = talk.address && talk.address->family() == net::Family::ipv6;
        const auto type = is_ipv6 ? Tins::DNS::AAAA : Tins::DNS::A;
        constexpr std::uint32_t kept_s = 3600;
        dns.id(1);
        dns.recursion_desired(1);
        dns.type(talk.is_answer ? Tins::DNS::RESPONSE : Tins::DNS::QUERY);
        dns.add_query(Tins::DNS::query(talk.name, type, Tins::DNS::INTERNET));
        if (!talk.is_answer)
            return dns;
        dns.recursion_available(1);
        constexpr std::uint8_t no_such_name = 3; // RFC 1035 section 4.1.1
        if (talk.address)
            dns.add_answer(Tins::DNS::resource(talk.name, net::to_string(*talk.address), type,
                                               Tins::DNS::INTERNET, kept_s));
        else
            dns.rcode(no_such_name);
        return dns;
    }

    Tins::RawPDU lease(const Frame& frame) const {
        const probe::LeaseTalk& talk = *frame.lease;
        const lab::Lease& lease = *lab_.lease_of(talk.client);
        const lab::Nic& nic = lab_.nics[talk.client];
        const bool is_answer = talk.part == LeasePart::offer || talk.part == LeasePart::ack;
        Tins::DHCP dhcp;
        dhcp.opcode(is_answer ? Tins::BootP::BOOTREPLY : Tins::BootP::BOOTREQUEST);
        dhcp.htype(1);
        dhcp.hlen(6);
        dhcp.xid(static_cast<std::uint32_t>(nic.mac.bits));
        dhcp.chaddr(to_hardware(nic.mac));
        if (talk.relay) { // RFC 1542 section 4.1.1
            dhcp.hops(is_answer ? 0 : 1);
            dhcp.giaddr(to_ipv4(*talk.relay));
        }
        constexpr std::array types{Tins::DHCP::DISCOVER, Tins::DHCP::OFFER, Tins::DHCP::REQUEST,
                                   Tins::DHCP::ACK};
        dhcp.type(types[static_cast<std::size_t>(talk.part)]);
        if (talk.part != LeasePart::discover)
            dhcp.server_identifier(to_ipv4(talk.server));
        if (is_answer) {
            dhcp.yiaddr(to_ipv4(lease.address));
            add_lease(dhcp, lab_, lease);
        } else {
            dhcp.hostname(lab_.machine_name(talk.client));
            if (talk.part == LeasePart::request)
                dhcp.requested_ip(to_ipv4(lease.address));
        }
        dhcp.end();
        Bytes bytes = dhcp.serialize();
        constexpr std::size_t shortest = 300; // RFC 1542 section 2.1
        bytes.resize(std::max(bytes.size(), shortest));
        return Tins::RawPDU(bytes.begin(), bytes.end());
    }

    const lab::Lab& lab_;
};

} // namespace

std::vector<std::uint8_t> bytes_of(const lab::Lab& lab, const probe::Frame& frame) {
    return Composer(lab).frame(frame);
}

} // namespace jackal::exports
