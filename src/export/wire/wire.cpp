#include "jackal/export/wire.h"

#include "export/wire/answers.h"
#include "export/wire/checksum.h"
#include "export/wire/packets.h"
#include "export/wire/pieces.h"
#include "export/wire/stream.h"
#include "probe/chance.h"
#include "probe/lease.h"
#include "probe/request.h"

#include <algorithm>
#include <map>
#include <queue>
#include <set>
#include <tins/tins.h>
#include <type_traits>

namespace jackal::exports {

using lab::Lab;
using lab::MachineId;
using lab::NicId;
using packet::Journey;
using probe::Microseconds;

namespace {

net::Address address_of(Tins::IPv4Address address) {
    return *net::parse_address(address.to_string());
}
net::Address address_of(const Tins::IPv6Address& address) {
    std::uint64_t halves[2] = {0, 0};
    std::size_t i = 0;
    for (std::uint8_t byte : address) {
        halves[i / 8] = halves[i / 8] << 8 | byte;
        ++i;
    }
    return {halves[0], halves[1]};
}
net::Mac mac_of(const Tins::HWAddress<6>& address) {
    std::uint64_t bits = 0;
    for (std::uint8_t byte : address)
        bits = bits << 8 | byte;
    return {bits};
}

// A packet of the computer, whole.
struct Incoming {
    packet::Packet packet;
    const Tins::PDU* content = nullptr; // behind the IP header
    Bytes bytes;                        // from its IP header on
};

} // namespace

class Wire::Simulation {
  public:
    Simulation(const Lab& lab, const std::vector<NicId>& nics, std::uint64_t seed)
        : lab_(lab), nics_(nics.begin(), nics.end()), nic_(nics.front()),
          self_(lab.nics[nic_].machine), course_(lab), chance_(seed),
          settled_(course_.at(Microseconds(0))) {}

    void happen(Microseconds now, bool mends, const routing::Cut& what) {
        course_.forget_before(now);
        course_.happen({now, mends, what});
        settle(now);
    }
    const probe::Course& course() const { return course_; }
    const Count& count() const { return count_; }

    void receive(Microseconds now, NicId by, std::span<const std::uint8_t> frame) {
        ++count_.received;
        nic_ = by;
        catch_up(now);
        now_ = now;
        try {
            const Tins::EthernetII ethernet(frame.data(), static_cast<std::uint32_t>(frame.size()));
            // What is tagged with a VLAN, or wrapped in something else, is not for these NICs.
            const Tins::PDU* content = ethernet.inner_pdu();
            const auto packet = frame.subspan(ethernet.header_size());
            if (const auto* arp = dynamic_cast<const Tins::ARP*>(content))
                return answer_arp(*arp);
            if (!is_sound(packet))
                return;
            if (Pieces::is_piece(packet))
                return take_piece(ethernet, packet);
            if (const auto* ip = dynamic_cast<const Tins::IP*>(content))
                return take(ethernet, *ip, ip->tot_len());
            if (const auto* ip = dynamic_cast<const Tins::IPv6*>(content))
                return take(ethernet, *ip, ipv6_header + ip->payload_length());
        } catch (const std::exception&) {
            // What is no packet is not understood by a machine either.
        }
    }

    void serve(MachineId machine, std::uint16_t port) { served_.emplace(machine, port); }

    std::vector<Heard> heard() {
        std::vector<Heard> all;
        for (auto& [flow, c] : connections_) {
            if (!c.is_served)
                continue;
            Heard heard{.connection = c.number,
                        .machine = c.request.last_machine(),
                        .port = c.request.flow.destination_port,
                        .is_new = std::exchange(c.is_new, false),
                        .bytes = c.is_held ? Bytes() : c.stream.received(),
                        .has_finished =
                            c.stream.peer_has_finished() && !c.has_told_end && !c.is_held,
                        .is_over = c.stream.is_over()};
            c.has_told_end = c.has_told_end || heard.has_finished;
            if (heard.is_new || !heard.bytes.empty() || heard.has_finished || heard.is_over)
                all.push_back(std::move(heard));
        }
        std::erase_if(connections_, [](const auto& entry) {
            return entry.second.is_served && entry.second.stream.is_over();
        });
        return all;
    }

