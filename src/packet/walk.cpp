#include "jackal/packet/walk.h"

#include <algorithm>

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

std::string_view to_string(IcmpError error) {
    switch (error) {
    case IcmpError::net_unreachable: return "net unreachable";
    case IcmpError::host_unreachable: return "host unreachable";
    case IcmpError::time_exceeded: return "time exceeded";
    case IcmpError::packet_too_big: return "packet too big";
    case IcmpError::port_unreachable: return "port unreachable";
    case IcmpError::none: break;
    }
    return "";
}

IcmpError icmp_error(Ending ending) {
    switch (ending) {
    case Ending::no_route: return IcmpError::net_unreachable;
    case Ending::no_neighbour:
    case Ending::shared_source: return IcmpError::host_unreachable;
    case Ending::ttl_expired: return IcmpError::time_exceeded;
    case Ending::too_big: return IcmpError::packet_too_big;
    default: return IcmpError::none;
    }
}

net::Flow Journey::flow_at(std::size_t step) const {
    net::Flow left = packet.flow();
    for (const Rewrite& rewrite : rewrites)
        if (rewrite.step <= step)
            left = rewrite.after;
    return left;
}

int Journey::forwarded() const {
    int count = 0;
    for (const Step& step : steps)
        count += step.action == Action::forward ? 1 : 0;
    return count;
}

namespace {

// Tunnels inside tunnels, at most. Whoever sends a tunnel's outer packets into that tunnel itself
// gets no further.
constexpr int most_nested = 4;

Crossing cross(const routing::Settled& settled, NicId from, unsigned size_bytes, int depth);

class Walk {
  public:
    Walk(const routing::Settled& settled, MachineId sender, const Packet& packet,
         const Journey* request, int depth = 0)
        : settled_(settled), lab_(settled.lab()), depth_(depth),
          aim_(settled.aim(packet.destination)), source_{.address = packet.source,
                                                         .owners = lab_.owners_of(packet.source)},
          at_(sender), is_touched_(lab_.touches_packets()), request_(request) {
        journey_.packet = packet;
        journey_.flow = packet.flow();
        journey_.ttl_left = packet.ttl;
        size_bytes_ = packet.size_bytes;
        journey_.steps.reserve(32);
    }

    Journey run() {
        while (visit())
            ;
        journey_.packet.shares = {};
        journey_.packet.records = {};
        return std::move(journey_);
    }

    // The error that the last machine of the request sends.
    Journey run_error() {
        is_error_ = true;
        told_ = request_->flow;
        return run();
    }

  private:
    // Lets the current machine deal with the packet; false when that was its end.
    bool visit() {
        hop_ = nullptr;
        if (!settled_.condition().machine_on(at_))
            return end(Ending::machine_off);
        if (neighbour_takes_less_ && size_bytes_ > lab_.nics[in_].mtu_bytes + vlan_tag_bytes)
            return end(Ending::too_big_to_take);
        if (is_touched_ && !arrive())
            return false;
        if (in_ && is_own_source())
            return end(Ending::own_source);
        if (settled_.is_local(at_, aim_))
            return deliver();
        if (as_broadcast_ != net::Address{}) // no machine forwards what came to all of a segment
            return end(Ending::to_broadcast);
        hop_ = settled_.hop(at_, aim_);
        if (hop_ != nullptr && routing::is_learned(hop_->kind))
            choose();
        if (in_ && !lab_.machines[at_].forwards)
            return not_forwarding();
        prefer_way_back();
        if (settled_.is_broadcast(at_, aim_) && (in_ || !journey_.packet.is_reply))
            return end(Ending::to_broadcast);
        if (hop_ == nullptr)
            return end(Ending::no_route);
        if (in_ && journey_.ttl_left <= 1)
            return end(Ending::ttl_expired);
        if (size_bytes_ > hop_->mtu_bytes && !fragment())
            return end(Ending::too_big);
        if (in_ && lab_.machines[at_].is_core && lab_.is_peering(in_) && lab_.is_peering(hop_->out))
            return end(Ending::not_relayed);
        if (is_touched_ && !leave())
            return false;
        return pass_on();
    }

