#include "jackal/probe/sightings.h"

#include "jackal/net/special_use.h"
#include "probe/chance.h"
#include "probe/lease.h"
#include "probe/names.h"
#include "probe/request.h"

#include <algorithm>
#include <utility>

namespace jackal::probe {

using lab::Lab;
using lab::MachineId;
using lab::NicId;
using lab::PortId;
using packet::Journey;

namespace {

constexpr net::Mac to_all{0xffffffffffff};

// Where who looks for a neighbour in IPv6 asks (RFC 4291 section 2.7.1, RFC 2464 section 7).
net::Mac group_of(net::Address asked) {
    return {0x3333ff000000 | (asked.low() & 0xffffff)};
}

// Of the journey itself, without what tunnels add.
std::size_t own_links(const Lab& lab, const Journey& journey) {
    std::size_t count = 0;
    for (const packet::Step& step : journey.steps)
        count += step.out && step.action != packet::Action::drop
                         && lab.segments[lab.nics[step.out].segment].link
                     ? 1
                     : 0;
    return count;
}

std::size_t all_links(const Lab& lab, const Journey& journey) {
    std::size_t count = 0;
    each_link(lab, journey, [&](const lab::Link&) { ++count; });
    return count;
}

bool can_fragment(const Frame& frame, bool is_sender) {
    return frame.may_be_fragmented
           && (is_sender || frame.flow.source.family() == net::Family::ipv4);
}

} // namespace

std::vector<Spot> spots(const Lab& lab, std::string_view text) {
    std::vector<Spot> found;
    if (auto machine = lab.machine(text)) {
        for (NicId nic : lab.nics_of(*machine))
            if (!lab.nics[nic].is_loopback())
                found.push_back({nic, {}});
        return found;
    }
    if (auto end = endpoint(lab, text); end && end->nic && !end->address)
        return {{end->nic, {}}};
    for (PortId port : lab.ports.ids())
        if (lab.port_name(port) == text)
            return {{{}, port}};
    return found;
}

std::string name_of(const Lab& lab, const Spot& spot) {
    return spot.port ? lab.port_name(spot.port) : lab.nic_name(spot.nic);
}

// Follows the packets of one exchange.
class Sightings::Follower {
  public:
    Follower(Sightings& sightings, const routing::Settled& settled)
        : settled_(settled), lab_(settled.lab()), sightings_(sightings) {}

    // What has become of a packet.
    struct Fate {
        bool arrived = false;
        Microseconds at{0}; // when it arrived, and was looked at, or was lost
    };

    void run(const Exchange& exchange, Microseconds start, Microseconds interval, int first) {
        const PingQuestion& question = exchange.question;
        for (const auto* journey : {&exchange.out, &exchange.back})
            if (*journey)
                for (const packet::Step& step : (*journey)->steps)
                    for (NicId nic : {step.in, step.out})
                        if (nic)
                            on_the_way_.insert(nic);
        lease(question.from.machine, start - std::chrono::milliseconds(900));
        if (needs_name(lab_, question))
            ask_names(exchange, start - std::chrono::milliseconds(100));
        if (!exchange.out)
            return;
        Chance chance(question.seed);
        auto draw = [&](const Journey& journey) {
            return exchange.reaches ? chance.draw(lab_, journey) : std::vector<Crossed>{};
        };
        if (question.service)
            return ask_service(exchange, start);
        for (int i = 0; i < exchange.sent && !sightings_.is_full(); ++i) {
            const Microseconds at = start + interval * i;
            Frame frame = packet_of(*exchange.out, first + i);
            frame.bears = Bears::echo_request;
            const std::vector<Crossed> there = draw(*exchange.out);
            const std::vector<Crossed> home =
                exchange.back ? draw(*exchange.back) : std::vector<Crossed>{};
            const Fate fate = follow(*exchange.out, frame, at, there);
            if (!fate.arrived || !exchange.back) {
                tell_error(*exchange.out, frame, fate.at);
                continue;
            }
            frame = packet_of(*exchange.back, first + i);
            frame.bears = Bears::echo_reply;
            const Fate answered = follow(*exchange.back, frame, fate.at, home);
            if (!answered.arrived)
                tell_error(*exchange.back, frame, answered.at);
        }
    }

