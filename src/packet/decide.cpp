#include "jackal/packet/decide.h"

#include "packet/translation.h"

namespace jackal::packet {

using lab::MachineId;
using lab::NicId;
using routing::RouteKind;

std::string_view to_string(Action action) {
    switch (action) {
    case Action::send: return "send";
    case Action::forward: return "forward";
    case Action::deliver: return "deliver";
    case Action::drop: break;
    }
    return "drop";
}

Header header_of(const routing::Settled& settled, const Packet& packet) {
    return {.destination = settled.aim(packet.destination),
            .source = {.address = packet.source, .owners = settled.lab().owners_of(packet.source)},
            .protocol = packet.protocol,
            .source_port = packet.source_port,
            .destination_port = packet.destination_port,
            .ttl = packet.ttl,
            .size_bytes = packet.size_bytes,
            .in = {},
            .asked_by = packet.asked_by,
            .told = {},
            .as_broadcast = {},
            .is_reply = packet.is_reply,
            .tunnels = packet.tunnels};
}

namespace {

// A number that is the same for all packets between two addresses at a machine.
std::uint32_t spread(MachineId machine, net::Address from, net::Address to) {
    constexpr std::uint64_t odd = 0x9e3779b97f4a7c15; // 2^64 by the golden ratio
    std::uint64_t sum = machine.row;
    for (std::uint64_t part : {from.high(), from.low(), to.high(), to.low()})
        sum = (sum ^ part) * odd;
    return static_cast<std::uint32_t>(sum >> 32);
}

class Decider {
  public:
    Decider(const routing::Settled& settled, MachineId machine, Header& header,
            const Memory& memory, Decision& decision)
        : settled_(settled), lab_(settled.lab()), at_(machine), in_(header.in), header_(header),
          memory_(memory), decision_(decision), is_touched_(lab_.touches_packets()) {}

    void run() {
        if (!settled_.condition().machine_on(at_))
            return end(Ending::machine_off);
        if (header_.may_not_fit && is_too_big_to_take(lab_.nics[in_], header_.size_bytes))
            return end(Ending::too_big_to_take);
        if (is_touched_ && !arrive())
            return;
        if (in_ && is_own_source())
            return end(Ending::own_source);
        if (settled_.is_local(at_, header_.destination))
            return deliver();
        if (header_.as_broadcast != net::Address{}) // no machine forwards what came to all
            return end(Ending::to_broadcast);
        choose();
        if (in_ && !lab_.machines[at_].forwards[header_.destination.address.family()])
            return not_forwarding();
        prefer_way_back();
        bool to_all = settled_.is_broadcast(at_, header_.destination);
        if (to_all && (in_ || !header_.is_reply))
            return end(Ending::to_broadcast);
        if (hop_ == nullptr)
            return end(Ending::no_route);
        if (in_ && header_.ttl <= 1)
            return end(Ending::ttl_expired);
        if (header_.size_bytes > hop_->mtu_bytes && !fragment())
            return end(Ending::too_big);
        if (in_ && lab_.machines[at_].is_core && lab_.is_peering(in_) && lab_.is_peering(hop_->out))
            return end(Ending::not_relayed);
        if (is_touched_ && !leave())
            return;
        pass_on();
        if (decision_.action != Action::drop)
            header_.as_broadcast = to_all ? header_.destination.address : net::Address{};
    }

  private:
    // --- routes ------------------------------------------------------------------------------

    // Equal next hops share by the addresses of the packet, each machine in its own way.
    void choose() {
        const auto choice =
            settled_.choice(at_, header_.destination, header_.share ? *header_.share : 0);
        hop_ = choice.hop;
        if (choice.ways == 1)
            return;
        std::uint32_t taken = header_.share ? *header_.share : share_of(choice.ways);
        decision_.ways = choice.ways;
        decision_.taken = taken % choice.ways;
        if (!header_.share)
            hop_ = settled_.hop(at_, header_.destination, taken);
    }

    // The sender has chosen its address by the next hop that it takes.
    std::uint32_t share_of(std::uint32_t ways) const {
        net::Address source = header_.source.address;
        for (std::uint32_t way = 0; way < ways && !in_; ++way) {
            const routing::Hop* hop = settled_.hop(at_, header_.destination, way);
            if (lab_.addresses[hop->source].address == source)
                return way;
        }
        return spread(at_, source, header_.destination.address) % ways;
    }

