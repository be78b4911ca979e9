#include "paths.h"

#include "jackal/packet/tunnel.h"

#include <algorithm>

namespace jackal::probe {

using lab::MachineId;
using lab::NicId;

namespace {

class Search {
  public:
    Search(const routing::Settled& settled, net::Family family, Through through, bool in_lab)
        : settled_(settled), lab_(settled.lab()), family_(family), through_(through),
          in_lab_(in_lab) {}

    // By machine, the last hop of the fewest to it.
    std::vector<Hop> run(MachineId from) {
        came_by_.resize(lab_.machines.size());
        seen_.resize(lab_.machines.size());
        seen_segment_.resize(lab_.segments.size());
        std::vector<MachineId> queue{from};
        seen_[from.row] = true;
        for (std::size_t next = 0; next < queue.size(); ++next) {
            MachineId at = queue[next];
            if (at != from && !passes(at))
                continue;
            bool from_peer =
                lab_.machines[at].is_core && at != from && lab_.is_peering(came_by_[at.row].in);
            for (NicId out : lab_.nics_of(at))
                if (!from_peer || !lab_.is_peering(out)) // a core relays nothing between peers
                    spread(out, queue);
        }
        return std::move(came_by_);
    }

  private:
    bool passes(MachineId id) const {
        const lab::Machine& machine = lab_.machines[id];
        if (in_lab_ && machine.outside)
            return false;
        return machine.forwards[family_]
               || (through_ != Through::working && machine.kind == plan::MachineKind::router);
    }

    bool nic_works(NicId nic) const {
        return through_ != Through::working
               || (settled_.is_usable(nic) && settled_.condition().carries(lab_, nic, family_)
                   && lab_.first_address(nic, family_) != nullptr);
    }

    void spread(NicId out, std::vector<MachineId>& queue) {
        lab::SegmentId id = lab_.nics[out].segment;
        const lab::Segment& segment = lab_.segments[id];
        bool cut = segment.link && !settled_.condition().link_up(segment.link);
        bool apart = lab_.has_wiring() && through_ == Through::working; // then one NIC is not all
        if (!nic_works(out) || seen_segment_[id.row] || (cut && through_ == Through::working))
            return;
        if (through_ == Through::wires && lab_.tunnel(out))
            return;
        if (segment.link && !cut && through_ == Through::working && lab_.tunnel(out)
            && !packet::cross(settled_, out, small_bytes).works)
            return;
        seen_segment_[id.row] = !apart;
        for (NicId in : segment.nics) {
            MachineId there = lab_.nics[in].machine;
            if (seen_[there.row] || !nic_works(in)
                || (through_ == Through::working
                    && (!settled_.hears(out, in) || !is_on_link(lab_, {out, in}, family_))))
                continue;
            seen_[there.row] = true;
            came_by_[there.row] = {out, in};
            queue.push_back(there);
        }
    }

    static constexpr unsigned small_bytes = 84;

    const routing::Settled& settled_;
    const lab::Lab& lab_;
    net::Family family_;
    Through through_;
    bool in_lab_;                    // past nothing that is outside
    std::vector<Hop> came_by_;       // by machine
    std::vector<bool> seen_;         // by machine
    std::vector<bool> seen_segment_; // by segment
};

} // namespace

bool is_on_link(const lab::Lab& lab, const Hop& hop, net::Family family) {
    const lab::InterfaceAddress* there = lab.first_address(hop.in, family);
    return there != nullptr
           && std::ranges::any_of(lab.addresses_of(hop.out), [&](lab::AddressId id) {
                  return lab.addresses[id].prefix().contains(there->address);
              });
}

std::vector<Hop> Ground::shortest_path(MachineId from, MachineId to, net::Family family,
                                       Through through) {
    const lab::Lab& lab = settled_.lab();
    for (bool in_lab : {true, false}) {
        const Ways& came_by = ways({from, family, through, in_lab});
        std::vector<Hop> path;
        for (MachineId at = to; at != from && came_by[at.row].out;
             at = lab.nics[path.back().out].machine)
            path.push_back(came_by[at.row]);
        std::ranges::reverse(path);
        if (!path.empty())
            return path;
    }
    return {};
}

const Ground::Ways& Ground::ways(const Start& start) {
    constexpr std::size_t most_hops = 1 << 22; // to be kept: 32 MiB
    if (ways_.size() * settled_.lab().machines.size() >= most_hops)
        ways_.clear();
    const auto [known, is_new] = ways_.try_emplace(start);
    const auto& [from, family, through, in_lab] = start;
    if (is_new)
        known->second = Search(settled_, family, through, in_lab).run(from);
    return known->second;
}

const std::vector<routing::Neighbour>& Ground::neighbours(MachineId known_by) {
    const routing::Learned& learned = settled_.learned(known_by);
    const auto [known, is_new] = neighbours_.try_emplace(&learned);
    if (is_new)
        known->second = learned.neighbours();
    return known->second;
}

} // namespace jackal::probe