  private:
    static Frame packet_of(const Journey& journey, int number) {
        return {.flow = journey.packet.flow(),
                .ttl = journey.packet.ttl,
                .size_bytes = journey.packet.size_bytes,
                .may_be_fragmented = journey.packet.is_reply,
                .number = static_cast<std::uint16_t>(number)};
    }

    // --- the way of one packet -----------------------------------------------------------------

    // `fates` are those of the links in the order of each_link(), or empty: all is well.
    Fate follow(const Journey& journey, const Frame& sent, Microseconds at,
                std::span<const Crossed> fates) {
        std::vector<Frame> pieces{sent};
        int ttl = sent.ttl;
        std::size_t link = 0;
        std::size_t outer_link = own_links(lab_, journey);
        for (std::size_t i = 0; i < journey.steps.size(); ++i) {
            const packet::Step& step = journey.steps[i];
            count(journey, i, pieces, at);
            if (step.action == packet::Action::deliver)
                return {true, at};
            if (step.action == packet::Action::drop || i + 1 == journey.steps.size())
                return {false, lost_at(journey, at)};
            const NicId next = journey.steps[i + 1].in;
            const NicId out = step.out;
            ttl -= step.action == packet::Action::forward ? 1 : 0;
            for (Frame& piece : pieces) {
                piece.flow = journey.flow_at(i);
                piece.ttl = ttl;
                piece.from = lab_.nics[out].mac;
                piece.to = lab_.nics[next].mac;
                if (piece.bears == Bears::error)
                    piece.told = told_at(journey, piece, step.machine);
            }
            cut(pieces, lab_.nics[out].mtu_bytes, i == 0);
            find_neighbour(out, next, next_hop(step.machine, out, pieces.front().flow),
                           pieces.front().flow.source, at);
            Microseconds arrival = at;
            for (const packet::Crossing& crossing : journey.crossings)
                if (crossing.step == i && crossing.works) {
                    const std::size_t count = all_links(lab_, *crossing.outer);
                    for (const Frame& piece : pieces)
                        sight(out, {}, at, true, piece);
                    const Fate outer = follow(*crossing.outer, around(crossing, pieces.front()), at,
                                              some(fates, outer_link, count));
                    outer_link += count;
                    if (!outer.arrived)
                        return {false, outer.at};
                    arrival = outer.at - time_per_machine;
                }
            const bool is_tunnel = bool(lab_.tunnel(out));
            if (lab::LinkId id = lab_.segments[lab_.nics[out].segment].link) {
                arrival += Microseconds(lab_.links[id].delay);
                const std::span<const Crossed> fate = some(fates, link++, 1);
                if (!fate.empty() && fate.front().lost) {
                    for (const Frame& piece : pieces)
                        sight(out, {}, at, true, piece);
                    return {false, arrival};
                }
                arrival += fate.empty() ? Microseconds(0) : Microseconds(fate.front().jitter);
            }
            for (const Frame& piece : pieces)
                pass(out, next, at, arrival, piece, is_tunnel);
            at = arrival + time_per_machine;
        }
        return {false, at};
    }

    void count(const Journey& journey, std::size_t i, const std::vector<Frame>& pieces,
               Microseconds at) {
        const packet::Step& step = journey.steps[i];
        const bool drops = step.action == packet::Action::drop;
        SeenFlow flow{.machine = step.machine,
                      .in = step.in,
                      .out = drops ? NicId{} : step.out,
                      .came = i == 0 ? journey.packet.flow() : journey.flow_at(i - 1),
                      .left = journey.flow_at(i),
                      .is_dropped = drops,
                      .packets = 0,
                      .bytes = 0,
                      .first = at,
                      .last = at};
        SeenFlow& known =
            sightings_.flows_
                .emplace(FlowKey(step.machine, flow.in, flow.out, flow.came, flow.left), flow)
                .first->second;
        known.last = std::max(known.last, at);
        known.packets += pieces.size();
        for (const Frame& piece : pieces)
            known.bytes += piece.size_bytes;
    }