    // Linux says so of an IPv6 packet that it has no route for, even where it does not forward.
    void not_forwarding() {
        bool said = is_ipv6() && hop_ == nullptr;
        hop_ = nullptr;
        end(said ? Ending::no_route : Ending::not_forwarding);
    }

    // Of several NICs on one IPv6 prefix Linux takes the one that the packet came in by, or that
    // the request did which is answered here.
    void prefer_way_back() {
        NicId came_in = in_ ? in_ : header_.asked_by;
        if (hop_ == nullptr || hop_->kind != RouteKind::connected || !came_in
            || hop_->out == came_in || !is_ipv6())
            return;
        net::Prefix prefix = lab_.addresses[hop_->source].prefix();
        for (lab::AddressId id : lab_.addresses_of(came_in))
            if (lab_.addresses[id].prefix() == prefix) {
                way_back_ = *hop_;
                way_back_.out = came_in;
                way_back_.source = id;
                way_back_.mtu_bytes = lab_.nics[came_in].mtu_bytes;
                way_back_.is_tunnel = bool(lab_.tunnel(came_in));
                hop_ = &way_back_;
                return;
            }
    }

    bool is_ipv6() const { return header_.destination.address.family() == net::Family::ipv6; }

    // Linux drops an IPv4 packet that comes in with a source address of the machine's own
    // (fib_validate_source, accept_local off); IPv6 has no such check.
    bool is_own_source() const {
        return header_.source.address.family() == net::Family::ipv4
               && settled_.is_local(at_, header_.source);
    }

    // From here on the largest fragment stands for the packet. All but the last carry a multiple
    // of eight bytes (RFC 791; RFC 8200 section 4.5).
    bool fragment() {
        if (!header_.is_reply || (in_ && is_ipv6()))
            return false;
        unsigned header_bytes = is_ipv6() ? 48 : 20;
        header_.size_bytes = header_bytes + (hop_->mtu_bytes - header_bytes) / 8 * 8;
        return true;
    }

    // --- neighbours --------------------------------------------------------------------------

    net::Address next_hop() const {
        return hop_->kind == RouteKind::connected ? header_.destination.address
                                                  : settled_.next_hop(*hop_);
    }

    void pass_on() {
        decision_.neighbour = hop_->neighbour;
        decision_.machine = hop_->machine;
        bool may_not_fit = hop_->neighbour_takes_less;
        if (!hop_->neighbour) {
            if (!ask_for_neighbour())
                return;
            may_not_fit =
                lab_.nics[decision_.neighbour].mtu_bytes < hop_->mtu_bytes && !hop_->is_tunnel;
        }
        if (hop_->is_tunnel && !cross_tunnel())
            return;
        if (in_ && hop_->source_is_shared && has_source(decision_.machine)) {
            decision_.next_hop = lab_.addresses[hop_->source].address;
            return end(Ending::shared_source);
        }
        if (in_)
            --header_.ttl;
        decision_.action = in_ ? Action::forward : Action::send;
        decision_.out = hop_->out;
        header_.may_not_fit = may_not_fit;
        header_.in = decision_.neighbour;
    }

    // Exactly one NIC must answer for the next hop.
    bool ask_for_neighbour() {
        net::Address asked = next_hop();
        std::vector<NicId>& answering = decision_.answering;
        settled_.answering(hop_->out,
                           hop_->kind == RouteKind::connected ? header_.destination.owners
                                                              : lab_.owners_of(asked),
                           answering);
        if (answering.size() != 1) {
            decision_.next_hop = asked;
            end(answering.empty() ? Ending::no_neighbour : Ending::which_neighbour);
            return false;
        }
        decision_.neighbour = answering.front();
        decision_.machine = lab_.nics[decision_.neighbour].machine;
        return true;
    }

    bool cross_tunnel() {
        decision_.crossing = cross(settled_, hop_->out, header_.size_bytes, header_.tunnels);
        if (decision_.crossing.works)
            return true;
        decision_.next_hop = next_hop();
        end(Ending::no_neighbour);
        return false;
    }