    std::size_t room(std::uint64_t number) {
        Connection* connection = connection_of(number);
        return connection == nullptr ? 0 : connection->stream.room();
    }
    void say(std::uint64_t number, std::span<const std::uint8_t> bytes) {
        if (Connection* connection = connection_of(number))
            connection->stream.send(bytes);
    }
    void accept(std::uint64_t number) {
        if (Connection* connection = connection_of(number))
            connection->stream.accept();
    }
    void hold(std::uint64_t number, bool holds) {
        if (Connection* connection = connection_of(number))
            connection->is_held = holds;
    }
    void finish(std::uint64_t number, bool breaks_off) {
        Connection* connection = connection_of(number);
        if (connection != nullptr)
            breaks_off ? connection->stream.reset() : connection->stream.finish();
    }

    std::vector<Given> due(Microseconds now) {
        for (auto& [flow, connection] : connections_)
            flush(connection, now);
        std::erase_if(connections_, [](const auto& entry) {
            return !entry.second.is_served && entry.second.stream.is_over();
        });
        std::vector<Given> frames;
        while (!on_way_.empty() && on_way_.top().at <= now) {
            frames.push_back({on_way_.top().nic, on_way_.top().bytes});
            on_way_.pop();
            ++count_.given;
        }
        return frames;
    }

    std::optional<Microseconds> next() const {
        std::optional<Microseconds> next;
        if (!on_way_.empty())
            next = on_way_.top().at;
        for (const auto& [flow, connection] : connections_)
            if (const auto wakes = connection.stream.wakes(); wakes && (!next || *wakes < *next))
                next = wakes;
        return next;
    }

  private:
    // Machines that have come to know something since go by it.
    void catch_up(Microseconds now) {
        const auto& turns = course_.turns();
        const bool has_turned = std::ranges::any_of(turns, [&](const probe::Turn& turn) {
            return turn.at > settled_at_ && turn.at <= now;
        });
        if (has_turned)
            settle(now);
        settled_at_ = std::max(settled_at_, now);
    }

    void settle(Microseconds now) {
        settled_ = course_.at(now);
        settled_at_ = now;
        takers_.clear();
    }

    // --- frames to the computer ------------------------------------------------------------------

    struct OnWay {
        Microseconds at{0};
        std::uint64_t number = 0; // frames of one moment keep their order
        NicId nic;
        Bytes bytes;

        bool operator<(const OnWay& other) const {
            return std::pair(other.at, other.number) < std::pair(at, number);
        }
    };

    void give(Microseconds at, NicId nic, Bytes bytes) {
        constexpr std::size_t most_on_way = 16'384;
        if (on_way_.size() >= most_on_way) {
            ++count_.dropped;
            return;
        }
        on_way_.push({at, number_++, nic, std::move(bytes)});
    }

    bool is_up() const { return settled_.is_usable(nic_); }

    // --- neighbours ------------------------------------------------------------------------------

    std::vector<NicId> answering(net::Address asked) const {
        std::vector<NicId> nics;
        if (is_up())
            settled_.answering(nic_, lab_.owners_of(asked), nics);
        return nics;
    }

    void answer_arp(const Tins::ARP& arp) {
        const net::Address asked = address_of(arp.target_ip_addr());
        const net::Address asker = address_of(arp.sender_ip_addr());
        if (arp.opcode() != Tins::ARP::REQUEST || asked == asker)
            return;
        for (NicId nic : answering(asked)) {
            Tins::ARP answer(arp.sender_ip_addr(), arp.target_ip_addr(), arp.sender_hw_addr(),
                             to_hardware(lab_.nics[nic].mac));
            answer.opcode(Tins::ARP::REPLY);
            Tins::EthernetII frame =
                Tins::EthernetII(arp.sender_hw_addr(), to_hardware(lab_.nics[nic].mac)) / answer;
            give(now_ + probe::time_per_machine, nic_, frame.serialize());
        }
    }