    static std::span<const Crossed> some(std::span<const Crossed> fates, std::size_t first,
                                         std::size_t count) {
        return first + count > fates.size() ? std::span<const Crossed>{}
                                            : fates.subspan(first, count);
    }

    // Who gets no answer for the next hop asks three times, a second apart (RFC 4861 section 10).
    Microseconds lost_at(const Journey& journey, Microseconds at) {
        const packet::Step& last = journey.steps.back();
        const bool asked = journey.ending == packet::Ending::no_neighbour
                           || journey.ending == packet::Ending::which_neighbour
                           || journey.ending == packet::Ending::shared_source;
        if (!asked || !last.out || lab_.tunnel(last.out))
            return at;
        constexpr int times = 3;
        for (int i = 0; i < times; ++i) {
            const Microseconds moment = at + std::chrono::seconds(i);
            const auto asker = ask_for(last.out, journey.next_hop, journey.flow.source, moment);
            for (NicId answering : journey.answering)
                answer_for(answering, last.out, journey.next_hop, asker, moment);
        }
        return at + std::chrono::seconds(times);
    }

    // Pieces that the next NIC takes; all but the last carry a multiple of eight bytes.
    static void cut(std::vector<Frame>& pieces, unsigned mtu_bytes, bool is_sender) {
        std::vector<Frame> smaller;
        for (const Frame& piece : pieces) {
            const bool is_ipv6 = piece.flow.source.family() == net::Family::ipv6;
            const unsigned header = is_ipv6 ? 40 : 20;
            const unsigned room = header + (is_ipv6 ? 8 : 0);
            if (piece.size_bytes <= mtu_bytes || mtu_bytes < room + 8
                || !can_fragment(piece, is_sender)) {
                smaller.push_back(piece);
                continue;
            }
            const Fragment whole =
                piece.fragment.value_or(Fragment{.bytes = piece.size_bytes - header,
                                                 .whole_bytes = piece.size_bytes - header,
                                                 .is_last = true});
            for (const Fragment& part : pieces_of(whole, mtu_bytes - room)) {
                Frame one = piece;
                one.fragment = part;
                one.size_bytes = room + part.bytes;
                smaller.push_back(std::move(one));
            }
        }
        pieces = std::move(smaller);
    }

    Frame around(const packet::Crossing& crossing, const Frame& inner) {
        const Journey& outer = *crossing.outer;
        Frame frame = packet_of(outer, inner.number);
        frame.bears = Bears::udp;
        frame.vni = crossing.tunnel.row + 1;
        frame.inside = std::make_shared<const Frame>(inner);
        return frame;
    }

    // The packet that an error tells of, as the machine that passes the error on has it.
    std::shared_ptr<const Frame> told_at(const Journey& error, const Frame& frame,
                                         MachineId machine) const {
        if (failed_ == nullptr || frame.told == nullptr || machine == error.steps.front().machine)
            return frame.told;
        for (std::size_t i = 0; i < failed_->steps.size(); ++i)
            if (failed_->steps[i].machine == machine) {
                Frame told = *frame.told;
                told.flow = i == 0 ? failed_->packet.flow() : failed_->flow_at(i - 1);
                return std::make_shared<const Frame>(std::move(told));
            }
        return frame.told;
    }

    // What the machine asks its neighbours for.
    net::Address next_hop(MachineId machine, NicId out, const net::Flow& flow) const {
        for (std::uint32_t way = 0;; ++way) {
            const auto aim = settled_.aim(flow.destination);
            const auto choice = settled_.choice(machine, aim, way);
            if (choice.hop == nullptr || way >= choice.ways)
                return flow.destination;
            if (choice.hop->out == out)
                return choice.hop->kind == routing::RouteKind::connected
                           ? flow.destination
                           : settled_.next_hop(*choice.hop);
        }
    }

    // --- one wire ------------------------------------------------------------------------------

    void sight(NicId nic, PortId port, Microseconds at, bool leaves, const Frame& frame) {
        if (sightings_.is_full()
            || (!sightings_.only_.empty() && !sightings_.only_.contains(Spot{nic, port})))
            return;
        sightings_.seen_.push_back({at, nic, port, leaves, frame});
    }

