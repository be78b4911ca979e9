#include "jackal/packet/walk.h"

namespace jackal::packet {

using lab::MachineId;

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

// Goes from machine to machine, and writes down what each does.
class Walk {
  public:
    Walk(const routing::Settled& settled, MachineId sender, const Packet& packet,
         const Journey* request)
        : settled_(settled), header_(header_of(settled, packet)), at_(sender),
          is_touched_(settled.lab().touches_packets()), request_(request) {
        journey_.packet = packet;
        journey_.steps.reserve(32);
        // Only the first packet of a flow is translated by rule. Of answers to a request that the
        // machine did not see, only those over UDP can be taken for one.
        header_.begins_flow = request == nullptr || packet.protocol == net::Protocol::udp;
    }

    Journey run() {
        while (visit())
            ;
        journey_.flow = header_.flow();
        journey_.ttl_left = header_.ttl;
        journey_.packet.shares = {};
        journey_.packet.records = {};
        return std::move(journey_);
    }

    // The error that the last machine of the request sends.
    Journey run_error() {
        header_.is_error = true;
        header_.begins_flow = false;
        header_.told = request_->flow;
        return run();
    }

  private:
    // Lets the current machine deal with the packet; false when that was its end.
    bool visit() {
        net::Flow came = header_.flow();
        lab::NicId in = header_.in;
        std::size_t fork = journey_.forks.size();
        if (fork < journey_.packet.shares.size())
            header_.share = journey_.packet.shares[fork];
        else
            header_.share.reset();
        Decision decision = decide(settled_, at_, header_, is_touched_ ? memory(came) : Memory{});
        write_down(decision, came, in);
        at_ = decision.machine;
        return decision.action == Action::send || decision.action == Action::forward;
    }

    void write_down(Decision& decision, const net::Flow& came, lab::NicId in) {
        auto step = static_cast<std::uint32_t>(journey_.steps.size());
        if (decision.ways > 1)
            journey_.forks.push_back({step, decision.ways, decision.taken});
        if (decision.crossing.tunnel) {
            decision.crossing.step = step;
            journey_.crossings.push_back(std::move(decision.crossing));
        }
        if (is_touched_ && came != header_.flow())
            journey_.rewrites.push_back({step, came, header_.flow()});
        journey_.steps.push_back({at_, in, decision.out, decision.action});
        if (decision.action == Action::deliver && header_.is_error)
            journey_.told = header_.told;
        if (decision.action == Action::deliver || decision.action == Action::drop) {
            journey_.ending = decision.ending;
            journey_.denial = decision.denial;
            journey_.next_hop = decision.next_hop;
            journey_.answering = std::move(decision.answering);
        }
    }

    // What the machine in front of the packet, which came to it so, remembers of its flow.
    Memory memory(const net::Flow& came) const {
        if (request_ != nullptr)
            return {passage(came), nullptr};
        for (const Record& record : journey_.packet.records)
            if (record.machine == at_ && record.came == came)
                return {std::nullopt, &record};
        return {};
    }

    // What it did with the request, if this belongs to it.
    std::optional<Memory::Passage> passage(const net::Flow& came) const {
        net::Flow meant = header_.is_error ? header_.told : came.reversed();
        for (std::uint32_t i = 0; i < request_->steps.size(); ++i)
            if (request_->steps[i].machine == at_)
                if (net::Flow left = request_->flow_at(i); left == meant) {
                    for (const Rewrite& rewrite : request_->rewrites)
                        if (rewrite.step == i)
                            return Memory::Passage{rewrite.before, left};
                    return Memory::Passage{left, left};
                }
        return std::nullopt;
    }

    const routing::Settled& settled_;
    Header header_;
    MachineId at_;
    const bool is_touched_;  // by filters or translations, somewhere in the lab
    const Journey* request_; // that this answers, or null
    Journey journey_;
};

} // namespace

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

} // namespace jackal::packet
