#include "jackal/packet/walk.h"

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

int Journey::forwarded() const {
    int count = 0;
    for (const Step& step : steps)
        count += step.action == Action::forward ? 1 : 0;
    return count;
}

namespace {

class Walk {
  public:
    Walk(const routing::Settled& settled, MachineId sender, const Packet& packet)
        : settled_(settled), lab_(settled.lab()),
          aim_(settled.aim(packet.destination)), source_{.address = packet.source,
                                                         .owners = lab_.owners_of(packet.source)},
          at_(sender) {
        journey_.packet = packet;
        journey_.ttl_left = packet.ttl;
        size_bytes_ = packet.size_bytes;
        journey_.steps.reserve(32);
    }

    Journey run() {
        while (visit())
            ;
        return std::move(journey_);
    }

  private:
    // Lets the current machine deal with the packet; false when that was its end.
    bool visit() {
        hop_ = nullptr;
        if (!settled_.condition().machine_on(at_))
            return end(Ending::machine_off);
        if (neighbour_takes_less_ && size_bytes_ > lab_.nics[in_].mtu_bytes + vlan_tag_bytes)
            return end(Ending::too_big_to_take);
        if (in_ && is_own_source())
            return end(Ending::own_source);
        if (settled_.is_local(at_, aim_))
            return deliver();
        hop_ = settled_.hop(at_, aim_);
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
        return pass_on();
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
            net::Address next_hop = direct ? aim_.address : lab_.routes[hop_->written].via;
            settled_.answering(hop_->out, direct ? aim_.owners : lab_.owners_of(next_hop),
                               answering_);
            if (answering_.size() != 1) {
                journey_.next_hop = next_hop;
                journey_.answering = answering_;
                return end(answering_.empty() ? Ending::no_neighbour : Ending::which_neighbour);
            }
            neighbour = answering_.front();
            machine = lab_.nics[neighbour].machine;
            neighbour_takes_less_ = lab_.nics[neighbour].mtu_bytes < hop_->mtu_bytes;
        }
        if (in_ && hop_->source_is_shared && has_source(machine)) {
            journey_.next_hop = lab_.addresses[hop_->source].address;
            return end(Ending::shared_source);
        }
        if (in_)
            --journey_.ttl_left;
        add_step(in_ ? Action::forward : Action::send, hop_->out);
        in_ = neighbour;
        at_ = machine;
        return true;
    }

    // Linux does not answer an ARP request that bears one of its own addresses as sender.
    bool has_source(MachineId neighbour) const {
        net::Address source = lab_.addresses[hop_->source].address;
        return source.family() == net::Family::ipv4
               && settled_.is_local(neighbour,
                                    {.address = source, .owners = lab_.owners_of(source)});
    }

    bool deliver() {
        add_step(Action::deliver, {});
        journey_.ending = Ending::delivered;
        return false;
    }

    bool end(Ending ending) {
        NicId out = hop_ == nullptr ? NicId{} : hop_->out;
        add_step(Action::drop, out);
        journey_.ending = ending;
        return false;
    }

    void add_step(Action action, NicId out) { journey_.steps.push_back({at_, in_, out, action}); }

    const routing::Settled& settled_;
    const lab::Lab& lab_;
    routing::Aim aim_;
    routing::Aim source_; // whoever has the source address
    Journey journey_;
    MachineId at_;
    NicId in_; // none while the packet is still at its sender
    // Ethernet devices take frames that are longer by a VLAN tag (IEEE 802.1Q).
    static constexpr unsigned vlan_tag_bytes = 4;
    unsigned size_bytes_ = 0; // of the packet, or of its largest fragment
    bool neighbour_takes_less_ = false;
    const routing::Hop* hop_ = nullptr;
    routing::Hop way_back_;
    std::vector<NicId> answering_;
};

} // namespace

Journey walk(const routing::Settled& settled, MachineId sender, const Packet& packet) {
    return Walk(settled, sender, packet).run();
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
                                           net::Address destination) {
    routing::Aim aim = settled.aim(destination);
    if (settled.is_local(sender, aim))
        return own_source(settled.lab(), sender, destination);
    const routing::Hop* hop = settled.hop(sender, aim);
    if (hop == nullptr)
        return std::nullopt;
    const lab::Lab& lab = settled.lab();
    lab::AddressId source = hop->source;
    if (destination.family() == net::Family::ipv6) // depends on more than the route
        source = routing::source_on(lab, hop->out, destination, destination).value_or(source);
    return lab.addresses[source].address;
}

std::optional<net::Address> error_source(const routing::Settled& settled, const Journey& journey) {
    const lab::Lab& lab = settled.lab();
    net::Address to = journey.packet.source;
    NicId in = journey.steps.back().in;
    bool is_own = settled.is_local(journey.last_machine(), settled.aim(to));
    if (in && !is_own && to.family() == net::Family::ipv6)
        if (auto source = routing::source_on(lab, in, to, to))
            return lab.addresses[*source].address;
    return source_address(settled, journey.last_machine(), to);
}

} // namespace jackal::packet