    // The tag that frames of the NIC bear.
    std::uint16_t tag_of(NicId nic) const {
        const lab::Plug* plug =
            lab_.plugs_of(nic).empty() ? nullptr : settled_.wiring().active_plug(nic);
        return plug == nullptr ? std::uint16_t{0} : plug->vlan;
    }

    // From one NIC to another, by the switch ports between.
    void pass(NicId out, NicId next, Microseconds at, Microseconds arrival, Frame frame,
              bool left_already = false) {
        frame.vlan = tag_of(out);
        if (!left_already)
            sight(out, {}, at, true, frame);
        if (lab_.has_wiring()) {
            std::uint16_t vlan = 0;
            bool enters = true;
            for (PortId port : settled_.wiring().way(out, next)) {
                const lab::Port& row = lab_.ports[port];
                if (enters)
                    vlan = frame.vlan != 0 ? frame.vlan : row.untagged;
                else
                    frame.vlan = vlan == row.untagged ? std::uint16_t{0} : vlan;
                sight({}, port, at, !enters, frame);
                enters = !enters;
            }
        }
        frame.vlan = tag_of(next);
        sight(next, {}, arrival, false, frame);
    }

    // --- neighbours ----------------------------------------------------------------------------

    void find_neighbour(NicId out, NicId next, net::Address asked, net::Address source,
                        Microseconds at) {
        if (lab_.tunnel(out) || !sightings_.neighbours_.emplace(out, asked).second)
            return;
        Microseconds before(0);
        if (lab::LinkId link = lab_.segments[lab_.nics[out].segment].link)
            before = 2.0 * Microseconds(lab_.links[link].delay);
        at = std::max(Microseconds(0), at - before - 2.0 * time_per_machine);
        const auto asker = ask_for(out, asked, source, at, next);
        answer_for(next, out, asked, asker, at);
        if (asker) // whoever is asked knows who asks
            sightings_.neighbours_.emplace(next, *asker);
    }

    // Whom Linux names as who asks for the next hop of a packet: its source if that is the
    // machine's own (in IPv6 on that NIC), else an IPv4 address beside the one that is asked for,
    // or the link-local address.
    std::optional<net::Address> asker_for(NicId nic, net::Address asked,
                                          net::Address source) const {
        const bool is_ipv6 = asked.family() == net::Family::ipv6;
        for (const lab::Owner& owner : lab_.owners_of(source))
            if (is_ipv6 ? owner.nic == nic : owner.machine == lab_.nics[nic].machine)
                return source;
        if (is_ipv6)
            return net::link_local_address(lab_.nics[nic].mac);
        const lab::InterfaceAddress* found = lab_.first_address(nic, net::Family::ipv4);
        for (lab::AddressId id : lab_.addresses_of(nic))
            if (const lab::InterfaceAddress& row = lab_.addresses[id];
                row.address.family() == net::Family::ipv4 && row.prefix().contains(asked)) {
                found = &row;
                break;
            }
        return found == nullptr ? std::nullopt : std::optional(found->address);
    }

    static constexpr unsigned arp_bytes = 28;
    static constexpr unsigned solicitation_bytes = 72; // IPv6, ICMPv6, one option

    static Frame neighbour_frame(Bears bears, net::Address source, net::Address destination) {
        const bool is_arp = source.family() == net::Family::ipv4;
        constexpr int never_passed_on = 255; // RFC 4861 section 7.1
        return {.bears = bears,
                .flow = {.source = source, .destination = destination},
                .ttl = never_passed_on,
                .size_bytes = is_arp ? arp_bytes : solicitation_bytes};
    }

    Microseconds delay_of(NicId nic) const {
        const lab::LinkId link = lab_.segments[lab_.nics[nic].segment].link;
        return link ? Microseconds(lab_.links[link].delay) : Microseconds(0);
    }