    void answer_solicitation(const Tins::EthernetII& ethernet, const Tins::IPv6& ip,
                             const Tins::ICMPv6& asks) {
        const net::Address asked = address_of(asks.target_addr());
        const bool is_probe = address_of(ip.src_addr()) == net::Address(); // RFC 4862 section 5.4
        for (NicId nic : answering(asked)) {
            Tins::ICMPv6 answer(Tins::ICMPv6::NEIGHBOUR_ADVERT);
            answer.target_addr(asks.target_addr());
            answer.target_link_layer_addr(to_hardware(lab_.nics[nic].mac));
            answer.solicited(is_probe ? 0 : 1);
            answer.override(1);
            answer.router(lab_.machines[lab_.nics[nic].machine].forwards.ipv6 ? 1 : 0);
            Tins::IPv6 packet(is_probe ? Tins::IPv6Address("ff02::1") : ip.src_addr(),
                              asks.target_addr());
            packet.hop_limit(255);
            Tins::EthernetII frame(ethernet.src_addr(), to_hardware(lab_.nics[nic].mac));
            give(now_ + probe::time_per_machine, nic_, (frame / packet / answer).serialize());
        }
    }

    // --- packets of the computer -----------------------------------------------------------------

    // Pieces of a packet count as large as the largest of them, and arrive with the last.
    void take_piece(const Tins::EthernetII& ethernet, std::span<const std::uint8_t> piece) {
        const auto whole = pieces_.add(piece);
        if (!whole || !is_sound_content(whole->packet))
            return;
        const auto size = static_cast<std::uint32_t>(whole->packet.size());
        if (whole->packet[0] >> 4 == 4)
            take(ethernet, Tins::IP(whole->packet.data(), size), whole->largest_bytes);
        else
            take(ethernet, Tins::IPv6(whole->packet.data(), size), whole->largest_bytes);
    }

    void take(const Tins::EthernetII& ethernet, const Tins::IP& ip, unsigned size_bytes) {
        Incoming in;
        in.bytes = const_cast<Tins::IP&>(ip).serialize();
        in.content = ip.inner_pdu();
        in.packet = {.source = address_of(ip.src_addr()),
                     .destination = address_of(ip.dst_addr()),
                     .ttl = ip.ttl(),
                     .size_bytes = size_bytes,
                     .is_reply = (ip.flags() & Tins::IP::DONT_FRAGMENT) == 0};
        if (const auto* udp = dynamic_cast<const Tins::UDP*>(in.content);
            udp && udp->dport() == probe::dhcp_server_port)
            return answer_lease(*udp);
        pass(ethernet, in);
    }

    static constexpr unsigned ipv6_header = 40;

    void take(const Tins::EthernetII& ethernet, const Tins::IPv6& ip, unsigned size_bytes) {
        if (const auto* icmp = dynamic_cast<const Tins::ICMPv6*>(ip.inner_pdu());
            icmp && icmp->type() == Tins::ICMPv6::NEIGHBOUR_SOLICIT)
            return answer_solicitation(ethernet, ip, *icmp);
        Incoming in;
        in.bytes = const_cast<Tins::IPv6&>(ip).serialize();
        in.content = ip.inner_pdu();
        in.packet = {.source = address_of(ip.src_addr()),
                     .destination = address_of(ip.dst_addr()),
                     .ttl = ip.hop_limit(),
                     .size_bytes = size_bytes};
        pass(ethernet, in);
    }

    // The NIC that the frame is for: on the segment, with that MAC.
    NicId taker(net::Mac mac) const {
        if (mac.is_multicast() || !is_up())
            return {};
        const std::uint32_t domain = settled_.wiring().domain(lab_, nic_);
        for (const lab::SegmentId segment : lab_.segments.ids())
            for (NicId nic : lab_.segments[segment].nics)
                if (!nics_.contains(nic) && lab_.nics[nic].mac == mac && settled_.is_usable(nic)
                    && settled_.wiring().domain(lab_, nic) == domain)
                    return nic;
        return {};
    }

    void pass(const Tins::EthernetII& ethernet, Incoming& in) {
        const net::Mac mac = mac_of(ethernet.dst_addr());
        auto known = takers_.find({nic_, mac.bits});
        if (known == takers_.end()) {
            constexpr std::size_t most_known = 4096;
            if (takers_.size() > most_known)
                takers_.clear();
            known = takers_.emplace(std::pair(nic_, mac.bits), taker(mac)).first;
        }
        const NicId by = known->second;
        if (!by || !add_ports(in))
            return;
        const Journey journey = packet::walk_in(settled_, by, in.packet);
        Microseconds at = now_;
        if (!chance_.pass(lab_, journey, at))
            return;
        at += probe::travel_time(lab_, journey) + probe::time_per_machine;
        if (journey.ending == packet::Ending::delivered)
            arrive(in, journey, at);
        else
            tell_error(in, journey, packet::icmp_error(journey.ending), at);
    }