    // Equal next hops share by the addresses of the packet, each machine in its own way.
    void choose() {
        std::uint32_t ways = settled_.shares(at_, aim_);
        if (ways == 1)
            return;
        std::size_t number = journey_.forks.size();
        std::uint32_t taken = number < journey_.packet.shares.size()
                                  ? journey_.packet.shares[number]
                                  : share_of(ways);
        journey_.forks.push_back(
            {static_cast<std::uint32_t>(journey_.steps.size()), ways, taken % ways});
        hop_ = settled_.hop(at_, aim_, taken);
    }

    // The sender has chosen its address by the next hop that it takes.
    std::uint32_t share_of(std::uint32_t ways) const {
        for (std::uint32_t way = 0; way < ways && !in_; ++way)
            if (lab_.addresses[settled_.hop(at_, aim_, way)->source].address == source_.address)
                return way;
        return spread(source_.address, aim_.address) % ways;
    }

    // A number that is the same for all packets between two addresses at a machine.
    std::uint32_t spread(net::Address from, net::Address to) const {
        constexpr std::uint64_t odd = 0x9e3779b97f4a7c15; // 2^64 by the golden ratio
        std::uint64_t sum = at_.row;
        for (std::uint64_t part : {from.high(), from.low(), to.high(), to.low()})
            sum = (sum ^ part) * odd;
        return static_cast<std::uint32_t>(sum >> 32);
    }

    // Linux says so of an IPv6 packet that it has no route for, even where it does not forward.
    bool not_forwarding() {
        bool ipv6 = aim_.address.family() == net::Family::ipv6;
        bool said = ipv6 && hop_ == nullptr;
        hop_ = nullptr;
        return end(said ? Ending::no_route : Ending::not_forwarding);
    }

