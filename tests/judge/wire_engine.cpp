#include "engine.h"

#include <algorithm>
#include <map>
#include <tins/tins.h>

namespace judge {

using namespace jackal;

namespace {

// The wire of the simulated lab, with each sender in turn as the computer at its end.
class Wires {
  public:
    explicit Wires(const routing::Settled& settled) : settled_(settled), lab_(settled.lab()) {}

    Answer answer(const Question& question) {
        const Answer not_asked{.kind = Answer::Kind::not_asked};
        const probe::Exchange exchange = probe::exchange(
            settled_,
            {.from = {.name = lab_.machines[question.from].name, .machine = question.from},
             .to = {.name = net::to_string(question.destination), .address = question.destination},
             .service = question.service,
             .source = question.source,
             .count = 1,
             .ttl = question.ttl,
             .payload_bytes = question.payload_bytes});
        if (!exchange.out || exchange.out->steps.size() == 1 || !is_plain(*exchange.out)
            || (exchange.back && loses(*exchange.back)))
            return not_asked;
        const lab::NicId nic = exchange.out->steps.front().out;
        probe::Sightings sightings({{.nic = nic}});
        sightings.add(settled_, exchange, std::chrono::seconds(0));

        exports::Wire& wire = this->wire(question.from);
        now_ += between;
        bool is_asked = false;
        for (const probe::Sighting& sighting : sightings.take()) {
            if (sighting.frame.lease || sighting.frame.name)
                continue;
            const bool is_request = sighting.leaves && sighting.frame.bears != neighbour_ask
                                    && sighting.frame.bears != neighbour_answer;
            if (is_request && is_asked && !sighting.frame.fragment)
                break; // what comes of the answer
            if (sighting.leaves)
                wire.receive(now_, nic, exports::bytes_of(lab_, sighting.frame));
            is_asked = is_asked || is_request;
        }
        if (!is_asked)
            return not_asked;
        Answer answer;
        for (const exports::Wire::Given& given : wire.due(now_ + between / 2))
            read(given.bytes, answer);
        return answer;
    }

  private:
    static constexpr probe::Microseconds between = std::chrono::seconds(20);
    static constexpr auto neighbour_ask = probe::Bears::neighbour_ask;
    static constexpr auto neighbour_answer = probe::Bears::neighbour_answer;

    // The computer itself filters and translates nothing, has no tunnels and no bonds, and passes
    // nothing on.
    bool is_plain(const packet::Journey& out) const {
        const lab::MachineId sender = out.steps.front().machine;
        const lab::Duties* duties = lab_.duties_of(sender);
        if (duties != nullptr && (duties->filter || !duties->translations.empty()))
            return false;
        for (lab::NicId nic : lab_.nics_of(sender))
            if (lab_.nics[nic].guard || lab_.nics[nic].shares_mac || lab_.tunnel(nic)
                || !lab_.plugs_of(nic).empty())
                return false;
        return !loses(out) && std::ranges::count(out.steps, sender, &packet::Step::machine) == 1;
    }

    bool loses(const packet::Journey& journey) const {
        return std::ranges::any_of(journey.steps, [&](const packet::Step& step) {
            const lab::LinkId link =
                step.out ? lab_.segments[lab_.nics[step.out].segment].link : lab::LinkId{};
            return link && lab_.links[link].loss != 0;
        });
    }

    exports::Wire& wire(lab::MachineId machine) {
        std::unique_ptr<exports::Wire>& wire = wires_[machine];
        if (!wire) {
            const auto nics = lab_.nics_of(machine);
            wire = std::make_unique<exports::Wire>(
                lab_, std::vector<lab::NicId>(nics.begin(), nics.end()));
        }
        return *wire;
    }