    // For the next hop of a packet from `source`; who asks.
    std::optional<net::Address> ask_for(NicId out, net::Address asked, net::Address source,
                                        Microseconds at, NicId next = {}) {
        const auto asker = asker_for(out, asked, source);
        if (!asker)
            return asker;
        Frame frame = neighbour_frame(Bears::neighbour_ask, *asker, asked);
        frame.from = lab_.nics[out].mac;
        frame.to = asked.family() == net::Family::ipv4 ? to_all : group_of(asked);
        say_to_all(out, next, at, frame);
        return asker;
    }

    // All on the segment hear it; those are told of that are looked at, or on the way.
    void say_to_all(NicId out, NicId next, Microseconds at, const Frame& frame) {
        if (next)
            pass(out, next, at, at + delay_of(out), frame);
        else
            sight(out, {}, at, true, frame);
        auto hear = [&](NicId nic) {
            if (nic && nic != out && nic != next && settled_.condition().nic_up(nic)
                && settled_.wiring().domain(lab_, nic) == settled_.wiring().domain(lab_, out)) {
                Frame heard = frame;
                heard.vlan = tag_of(nic);
                sight(nic, {}, at + delay_of(out), false, heard);
            }
        };
        for (const Spot& spot : sightings_.only_)
            hear(spot.nic);
        if (sightings_.only_.empty())
            std::ranges::for_each(on_the_way_, hear);
    }

    void answer_for(NicId answering, NicId out, net::Address asked,
                    std::optional<net::Address> asker, Microseconds at) {
        if (!asker)
            return;
        Frame frame = neighbour_frame(Bears::neighbour_answer, asked, *asker);
        frame.is_router = lab_.machines[lab_.nics[answering].machine].forwards.ipv6;
        frame.from = lab_.nics[answering].mac;
        frame.to = lab_.nics[out].mac;
        const Microseconds left = at + delay_of(out) + time_per_machine;
        pass(answering, out, left, left + delay_of(out), frame);
    }

    // --- errors --------------------------------------------------------------------------------

    // The error that the last machine of a journey sends, if it sends one to another.
    void tell_error(const Journey& failed, const Frame& sent, Microseconds at,
                    packet::IcmpError error = packet::IcmpError::none) {
        if (error == packet::IcmpError::none)
            error = packet::icmp_error(failed.ending);
        if (error == packet::IcmpError::none || failed.steps.size() == 1)
            return;
        const auto source = packet::error_source(settled_, failed);
        if (!source)
            return;
        const Journey way = packet::walk_error(settled_, failed, *source);
        Frame told = sent;
        // Whatever the machine has translated is turned back.
        told.flow = failed.flow_at(failed.steps.size() - 2);
        told.ttl = packet::quoted_ttl(failed);
        Frame frame = packet_of(way, sent.number);
        frame.bears = Bears::error;
        frame.error = error;
        frame.mtu_bytes =
            failed.steps.back().out ? lab_.nics[failed.steps.back().out].mtu_bytes : 0;
        frame.size_bytes = error_bytes(told);
        frame.told = std::make_shared<const Frame>(std::move(told));
        failed_ = &failed;
        follow(way, frame, at, {});
        failed_ = nullptr;
    }

    // As much of the packet as keeps the error within what all networks take: 576 bytes (RFC 1812
    // section 4.3.2.3), or 1280 (RFC 4443 section 2.4 (c)).
    static unsigned error_bytes(const Frame& told) {
        const bool is_ipv4 = told.flow.source.family() == net::Family::ipv4;
        const unsigned headers = is_ipv4 ? 28 : 48;
        const unsigned longest = is_ipv4 ? 576 : 1280;
        return std::min(longest, headers + told.size_bytes);
    }

    // --- services ------------------------------------------------------------------------------

    void ask_service(const Exchange& exchange, Microseconds start) {
        constexpr std::uint16_t name_port = 53;
        if (exchange.question.service->protocol == net::Protocol::tcp)
            connect(exchange, start);
        else if (exchange.question.service->port == name_port)
            ask_datagram(
                exchange, start,
                NameTalk{.name = exchange.question.to.name, .address = exchange.destination});
        else
            ask_datagram(exchange, start, {});
    }