    // What the packet bears; false if machines would not know what it is.
    static bool add_ports(Incoming& in) {
        if (in.content == nullptr)
            return false;
        packet::Packet& packet = in.packet;
        if (const auto* tcp = dynamic_cast<const Tins::TCP*>(in.content)) {
            packet.protocol = net::Protocol::tcp;
            packet.source_port = tcp->sport();
            packet.destination_port = tcp->dport();
        } else if (const auto* udp = dynamic_cast<const Tins::UDP*>(in.content)) {
            packet.protocol = net::Protocol::udp;
            packet.source_port = udp->sport();
            packet.destination_port = udp->dport();
        } else {
            const auto* icmp = dynamic_cast<const Tins::ICMP*>(in.content);
            const auto* icmpv6 = dynamic_cast<const Tins::ICMPv6*>(in.content);
            return (icmp != nullptr && icmp->type() == Tins::ICMP::ECHO_REQUEST)
                   || (icmpv6 != nullptr && icmpv6->type() == Tins::ICMPv6::ECHO_REQUEST);
        }
        return true;
    }

    // --- answers ---------------------------------------------------------------------------------

    void arrive(const Incoming& in, const Journey& request, Microseconds at) {
        if (const auto* tcp = dynamic_cast<const Tins::TCP*>(in.content))
            return answer_segment(in, *tcp, request, at);
        if (const auto* udp = dynamic_cast<const Tins::UDP*>(in.content))
            return answer_datagram(in, *udp, request, at);
        if (const auto* icmp = dynamic_cast<const Tins::ICMP*>(in.content)) {
            Tins::ICMP reply = *icmp;
            reply.type(Tins::ICMP::ECHO_REPLY);
            return answer(request, reply, at);
        }
        Tins::ICMPv6 reply = dynamic_cast<const Tins::ICMPv6&>(*in.content);
        reply.type(Tins::ICMPv6::ECHO_REPLY);
        answer(request, reply, at);
    }

    // Sends what the far end says, by its way back; the ports are those that it arrives with.
    template <class Content>
    void answer(const Journey& request, Content content, Microseconds at) {
        const unsigned ip_header = request.flow.source.family() == net::Family::ipv4 ? 20 : 40;
        const packet::Packet reply = probe::answer_to(request, ip_header + content.size());
        const Journey back = packet::walk(settled_, request.last_machine(), reply, &request);
        if constexpr (requires { content.sport(); }) {
            content.sport(back.flow.source_port);
            content.dport(back.flow.destination_port);
        }
        deliver(back, content, at);
    }

    // To the computer, if the journey got there by the wire.
    void deliver(const Journey& back, const Tins::PDU& content, Microseconds at) {
        if (back.ending != packet::Ending::delivered || back.last_machine() != self_
            || back.steps.size() < 2 || !nics_.contains(back.steps.back().in))
            return;
        if (!chance_.pass(lab_, back, at))
            return;
        at += probe::travel_time(lab_, back) - probe::time_per_machine;
        const NicId last = back.steps[back.steps.size() - 2].out;
        home_ = back.steps.back().in;
        unsigned mtu = lab_.nics[home_].mtu_bytes;
        for (const packet::Step& step : back.steps)
            if (step.out)
                mtu = std::min<unsigned>(mtu, lab_.nics[step.out].mtu_bytes);
        const Tins::EthernetII ethernet(to_hardware(lab_.nics[home_].mac),
                                        to_hardware(lab_.nics[last].mac));
        if (back.flow.source.family() == net::Family::ipv4)
            give_ipv4(ethernet, back, content, mtu, at);
        else
            give_ipv6(ethernet, back, content, mtu, at);
    }

    void give_ipv4(const Tins::EthernetII& ethernet, const Journey& back, const Tins::PDU& content,
                   unsigned mtu, Microseconds at) {
        Tins::IP ip(to_ipv4(back.flow.destination), to_ipv4(back.flow.source));
        ip.ttl(static_cast<std::uint8_t>(back.ttl_left));
        ip.id(static_cast<std::uint16_t>(++packet_id_));
        ip.inner_pdu(content);
        give_pieces(ethernet, ip, mtu - 20, at, [&](const Bytes& whole, const auto& piece) {
            return piece_of(ip, whole, piece);
        });
    }

