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

    // As it comes in by a NIC of the first machine.
    Journey run_in(lab::NicId by) {
        header_.in = by;
        header_.may_not_fit = true;
        return run();
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
        const lab::NicId in = header_.in;
        if (is_touched_) {
            came_ = header_.flow();
            memory_ = memory();
        }
        if (!journey_.packet.shares.empty())
            choose_share();
        decide(settled_, at_, header_, memory_, decision_);
        write_down(in);
        at_ = decision_.machine;
        return decision_.action == Action::send || decision_.action == Action::forward;
    }

    // Which of equal next hops the packet takes here, if there are any.
    void choose_share() {
        std::size_t fork = journey_.forks.size();
        if (fork < journey_.packet.shares.size())
            header_.share = journey_.packet.shares[fork];
        else
            header_.share.reset();
    }

    void write_down(lab::NicId in) {
        auto step = static_cast<std::uint32_t>(journey_.steps.size());
        if (decision_.ways > 1)
            journey_.forks.push_back({step, decision_.ways, decision_.taken});
        if (decision_.crossing.tunnel) {
            decision_.crossing.step = step;
            journey_.crossings.push_back(std::move(decision_.crossing));
        }
        if (is_touched_ && came_ != header_.flow())
            journey_.rewrites.push_back({step, came_, header_.flow()});
        journey_.steps.push_back({at_, in, decision_.out, decision_.action});
        if (decision_.action == Action::deliver || decision_.action == Action::drop)
            write_down_end();
    }

    void write_down_end() {
        journey_.ending = decision_.ending;
        journey_.next_hop = decision_.next_hop;
        if (decision_.ending == Ending::filtered)
            journey_.denial = decision_.denial;
        if (decision_.ending == Ending::which_neighbour)
            journey_.answering = std::move(decision_.answering);
        if (decision_.ending == Ending::delivered && header_.is_error)
            journey_.told = header_.told;
    }

    // What the machine in front of the packet remembers of its flow.
    Memory memory() const {
        if (request_ != nullptr)
            return {passage(), nullptr};
        for (const Record& record : journey_.packet.records)
            if (record.machine == at_ && record.came == came_)
                return {std::nullopt, &record};
        return {};
    }

    // What it did with the request, if this belongs to it.
    std::optional<Memory::Passage> passage() const {
        net::Flow meant = header_.is_error ? header_.told : came_.reversed();
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
    net::Flow came_;         // to the current machine; only where packets are touched
    Memory memory_;          // of that machine; the same
    Decision decision_;
    Journey journey_;
};

} // namespace

Journey walk(const routing::Settled& settled, MachineId sender, const Packet& packet,
             const Journey* request) {
    return Walk(settled, sender, packet, request).run();
}

Journey walk_in(const routing::Settled& settled, lab::NicId by, const Packet& packet) {
    return Walk(settled, settled.lab().nics[by].machine, packet, nullptr).run_in(by);
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