    void ask_datagram(const Exchange& exchange, Microseconds at,
                      const std::optional<NameTalk>& name) {
        Frame frame = packet_of(*exchange.out, 1);
        frame.bears = Bears::udp;
        set_name(frame, name, false);
        const Fate fate = follow(*exchange.out, frame, at, {});
        if (!fate.arrived) {
            tell_error(*exchange.out, frame, fate.at);
        } else if (exchange.gap == Gap::nothing_listens
                   || exchange.error.error == packet::IcmpError::port_unreachable) {
            tell_error(*exchange.out, frame, fate.at, packet::IcmpError::port_unreachable);
        } else if (exchange.back) {
            frame = packet_of(*exchange.back, 1);
            frame.bears = Bears::udp;
            set_name(frame, name, true);
            follow(*exchange.back, frame, fate.at, {});
        }
    }

    // RFC 1035 section 4.1: a header, the question, and in the answer a record.
    static void set_name(Frame& frame, const std::optional<NameTalk>& name, bool is_answer) {
        if (!name)
            return;
        frame.name = name;
        frame.name->is_answer = is_answer;
        const bool is_ipv6 = name->address && name->address->family() == net::Family::ipv6;
        const unsigned ip_and_udp = frame.flow.source.family() == net::Family::ipv4 ? 28 : 48;
        const unsigned written = static_cast<unsigned>(name->name.size()) + 2;
        const unsigned record = written + 10 + (is_ipv6 ? 16 : 4);
        frame.size_bytes =
            ip_and_udp + 12 + written + 4 + (is_answer && name->address ? record : 0);
    }

    // A part of the connection; when it came to the other end.
    Fate say(const Journey& journey, TcpPart part, Microseconds at) {
        Frame frame = packet_of(journey, 1);
        const bool has_options = part == TcpPart::syn || part == TcpPart::syn_ack;
        constexpr unsigned options = 20;
        const net::Family family = frame.flow.source.family();
        frame.size_bytes =
            packet_bytes(family, net::Protocol::tcp, 0) - (has_options ? 0 : options);
        frame.bears = Bears::tcp;
        frame.tcp = part;
        const Fate fate = follow(journey, frame, at, {});
        if (!fate.arrived)
            tell_error(journey, frame, fate.at);
        return fate;
    }

    void connect(const Exchange& exchange, Microseconds start) {
        // Asked again after 1 and 3 seconds (RFC 6298 section 2, 5.5), then it is enough.
        for (int wait : {0, 1, 3}) {
            const Fate there = say(*exchange.out, TcpPart::syn, start + std::chrono::seconds(wait));
            const bool is_told = exchange.error.heard;
            if (!there.arrived || !exchange.back) {
                if (is_told)
                    return;
                continue;
            }
            if (exchange.gap == Gap::nothing_listens) {
                say(*exchange.back, TcpPart::reset, there.at);
                return;
            }
            const Fate back = say(*exchange.back, TcpPart::syn_ack, there.at);
            if (!back.arrived)
                continue;
            if (exchange.gap == Gap::other_source) { // nobody has asked that one
                say(*exchange.out, TcpPart::reset, back.at);
                return;
            }
            say(*exchange.out, TcpPart::ack, back.at);
            const Fate closes = say(*exchange.out, TcpPart::client_fin, back.at);
            const Fate closed = say(*exchange.back, TcpPart::server_fin, closes.at);
            say(*exchange.out, TcpPart::last_ack, closed.at);
            return;
        }
    }

    // --- names and leases ------------------------------------------------------------------------

    void ask_names(const Exchange& exchange, Microseconds at) {
        for (net::Address server : name_servers(lab_, exchange.question.from.machine)) {
            const Exchange asked = ask_server(settled_, exchange.question.from, server);
            if (!asked.out)
                continue;
            ask_datagram(
                asked, at,
                NameTalk{.name = exchange.question.to.name, .address = exchange.destination});
            if (asked.replied())
                return;
        }
    }