    // Of a packet in pieces the first tells what it is.
    static void read(const exports::Bytes& bytes, Answer& answer) {
        const Tins::EthernetII frame(bytes.data(), static_cast<std::uint32_t>(bytes.size()));
        constexpr std::size_t icmp_at = 14 + 20;
        constexpr std::size_t icmpv6_at = 14 + 40 + 8;
        if (const auto* ip = frame.find_pdu<Tins::IP>();
            ip != nullptr && ip->is_fragmented() && bytes.size() > icmp_at + 1) {
            if (ip->fragment_offset() == 0 && ip->protocol() == 1)
                read_icmp(bytes[icmp_at], bytes[icmp_at + 1], ip->ttl(), ip->src_addr().to_string(),
                          answer);
            return;
        }
        if (const auto* ipv6 = frame.find_pdu<Tins::IPv6>();
            ipv6 != nullptr && ipv6->search_header(Tins::IPv6::FRAGMENT) != nullptr
            && bytes.size() > icmpv6_at + 1) {
            const bool is_first = bytes[icmpv6_at - 6] == 0 && bytes[icmpv6_at - 5] <= 1;
            if (is_first && bytes[icmpv6_at - 8] == 58)
                read_icmpv6(bytes[icmpv6_at], bytes[icmpv6_at + 1], ipv6->hop_limit(),
                            ipv6->src_addr().to_string(), answer);
            return;
        }
        if (const auto* ip = frame.find_pdu<Tins::IP>()) {
            if (const auto* icmp = frame.find_pdu<Tins::ICMP>())
                read_icmp(icmp->type(), icmp->code(), ip->ttl(), ip->src_addr().to_string(),
                          answer);
        } else if (const auto* ipv6 = frame.find_pdu<Tins::IPv6>()) {
            if (const auto* icmp = frame.find_pdu<Tins::ICMPv6>())
                read_icmpv6(icmp->type(), icmp->code(), ipv6->hop_limit(),
                            ipv6->src_addr().to_string(), answer);
        }
        if (const auto* tcp = frame.find_pdu<Tins::TCP>())
            answer.kind =
                tcp->get_flag(Tins::TCP::RST) != 0 ? Answer::Kind::refused : Answer::Kind::open;
        else if (frame.find_pdu<Tins::UDP>() != nullptr)
            answer.kind = Answer::Kind::open;
    }

    static void set_reply(int ttl, Answer& answer) {
        answer.kind = Answer::Kind::reply;
        answer.ttl = ttl;
    }
    static void set_error(packet::IcmpError error, const std::string& from, Answer& answer) {
        const bool refuses = error == packet::IcmpError::port_unreachable;
        answer.kind = refuses ? Answer::Kind::refused : Answer::Kind::error;
        if (refuses)
            return;
        answer.error = error;
        answer.error_from = net::parse_address(from);
    }

    // RFC 792.
    static void read_icmp(int type, int code, int ttl, const std::string& from, Answer& answer) {
        using packet::IcmpError;
        if (type == Tins::ICMP::ECHO_REPLY)
            set_reply(ttl, answer);
        else if (type == Tins::ICMP::TIME_EXCEEDED)
            set_error(IcmpError::time_exceeded, from, answer);
        else if (type == Tins::ICMP::DEST_UNREACHABLE)
            set_error(code == 0   ? IcmpError::net_unreachable
                      : code == 1 ? IcmpError::host_unreachable
                      : code == 3 ? IcmpError::port_unreachable
                                  : IcmpError::packet_too_big,
                      from, answer);
    }

    // RFC 4443.
    static void read_icmpv6(int type, int code, int ttl, const std::string& from, Answer& answer) {
        using packet::IcmpError;
        if (type == Tins::ICMPv6::ECHO_REPLY)
            set_reply(ttl, answer);
        else if (type == Tins::ICMPv6::TIME_EXCEEDED)
            set_error(IcmpError::time_exceeded, from, answer);
        else if (type == Tins::ICMPv6::PACKET_TOOBIG)
            set_error(IcmpError::packet_too_big, from, answer);
        else if (type == Tins::ICMPv6::DEST_UNREACHABLE)
            set_error(code == 0   ? IcmpError::net_unreachable
                      : code == 4 ? IcmpError::port_unreachable
                                  : IcmpError::host_unreachable,
                      from, answer);
    }

    const routing::Settled& settled_;
    const lab::Lab& lab_;
    std::map<lab::MachineId, std::unique_ptr<exports::Wire>> wires_;
    probe::Microseconds now_{0};
};

} // namespace

Answers ask_wire(const routing::Settled& settled, const std::vector<Question>& questions) {
    Wires wires(settled);
    Answers answers;
    for (const Question& question : questions)
        answers.push_back(wires.answer(question));
    return answers;
}

} // namespace judge
