#include "jackal/packet/walk.h"

namespace jackal::packet {

using lab::MachineId;
using lab::NicId;
using routing::Route;
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
        : settled_(settled), lab_(settled.lab()), at_(sender) {
        journey_.packet = packet;
        journey_.ttl_left = packet.ttl;
    }

    Journey run() {
        while (visit())
            ;
        return std::move(journey_);
    }

  private:
    // Lets the current machine deal with the packet; false when that was its end.
    bool visit() {
        if (!settled_.condition().machine_on(at_))
            return end(Ending::machine_off);
        route_ = nullptr;
        if (in_ && is_own_source())
            return end(Ending::own_source);
        route_ = settled_.route(at_, journey_.packet.destination);
        if (route_ != nullptr && route_->kind == RouteKind::local)
            return deliver();
        if (in_ && !lab_.machines[at_].forwards)
            return end(Ending::not_forwarding);
        if (route_ == nullptr)
            return end(Ending::no_route);
        if (route_->kind == RouteKind::broadcast)
            return end(Ending::to_broadcast);
        if (in_ && journey_.ttl_left <= 1)
            return end(Ending::ttl_expired);
        if (journey_.packet.size_bytes > lab_.nics[route_->out].mtu_bytes)
            return end(Ending::too_big);
        return pass_on();
    }

    // Linux drops an IPv4 packet that comes in with a source address of the machine's own
    // (fib_validate_source, accept_local off); IPv6 has no such check.
    bool is_own_source() const {
        net::Address source = journey_.packet.source;
        if (source.family() == net::Family::ipv6)
            return false;
        const Route* back = settled_.route(at_, source);
        return back != nullptr && back->kind == RouteKind::local;
    }

    bool pass_on() {
        bool direct = route_->kind == RouteKind::connected;
        net::Address next_hop = direct ? journey_.packet.destination : route_->via;
        settled_.answering(route_->out, next_hop, answering_);
        if (answering_.size() != 1) {
            journey_.next_hop = next_hop;
            journey_.answering = answering_;
            return end(answering_.empty() ? Ending::no_neighbour : Ending::which_neighbour);
        }
        if (in_)
            --journey_.ttl_left;
        add_step(in_ ? Action::forward : Action::send, route_->out, next_hop);
        in_ = answering_.front();
        at_ = lab_.nics[in_].machine;
        return true;
    }

    bool deliver() {
        add_step(Action::deliver, {}, {});
        journey_.ending = Ending::delivered;
        return false;
    }

    bool end(Ending ending) {
        NicId out = route_ == nullptr ? NicId{} : route_->out;
        add_step(Action::drop, out, journey_.next_hop);
        journey_.ending = ending;
        return false;
    }

    void add_step(Action action, NicId out, net::Address next_hop) {
        journey_.steps.push_back({at_, in_, out, action, next_hop, route_});
    }

    const routing::Settled& settled_;
    const lab::Lab& lab_;
    Journey journey_;
    MachineId at_;
    NicId in_; // none while the packet is still at its sender
    const Route* route_ = nullptr;
    std::vector<NicId> answering_;
};

} // namespace

Journey walk(const routing::Settled& settled, MachineId sender, const Packet& packet) {
    return Walk(settled, sender, packet).run();
}

std::optional<net::Address> source_address(const routing::Settled& settled, MachineId sender,
                                           net::Address destination) {
    const Route* route = settled.route(sender, destination);
    if (route == nullptr)
        return std::nullopt;
    return route->source;
}

} // namespace jackal::packet