    // Before anything is sent, those NICs got their addresses.
    void lease(MachineId machine, Microseconds at) {
        if (lab_.leases.empty())
            return;
        at = std::max(Microseconds(0), at);
        for (NicId nic : lab_.nics_of(machine)) {
            if (sightings_.leased_.contains(nic))
                continue;
            const auto way = lease_way(settled_, nic);
            if (!way)
                continue;
            sightings_.leased_.insert(nic);
            at = ask_lease(*way, LeasePart::discover, LeasePart::offer, at);
            at = ask_lease(*way, LeasePart::request, LeasePart::ack, at);
        }
    }

    // A message and its answer, by the relay if there is one; when the client has the answer.
    Microseconds ask_lease(const LeaseWay& way, LeasePart asks, LeasePart answers,
                           Microseconds at) {
        const NicId client = way.lease->nic;
        const NicId heard_by = way.lease->server;
        lease_message(way, asks, client, heard_by, at);
        at += delay_of(client) + time_per_machine;
        if (way.out) {
            at = follow(*way.out, relayed(*way.out, way, asks), at, {}).at;
            at = follow(*way.back, relayed(*way.back, way, answers), at, {}).at;
        }
        lease_message(way, answers, heard_by, client, at);
        return at + delay_of(heard_by) + time_per_machine;
    }

    static std::optional<net::Address> relay_of(const LeaseWay& way) {
        return way.out ? std::optional(way.here) : std::nullopt;
    }

    static Frame relayed(const Journey& journey, const LeaseWay& way, LeasePart part) {
        Frame frame = packet_of(journey, 1);
        frame.bears = Bears::udp;
        frame.lease = LeaseTalk{part, way.lease->nic, way.server, relay_of(way)};
        return frame;
    }

    void lease_message(const LeaseWay& way, LeasePart part, NicId from, NicId to, Microseconds at) {
        const bool asks = from == way.lease->nic;
        Frame frame{.from = lab_.nics[from].mac,
                    .to = asks ? to_all : lab_.nics[to].mac,
                    .bears = Bears::udp,
                    .flow = {.source = asks ? net::Address::ipv4(0) : way.here,
                             .destination = asks ? net::Address::ipv4(~0U) : way.lease->address,
                             .protocol = net::Protocol::udp,
                             .source_port = asks ? dhcp_client_port : dhcp_server_port,
                             .destination_port = asks ? dhcp_server_port : dhcp_client_port},
                    .size_bytes = lease_bytes,
                    .lease = LeaseTalk{part, way.lease->nic, way.server,
                                       asks ? std::nullopt : relay_of(way)}};
        if (asks)
            say_to_all(from, to, at, frame);
        else
            pass(from, to, at, at + delay_of(from), frame);
    }

    const routing::Settled& settled_;
    const Lab& lab_;
    Sightings& sightings_;
    const Journey* failed_ = nullptr; // that the error on its way tells of
    std::set<NicId> on_the_way_;      // of the exchange
};

std::vector<Fragment> pieces_of(const Fragment& whole, unsigned most_bytes) {
    std::vector<Fragment> pieces;
    const unsigned step = most_bytes / 8 * 8;
    for (unsigned first = 0; first < whole.bytes; first += step) {
        const unsigned bytes = std::min(step, whole.bytes - first);
        pieces.push_back({.first_byte = whole.first_byte + first,
                          .bytes = bytes,
                          .whole_bytes = whole.whole_bytes,
                          .is_last = whole.is_last && first + bytes == whole.bytes});
    }
    return pieces;
}

Sightings::Sightings(const std::vector<Spot>& only) : only_(only.begin(), only.end()) {}

void Sightings::add(const routing::Settled& settled, const Exchange& exchange, Microseconds start,
                    Microseconds interval, int first) {
    Follower(*this, settled).run(exchange, start, interval, first);
}

std::vector<SeenFlow> Sightings::flows(MachineId machine) const {
    std::vector<SeenFlow> flows;
    for (const auto& [key, flow] : flows_)
        if (flow.machine == machine)
            flows.push_back(flow);
    std::ranges::stable_sort(flows, {}, &SeenFlow::first);
    return flows;
}

std::vector<Sighting> Sightings::take() {
    std::ranges::stable_sort(seen_, {}, &Sighting::at);
    return std::exchange(seen_, {});
}

} // namespace jackal::probe