    // The packet, in pieces if there is no `room` for all that stands behind its header.
    template <class Ip, class Piece>
    void give_pieces(const Tins::EthernetII& ethernet, const Ip& ip, unsigned room, Microseconds at,
                     Piece make) {
        Ip packet = ip;
        const Bytes whole = packet.serialize();
        const auto bytes = static_cast<unsigned>(whole.size()) - ip.header_size();
        if (bytes <= room)
            return give(at, home_, Tins::EthernetII(ethernet / packet).serialize());
        const unsigned fragment_header = std::is_same_v<Ip, Tins::IPv6> ? 8 : 0;
        const probe::Fragment all{.bytes = bytes, .whole_bytes = bytes, .is_last = true};
        for (const probe::Fragment& piece : probe::pieces_of(all, room - fragment_header))
            give(at, home_, Tins::EthernetII(ethernet / make(whole, piece)).serialize());
    }

    void give_ipv6(const Tins::EthernetII& ethernet, const Journey& back, const Tins::PDU& content,
                   unsigned mtu, Microseconds at) {
        Tins::IPv6 ip(to_ipv6(back.flow.destination), to_ipv6(back.flow.source));
        ip.hop_limit(static_cast<std::uint8_t>(back.ttl_left));
        ip.inner_pdu(content);
        ++packet_id_;
        give_pieces(ethernet, ip, mtu - 40, at, [&](const Bytes& whole, const auto& piece) {
            return piece_of(ip, whole, piece, packet_id_);
        });
    }

    // --- errors ----------------------------------------------------------------------------------

    void tell_error(const Incoming& in, const Journey& failed, packet::IcmpError error,
                    Microseconds at) {
        if (error == packet::IcmpError::none)
            return;
        const auto source = packet::error_source(settled_, failed);
        if (!source)
            return;
        constexpr std::chrono::seconds asked_in_vain{3};
        if (error == packet::IcmpError::host_unreachable)
            at += asked_in_vain;
        const Journey way = packet::walk_error(settled_, failed, *source);
        const bool is_ipv4 = in.packet.source.family() == net::Family::ipv4;
        Bytes told = in.bytes;
        told[is_ipv4 ? 8 : 7] = static_cast<std::uint8_t>(packet::quoted_ttl(failed));
        if (is_ipv4)
            sum_header(told);
        const std::size_t most = is_ipv4 ? 548 : 1232; // RFC 1812 4.3.2.3, RFC 4443 2.4 (c)
        told.resize(std::min(told.size(), most));
        const unsigned mtu =
            failed.steps.back().out ? lab_.nics[failed.steps.back().out].mtu_bytes : 0;
        const Tins::RawPDU rest(told.begin(), told.end());
        if (is_ipv4)
            deliver(way, icmp_error(error, mtu) / rest, at);
        else
            deliver(way, icmpv6_error(error, mtu) / rest, at);
    }

    // The checksum of an IPv4 header (RFC 1071).
    static void sum_header(Bytes& packet) {
        packet[10] = packet[11] = 0;
        std::uint32_t sum = 0;
        const std::size_t length = std::size_t{packet[0]} % 16 * 4;
        for (std::size_t i = 0; i + 1 < length; i += 2)
            sum += static_cast<std::uint32_t>(packet[i] << 8 | packet[i + 1]);
        while (sum >> 16 != 0)
            sum = (sum & 0xffff) + (sum >> 16);
        packet[10] = static_cast<std::uint8_t>(~sum >> 8);
        packet[11] = static_cast<std::uint8_t>(~sum);
    }

    // --- services --------------------------------------------------------------------------------

    bool listens(const Journey& request) const {
        return lab_.listens(request.last_machine(),
                            {request.flow.protocol, request.flow.destination_port});
    }

    void answer_datagram(const Incoming& in, const Tins::UDP& udp, const Journey& request,
                         Microseconds at) {
        if (!listens(request))
            return tell_error(in, request, packet::IcmpError::port_unreachable, at);
        Tins::UDP reply;
        constexpr std::uint16_t name_port = 53;
        const auto* raw = udp.find_pdu<Tins::RawPDU>();
        Bytes content = raw == nullptr ? Bytes{} : raw->payload();
        if (request.flow.destination_port == name_port)
            content = name_answer(lab_, content);
        reply /= Tins::RawPDU(content.begin(), content.end());
        answer(request, reply, at);
    }