    // Of several NICs on one IPv6 prefix Linux takes the one that the packet came in by, or that
    // the request did which is answered here.
    void prefer_way_back() {
        NicId came_in = in_ ? in_ : journey_.packet.asked_by;
        if (hop_ == nullptr || hop_->kind != RouteKind::connected || !came_in
            || hop_->out == came_in || aim_.address.family() == net::Family::ipv4)
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

    // Linux drops an IPv4 packet that comes in with a source address of the machine's own
    // (fib_validate_source, accept_local off); IPv6 has no such check.
    bool is_own_source() const {
        return source_.address.family() == net::Family::ipv4 && settled_.is_local(at_, source_);
    }

    // From here on the largest fragment stands for the packet. All but the last carry a multiple
    // of eight bytes (RFC 791; RFC 8200 section 4.5).
    bool fragment() {
        bool ipv4 = aim_.address.family() == net::Family::ipv4;
        if (!journey_.packet.is_reply || (in_ && !ipv4))
            return false;
        unsigned header_bytes = ipv4 ? 20 : 48;
        size_bytes_ = header_bytes + (hop_->mtu_bytes - header_bytes) / 8 * 8;
        return true;
    }

    bool pass_on() {
        NicId neighbour = hop_->neighbour;
        MachineId machine = hop_->machine;
        neighbour_takes_less_ = hop_->neighbour_takes_less;
        if (!neighbour) {
            bool direct = hop_->kind == RouteKind::connected;
            net::Address next_hop = direct ? aim_.address : settled_.next_hop(*hop_);
            settled_.answering(hop_->out, direct ? aim_.owners : lab_.owners_of(next_hop),
                               answering_);
            if (answering_.size() != 1) {
                journey_.next_hop = next_hop;
                journey_.answering = answering_;
                return end(answering_.empty() ? Ending::no_neighbour : Ending::which_neighbour);
            }
            neighbour = answering_.front();
            machine = lab_.nics[neighbour].machine;
            neighbour_takes_less_ =
                lab_.nics[neighbour].mtu_bytes < hop_->mtu_bytes && !hop_->is_tunnel;
        }
        if (hop_->is_tunnel && !cross_tunnel())
            return false;
        if (in_ && hop_->source_is_shared && has_source(machine)) {
            journey_.next_hop = lab_.addresses[hop_->source].address;
            return end(Ending::shared_source);
        }
        if (in_)
            --journey_.ttl_left;
        add_step(in_ ? Action::forward : Action::send, hop_->out);
        as_broadcast_ = settled_.is_broadcast(at_, aim_) ? aim_.address : net::Address{};
        in_ = neighbour;
        at_ = machine;
        return true;
    }

    bool cross_tunnel() {
        Crossing crossing = cross(settled_, hop_->out, size_bytes_, depth_ + 1);
        crossing.step = static_cast<std::uint32_t>(journey_.steps.size());
        bool works = crossing.works;
        journey_.crossings.push_back(std::move(crossing));
        if (works)
            return true;
        bool direct = hop_->kind == RouteKind::connected;
        journey_.next_hop = direct ? aim_.address : settled_.next_hop(*hop_);
        return end(Ending::no_neighbour);
    }

    // Linux does not answer an ARP request that bears one of its own addresses as sender.
    bool has_source(MachineId neighbour) const {
        net::Address source = lab_.addresses[hop_->source].address;
        return source.family() == net::Family::ipv4
               && settled_.is_local(neighbour,
                                    {.address = source, .owners = lab_.owners_of(source)});
    }

    // --- filters and translations --------------------------------------------------------------

    // What a machine did with the request when it passed: the flow as it came and as it left.
    struct Passage {
        net::Flow came;
        net::Flow left;
    };

    // What a machine remembers of the flow: it saw the request, and this belongs to it.
    std::optional<Passage> record() const {
        if (request_ == nullptr)
            return std::nullopt;
        net::Flow meant = is_error_ ? told_ : journey_.flow.reversed();
        for (std::uint32_t i = 0; i < request_->steps.size(); ++i)
            if (request_->steps[i].machine == at_)
                if (net::Flow left = request_->flow_at(i); left == meant) {
                    for (const Rewrite& rewrite : request_->rewrites)
                        if (rewrite.step == i)
                            return Passage{rewrite.before, left};
                    return Passage{left, left};
                }
        return std::nullopt;
    }

    // The NIC's filters and the translation of destinations; false if the packet was dropped.
    bool arrive() {
        arrived_as_ = journey_.flow;
        record_ = record();
        kept_ = request_ == nullptr ? kept() : nullptr;
        if (in_ && !pass_nic(in_, plan::Way::in))
            return false;
        if (record_)
            set_destination(record_->came.source, record_->came.source_port);
        else if (kept_ != nullptr)
            set_destination(kept_->left.destination, kept_->left.destination_port);
        else if (in_ && starts_flow())
            redirect();
        return true;
    }

    // The machine's and the NIC's filters and the translation of sources.
    bool leave() {
        if (!pass_machine(in_ ? plan::Way::through : plan::Way::out))
            return false;
        if (record_)
            set_source_as(record_->came);
        else if (kept_ != nullptr)
            set_source(kept_->left.source, kept_->left.source_port);
        else if (starts_flow())
            masquerade();
        // Linux lets go of a flow that has the address of another NIC than it leaves by.
        if (kept_ != nullptr && kept_->left.source != kept_->came.source && kept_->out != hop_->out)
            return end(Ending::older_flow);
        return pass_nic(hop_->out, plan::Way::out);
    }

    // What the machine keeps of earlier packets of the same flow, or null.
    const Record* kept() const {
        for (const Record& record : journey_.packet.records)
            if (record.machine == at_ && record.came == journey_.flow)
                return &record;
        return nullptr;
    }

    // Only the first packet of a flow is translated by rule. Of answers to a request that the
    // machine did not see, only those over UDP can be taken for one.
    bool starts_flow() const {
        return request_ == nullptr || (!is_error_ && journey_.flow.protocol == net::Protocol::udp);
    }

    void set_destination(net::Address destination, std::uint16_t port) {
        if (!is_error_)
            journey_.flow.destination_port = port;
        if (destination == journey_.flow.destination)
            return;
        journey_.flow.destination = destination;
        aim_ = settled_.aim(destination);
    }

    void set_source(net::Address source, std::uint16_t port) {
        if (!is_error_)
            journey_.flow.source_port = port;
        if (source == journey_.flow.source)
            return;
        journey_.flow.source = source;
        source_ = {.address = source, .owners = lab_.owners_of(source)};
    }

    // Answers get the source that the request was sent to; errors do if that was changed here.
    void set_source_as(const net::Flow& came) {
        if (!is_error_ || record_->left.destination != came.destination)
            set_source(came.destination, came.destination_port);
        if (is_error_)
            told_ = came;
    }

    void redirect() {
        const lab::Duties* duties = lab_.duties_of(at_);
        if (duties == nullptr || journey_.flow.destination.family() == net::Family::ipv6)
            return;
        for (const lab::Translation& rule : duties->translations) {
            net::Flow& flow = journey_.flow;
            if (rule.kind != plan::Translation::Kind::destination || rule.nic != in_ || !rule.to
                || (rule.protocol != net::Protocol::any && rule.protocol != flow.protocol)
                || (rule.port != 0 && rule.port != flow.destination_port)
                || !has_address(in_, flow.destination))
                continue;
            return set_destination(*rule.to,
                                   rule.to_port != 0 ? rule.to_port : flow.destination_port);
        }
    }

    bool has_address(NicId nic, net::Address address) const {
        for (lab::AddressId id : lab_.addresses_of(nic))
            if (lab_.addresses[id].address == address)
                return true;
        return false;
    }

    void masquerade() {
        const lab::Duties* duties = lab_.duties_of(at_);
        if (duties == nullptr || journey_.flow.source.family() == net::Family::ipv6)
            return;
        net::Address source = journey_.flow.source;
        for (const lab::Translation& rule : duties->translations)
            if (rule.kind == plan::Translation::Kind::source && rule.nic == hop_->out
                && (rule.any_source || std::ranges::any_of(rule.from, [&](const auto& from) {
                        return from.contains(source);
                    })))
                return set_source(lab_.addresses[hop_->source].address, journey_.flow.source_port);
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
        if (!id || record_ || (kept_ != nullptr && kept_->answered))
            return true;
        const lab::Filter& filter = lab_.filters[id];
        std::uint32_t rule = filter.index.first(way, journey_.flow);
        if (rule == lab::RuleIndex::none ? filter.allows : filter.rules[rule].allows)
            return true;
        journey_.denial = {id, rule, way, nic};
        end(Ending::filtered);
        return false;
    }

    // --- ends ----------------------------------------------------------------------------------

    bool deliver() {
        if (is_touched_ && in_ && !pass_machine(plan::Way::in))
            return false;
        if (is_touched_ && record_)
            set_source_as(record_->came);
        journey_.told = told_;
        add_step(Action::deliver, {});
        journey_.ending = Ending::delivered;
        return false;
    }

    bool end(Ending ending) {
        if (ending == Ending::to_broadcast)
            journey_.next_hop = as_broadcast_;
        NicId out = hop_ == nullptr ? NicId{} : hop_->out;
        add_step(Action::drop, out);
        journey_.ending = ending;
        return false;
    }

    void add_step(Action action, NicId out) {
        if (is_touched_ && arrived_as_ != journey_.flow)
            journey_.rewrites.push_back(
                {static_cast<std::uint32_t>(journey_.steps.size()), arrived_as_, journey_.flow});
        journey_.steps.push_back({at_, in_, out, action});
    }

    const routing::Settled& settled_;
    const lab::Lab& lab_;
    int depth_; // how many tunnels are around
    routing::Aim aim_;
    routing::Aim source_; // whoever has the source address
    Journey journey_;
    MachineId at_;
    NicId in_; // none while the packet is still at its sender
    // Ethernet devices take frames that are longer by a VLAN tag (IEEE 802.1Q).
    static constexpr unsigned vlan_tag_bytes = 4;
    unsigned size_bytes_ = 0; // of the packet, or of its largest fragment
    bool neighbour_takes_less_ = false;
    net::Address as_broadcast_; // the broadcast address that the last machine sent it to, if it did
    const routing::Hop* hop_ = nullptr;
    routing::Hop way_back_;
    std::vector<NicId> answering_;
    const bool is_touched_;  // by filters or translations, here or elsewhere in the lab
    const Journey* request_; // that this answers, or null
    bool is_error_ = false;
    net::Flow told_;       // of an error: the packet it tells of, as the machines on the way saw it
    net::Flow arrived_as_; // at the current machine
    std::optional<Passage> record_; // of the flow, at the current machine
    const Record* kept_ = nullptr;  // of earlier packets of the flow there, or null
};

// Outer packets may be fragmented anywhere (RFC 7348 section 4.3 only advises against it), and say
// nothing of the packets before them: each is judged on its own.
Journey walk_outer(const routing::Settled& settled, MachineId sender, net::Address from,
                   net::Address to, unsigned size_bytes, int depth) {
    constexpr std::uint16_t first_dynamic_port = 49152; // RFC 6335 section 6
    Packet packet{.source = from,
                  .destination = to,
                  .size_bytes = size_bytes + lab::tunnel_overhead_bytes(to.family()),
                  .is_reply = true,
                  .protocol = net::Protocol::udp,
                  .source_port = first_dynamic_port,
                  .destination_port = lab::tunnel_port};
    return Walk(settled, sender, packet, nullptr, depth).run();
}

Crossing cross(const routing::Settled& settled, NicId from, unsigned size_bytes, int depth) {
    constexpr unsigned question_bytes = 28; // an ARP request (RFC 826)
    const lab::Lab& lab = settled.lab();
    Crossing crossing{.tunnel = lab.tunnel(from)};
    const lab::Link& link = lab.links[crossing.tunnel];
    if (!link.outer || depth > most_nested)
        return crossing;
    bool is_first = link.first == from;
    NicId ends[2] = {from, is_first ? link.second : link.first};
    net::Address addresses[2] = {(*link.outer)[is_first ? 0 : 1], (*link.outer)[is_first ? 1 : 0]};
    for (bool back : {false, true}) {
        int here = back ? 1 : 0;
        Journey outer = walk_outer(settled, lab.nics[ends[here]].machine, addresses[here],
                                   addresses[1 - here], back ? question_bytes : size_bytes, depth);
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

} // namespace

Crossing cross(const routing::Settled& settled, NicId from, unsigned size_bytes) {
    return cross(settled, from, size_bytes, 1);
}

Journey walk(const routing::Settled& settled, MachineId sender, const Packet& packet,
             const Journey* request) {
    return Walk(settled, sender, packet, request).run();
}

Journey walk_error(const routing::Settled& settled, const Journey& failed, net::Address source) {
    constexpr unsigned error_bytes = 112; // the request with a new IP and ICMP header
    Packet error{.source = source,
                 .destination = failed.flow.source,
                 .size_bytes = error_bytes,
                 .is_reply = true};
    return Walk(settled, failed.last_machine(), error, &failed).run_error();
}

namespace {

// What a machine sends from to an address of its own: in IPv4 the first address of that prefix on
// the same NIC, as the others are only secondary to it.
net::Address own_source(const lab::Lab& lab, MachineId machine, net::Address own) {
    if (own.family() == net::Family::ipv6)
        return own;
    for (NicId nic : lab.nics_of(machine)) {
        const lab::InterfaceAddress* found = nullptr;
        for (lab::AddressId id : lab.addresses_of(nic))
            if (lab.addresses[id].address == own)
                found = &lab.addresses[id];
        for (lab::AddressId id : lab.addresses_of(nic))
            if (found != nullptr && lab.addresses[id].prefix() == found->prefix())
                return lab.addresses[id].address;
    }
    return own;
}

} // namespace

std::optional<net::Address> source_address(const routing::Settled& settled, MachineId sender,
                                           net::Address destination, std::uint32_t share) {
    routing::Aim aim = settled.aim(destination);
    if (settled.is_local(sender, aim))
        return own_source(settled.lab(), sender, destination);
    const routing::Hop* hop = settled.hop(sender, aim, share);
    if (hop == nullptr)
        return std::nullopt;
    const lab::Lab& lab = settled.lab();
    lab::AddressId source = hop->source;
    if (destination.family() == net::Family::ipv6) // depends on more than the route
        source = routing::source_on(lab, hop->out, destination, destination).value_or(source);
    return lab.addresses[source].address;
}

namespace {

// Linux sends no ICMPv6 error to the first address of a connected prefix, which may be an anycast
// address (RFC 4291 section 2.6.1; RFC 4443 section 2.4).
bool is_taken_for_anycast(const routing::Settled& settled, MachineId sender, net::Address to) {
    if (to.family() == net::Family::ipv4 || settled.is_local(sender, settled.aim(to)))
        return false;
    auto route = settled.route(sender, to);
    return route && route->kind == RouteKind::connected && route->to.length() < 127
           && route->to.first() == to;
}

} // namespace

std::optional<net::Address> error_source(const routing::Settled& settled, const Journey& journey) {
    const lab::Lab& lab = settled.lab();
    net::Address to = journey.flow.source;
    if (is_taken_for_anycast(settled, journey.last_machine(), to))
        return std::nullopt;
    NicId in = journey.steps.back().in;
    bool is_own = settled.is_local(journey.last_machine(), settled.aim(to));
    if (in && !is_own && to.family() == net::Family::ipv6)
        if (auto source = routing::source_on(lab, in, to, to))
            return lab.addresses[*source].address;
    return source_address(settled, journey.last_machine(), to);
}

} // namespace jackal::packet