    // Linux does not answer an ARP request that bears one of its own addresses as sender.
    bool has_source(MachineId neighbour) const {
        net::Address source = lab_.addresses[hop_->source].address;
        return source.family() == net::Family::ipv4
               && settled_.is_local(neighbour,
                                    {.address = source, .owners = lab_.owners_of(source)});
    }

    // --- filters and translations ------------------------------------------------------------

    // The NIC's filters and the translation of destinations; false if the packet was dropped.
    bool arrive() {
        if (in_ && !pass_nic(in_, plan::Way::in))
            return false;
        if (memory_.passage) {
            const net::Flow& came = memory_.passage->came;
            set_destination(settled_, header_, came.source, came.source_port);
        } else if (memory_.kept != nullptr) {
            const net::Flow& left = memory_.kept->left;
            set_destination(settled_, header_, left.destination, left.destination_port);
        } else if (in_ && header_.begins_flow) {
            redirect(settled_, at_, header_);
        }
        return true;
    }

    // The machine's and the NIC's filters and the translation of sources.
    bool leave() {
        if (!pass_machine(in_ ? plan::Way::through : plan::Way::out))
            return false;
        const Record* kept = memory_.kept;
        if (memory_.passage)
            answer_as(settled_, header_, *memory_.passage);
        else if (kept != nullptr)
            set_source(settled_, header_, kept->left.source, kept->left.source_port);
        else if (header_.begins_flow)
            masquerade(settled_, at_, *hop_, header_);
        // Linux lets go of a flow that has the address of another NIC than it leaves by.
        if (kept != nullptr && kept->left.source != kept->came.source && kept->out != hop_->out) {
            end(Ending::older_flow);
            return false;
        }
        return pass_nic(hop_->out, plan::Way::out);
    }

    bool pass_machine(plan::Way way) {
        const lab::Duties* duties = lab_.duties_of(at_);
        return duties == nullptr || pass(duties->filter, way, {});
    }

    bool pass_nic(NicId nic, plan::Way way) {
        if (!lab_.nics[nic].guard)
            return true;
        const lab::Guard& guard = lab_.guards[lab_.nics[nic].guard];
        return pass(guard.subnet, way, nic) && pass(guard.nic, way, nic);
    }

    bool pass(lab::FilterId id, plan::Way way, NicId nic) {
        if (!id || memory_.lets_all_pass || memory_.passage
            || (memory_.kept != nullptr && memory_.kept->answered))
            return true;
        const lab::Filter& filter = lab_.filters[id];
        std::uint32_t rule = filter.first(way, header_.flow(), header_.begins_flow);
        if (rule == lab::RuleIndex::none ? filter.allows : filter.rules[rule].allows)
            return true;
        decision_.denial = {id, rule, way, nic};
        end(Ending::filtered);
        return false;
    }

    // --- ends ----------------------------------------------------------------------------------

    void deliver() {
        if (is_touched_ && in_ && !pass_machine(plan::Way::in))
            return;
        if (is_touched_ && memory_.passage)
            answer_as(settled_, header_, *memory_.passage);
        decision_.action = Action::deliver;
        decision_.ending = Ending::delivered;
    }

    void end(Ending ending) {
        if (ending == Ending::to_broadcast)
            decision_.next_hop = header_.as_broadcast;
        if (hop_ != nullptr)
            decision_.out = hop_->out;
        decision_.action = Action::drop;
        decision_.ending = ending;
    }

    const routing::Settled& settled_;
    const lab::Lab& lab_;
    const MachineId at_;
    const NicId in_; // none at the sender
    Header& header_;
    const Memory& memory_;
    Decision& decision_;
    const bool is_touched_; // by filters or translations, here or elsewhere in the lab
    const routing::Hop* hop_ = nullptr;
    routing::Hop way_back_;
};

} // namespace

Decision decide(const routing::Settled& settled, MachineId machine, Header& header,
                const Memory& memory) {
    Decision decision;
    decide(settled, machine, header, memory, decision);
    return decision;
}

void decide(const routing::Settled& settled, MachineId machine, Header& header,
            const Memory& memory, Decision& into) {
    into.out = {};
    into.ways = 1;
    into.next_hop = {};
    into.answering.clear();
    into.crossing.tunnel = {};
    Decider(settled, machine, header, memory, into).run();
}

} // namespace jackal::packet