    // Connections that machines have accepted, or the caller may.
    struct Connection {
        std::uint64_t number = 0;
        Journey request; // of the last segment
        Stream stream;
        bool is_served = false; // by the caller, else greeted with a line and closed
        bool is_new = true;
        bool has_told_end = false;
        bool is_held = false; // what has come waits in the stream
    };

    Connection* connection_of(std::uint64_t number) {
        for (auto& [flow, connection] : connections_)
            if (connection.number == number)
                return &connection;
        return nullptr;
    }

    void answer_segment(const Incoming& in, const Tins::TCP& tcp, const Journey& request,
                        Microseconds at) {
        const bool opens = tcp.get_flag(Tins::TCP::SYN) != 0 && tcp.get_flag(Tins::TCP::ACK) == 0;
        auto known = connections_.find(in.packet.flow());
        if (known == connections_.end()) {
            const bool is_served =
                served_.contains({request.last_machine(), request.flow.destination_port});
            if (!opens || (!is_served && !listens(request)))
                return refuse(tcp, request, at);
            if (!make_room())
                return;
            Connection fresh{.number = ++connection_number_,
                             .request = request,
                             .stream = Stream(tcp.seq()),
                             .is_served = is_served};
            if (!is_served)
                greet(fresh);
            known = connections_.emplace(in.packet.flow(), std::move(fresh)).first;
        }
        Connection& connection = known->second;
        connection.request = request;
        const auto* raw = tcp.find_pdu<Tins::RawPDU>();
        connection.stream.take({.seq = tcp.seq(),
                                .ack = tcp.ack_seq(),
                                .syn = opens,
                                .fin = tcp.get_flag(Tins::TCP::FIN) != 0,
                                .rst = tcp.get_flag(Tins::TCP::RST) != 0,
                                .window = tcp.window(),
                                .data = raw == nullptr ? Bytes{} : raw->payload()},
                               at);
        flush(connection, at);
    }

    // The oldest connection is broken off for a new one; false if there are still too many.
    bool make_room() {
        constexpr std::size_t most = 256;
        if (connections_.size() >= most)
            std::ranges::min_element(connections_, {}, [](const auto& entry) {
                return entry.second.number;
            })->second.stream.reset();
        return connections_.size() < 2 * most;
    }

    void greet(Connection& connection) const {
        const std::string line = lab_.machines[connection.request.last_machine()].name + "\r\n";
        connection.stream.accept();
        connection.stream.send(Bytes(line.begin(), line.end()));
        connection.stream.finish();
    }

    void flush(Connection& connection, Microseconds at) {
        for (const Stream::Segment& segment : connection.stream.due(at)) {
            auto flags = Tins::TCP::ACK | (segment.syn ? Tins::TCP::SYN : 0)
                         | (segment.fin ? Tins::TCP::FIN : 0) | (segment.rst ? Tins::TCP::RST : 0)
                         | (segment.data.empty() ? 0 : Tins::TCP::PSH);
            say(connection.request, static_cast<std::uint16_t>(flags), segment, at);
        }
    }

    // RFC 9293 section 3.5.2.
    void refuse(const Tins::TCP& tcp, const Journey& request, Microseconds at) {
        if (tcp.get_flag(Tins::TCP::RST) != 0)
            return;
        const bool acknowledges = tcp.get_flag(Tins::TCP::ACK) != 0;
        const std::uint32_t data = tcp.inner_pdu() == nullptr ? 0 : tcp.inner_pdu()->size();
        const std::uint32_t taken =
            tcp.seq() + data + tcp.get_flag(Tins::TCP::SYN) + tcp.get_flag(Tins::TCP::FIN);
        say(request, acknowledges ? Tins::TCP::RST : Tins::TCP::RST | Tins::TCP::ACK,
            {.seq = acknowledges ? tcp.ack_seq() : 0, .ack = taken}, at);
    }

    void say(const Journey& request, std::uint16_t flags, const Stream::Segment& segment,
             Microseconds at) {
        Tins::TCP tcp;
        tcp.flags(flags);
        tcp.seq(segment.seq);
        tcp.ack_seq(segment.ack);
        tcp.window(segment.window);
        if (segment.syn)
            tcp.mss(Stream::segment_bytes);
        if (!segment.data.empty())
            tcp /= Tins::RawPDU(segment.data.begin(), segment.data.end());
        answer(request, tcp, at);
    }

