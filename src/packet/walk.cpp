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
    case Ending::no_neighbour: return IcmpError::host_unreachable;
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
        if (in_ && is_own_source())
            return end(Ending::own_source);
        if (settled_.is_local(at_, aim_))
            return deliver();
        if (in_ && !lab_.machines[at_].forwards)
            return end(Ending::not_forwarding);
        hop_ = settled_.hop(at_, aim_);
        if (settled_.is_broadcast(at_, aim_) && (in_ || !journey_.packet.is_reply))
            return end(Ending::to_broadcast);
        if (hop_ == nullptr)
            return end(Ending::no_route);
        if (in_ && journey_.ttl_left <= 1)
            return end(Ending::ttl_expired);
        if (journey_.packet.size_bytes > hop_->mtu_bytes)
            return end(Ending::too_big);
        return pass_on();
    }

    // Linux drops an IPv4 packet that comes in with a source address of the machine's own
    // (fib_validate_source, accept_local off); IPv6 has no such check.
    bool is_own_source() const {
        return source_.address.family() == net::Family::ipv4 && settled_.is_local(at_, source_);
    }

    bool pass_on() {
        NicId neighbour = hop_->neighbour;
        MachineId machine = hop_->machine;
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
        }
        if (in_)
            --journey_.ttl_left;
        add_step(in_ ? Action::forward : Action::send, hop_->out);
        in_ = neighbour;
        at_ = machine;
        return true;
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
    const routing::Hop* hop_ = nullptr;
    std::vector<NicId> answering_;
};

} // namespace

Journey walk(const routing::Settled& settled, MachineId sender, const Packet& packet) {
    return Walk(settled, sender, packet).run();
}

std::optional<net::Address> source_address(const routing::Settled& settled, MachineId sender,
                                           net::Address destination) {
    routing::Aim aim = settled.aim(destination);
    if (settled.is_local(sender, aim))
        return destination;
    const routing::Hop* hop = settled.hop(sender, aim);
    if (hop == nullptr)
        return std::nullopt;
    return settled.lab().addresses[hop->source].address;
}

} // namespace jackal::packet