    // --- leases ----------------------------------------------------------------------------------

    void answer_lease(const Tins::UDP& udp) {
        const auto* raw = udp.find_pdu<Tins::RawPDU>();
        const auto way =
            raw == nullptr || !is_up() ? std::nullopt : probe::lease_way(settled_, nic_);
        if (!way)
            return;
        const Tins::DHCP asks = raw->to<Tins::DHCP>();
        const bool discovers = asks.type() == Tins::DHCP::DISCOVER;
        if (!discovers && asks.type() != Tins::DHCP::REQUEST)
            return;
        Tins::DHCP answer;
        answer.opcode(Tins::BootP::BOOTREPLY);
        answer.htype(1);
        answer.hlen(6);
        answer.xid(asks.xid());
        answer.chaddr(asks.chaddr());
        answer.yiaddr(to_ipv4(way->lease->address));
        answer.type(discovers ? Tins::DHCP::OFFER : Tins::DHCP::ACK);
        answer.server_identifier(to_ipv4(way->server));
        Microseconds at = now_ + probe::time_per_machine;
        if (way->out) {
            answer.giaddr(to_ipv4(way->here));
            if (!chance_.pass(lab_, *way->out, at) || !chance_.pass(lab_, *way->back, at))
                return;
            at += probe::travel_time(lab_, *way->out) + probe::travel_time(lab_, *way->back);
        }
        add_lease(answer, lab_, *way->lease);
        answer.end();
        const Tins::EthernetII frame(to_hardware(lab_.nics[nic_].mac),
                                     to_hardware(lab_.nics[way->lease->server].mac));
        const Tins::IP packet(Tins::IPv4Address("255.255.255.255"), to_ipv4(way->here));
        give(at, nic_,
             Tins::EthernetII(frame / packet
                              / Tins::UDP(probe::dhcp_client_port, probe::dhcp_server_port)
                              / answer)
                 .serialize());
    }

    const Lab& lab_;
    const std::set<NicId> nics_; // that the computer plays
    NicId nic_;                  // by which what is looked at came
    NicId home_;                 // to which what is answered goes
    const MachineId self_;
    probe::Course course_;
    probe::Chance chance_;
    routing::Settled settled_;
    Microseconds settled_at_{0};
    Microseconds now_{0};
    std::map<std::pair<NicId, std::uint64_t>, NicId> takers_; // of a MAC, until something changes
    std::priority_queue<OnWay> on_way_;
    std::set<std::pair<MachineId, std::uint16_t>> served_;
    std::map<net::Flow, Connection> connections_; // by the flow that the computer sees
    std::uint64_t connection_number_ = 0;
    Pieces pieces_;
    std::uint64_t number_ = 0;
    std::uint32_t packet_id_ = 0;
    Count count_;
};

Wire::Wire(const Lab& lab, const std::vector<NicId>& nics, std::uint64_t seed)
    : simulation_(std::make_unique<Simulation>(lab, nics, seed)) {}
Wire::~Wire() = default;

void Wire::happen(Microseconds now, bool mends, const routing::Cut& what) {
    simulation_->happen(now, mends, what);
}
const probe::Course& Wire::course() const {
    return simulation_->course();
}
void Wire::receive(Microseconds now, NicId by, std::span<const std::uint8_t> frame) {
    simulation_->receive(now, by, frame);
}
void Wire::serve(MachineId machine, std::uint16_t port) {
    simulation_->serve(machine, port);
}
std::vector<Wire::Heard> Wire::heard() {
    return simulation_->heard();
}
void Wire::accept(std::uint64_t connection) {
    simulation_->accept(connection);
}
void Wire::hold(std::uint64_t connection, bool holds) {
    simulation_->hold(connection, holds);
}
std::size_t Wire::room(std::uint64_t connection) const {
    return simulation_->room(connection);
}
void Wire::say(std::uint64_t connection, std::span<const std::uint8_t> bytes) {
    simulation_->say(connection, bytes);
}
void Wire::finish(std::uint64_t connection, bool breaks_off) {
    simulation_->finish(connection, breaks_off);
}
std::vector<Wire::Given> Wire::due(Microseconds now) {
    return simulation_->due(now);
}
std::optional<Microseconds> Wire::next() const {
    return simulation_->next();
}
Wire::Count Wire::count() const {
    return simulation_->count();
}

} // namespace jackal::exports
