#include "jackal/lab/wiring.h"

#include <algorithm>

namespace jackal::lab {

namespace {

template <class Rows>
std::vector<bool> states(const Rows& rows) {
    std::vector<bool> up;
    for (const auto& row : rows)
        up.push_back(row.up);
    return up;
}

constexpr std::uint32_t nowhere = ~std::uint32_t{0};

} // namespace

WiringState::WiringState(const Lab& lab)
    : switch_on(states(lab.switches)), port_up(states(lab.ports)), cable_up(states(lab.cables)),
      plug_up(states(lab.plugs)) {}

bool WiringState::works(const Lab& lab, PortId port) const {
    return port_up[port.row] && switch_on[lab.ports[port].owner.row];
}

namespace {

bool sends_tagged(const WiringState& state, const Lab& lab, PortId id, std::uint16_t vlan) {
    const Port& port = lab.ports[id];
    return vlan != port.untagged && port.carries(vlan) && !state.barred.contains({id, vlan});
}

bool sends_untagged(const WiringState& state, const Lab& lab, PortId id, std::uint16_t vlan) {
    return vlan != 0 && vlan == lab.ports[id].untagged && !state.barred.contains({id, vlan});
}

bool sends(const WiringState& state, const Lab& lab, PortId id, std::uint16_t vlan) {
    return sends_tagged(state, lab, id, vlan) || sends_untagged(state, lab, id, vlan);
}

// The VLAN that a wire's frames are in on the switch; 0 if the port drops them.
std::uint16_t vlan_at(const WiringState& state, const Lab& lab, const Plug& plug) {
    if (plug.vlan != 0)
        return sends_tagged(state, lab, plug.port, plug.vlan) ? plug.vlan : 0;
    std::uint16_t untagged = lab.ports[plug.port].untagged;
    return sends_untagged(state, lab, plug.port, untagged) ? untagged : 0;
}

} // namespace

Wiring::Wiring(const Lab& lab, const WiringState& state) : lab_(&lab) {
    if (!lab.has_wiring())
        return;
    parent_.resize(lab.segments.size());
    joints_.resize(lab.segments.size());
    for (Node i = 0; i < parent_.size(); ++i)
        parent_[i] = i;
    for (CableId id : lab.cables.ids())
        join_cable(state, id);
    for (PortId id : lab.ports.ids())
        join_segment(state, id);
    attach_nics(state);
}

Wiring::Node Wiring::node(SwitchId owner, std::uint16_t vlan) {
    auto [found, is_new] = nodes_.emplace(std::pair(owner, vlan), parent_.size());
    if (is_new) {
        parent_.push_back(found->second);
        joints_.emplace_back();
    }
    return found->second;
}

// Ways to a root are halved while they are walked, so that a long chain is not walked anew for
// each of its links.
Wiring::Node Wiring::root(Node at) {
    while (parent_[at] != at)
        at = parent_[at] = parent_[parent_[at]];
    return at;
}

void Wiring::join(Node a, Node b, PortId leaves, PortId enters, CableId cable, std::uint16_t vlan) {
    constexpr std::size_t most_loops = 20;
    Node one = root(a);
    Node other = root(b);
    if (one == other) {
        if (loops_.size() < most_loops && (!cable || looped_.insert(cable).second)) {
            WiringLoop loop{.vlan = vlan, .ports = path(b, a), .cable = cable};
            if (leaves)
                loop.ports.push_back(leaves);
            if (enters)
                loop.ports.push_back(enters);
            loops_.push_back(std::move(loop));
        }
        return; // a wire of a loop is not needed to tell who hears whom
    }
    parent_[std::max(one, other)] = std::min(one, other);
    joints_[a].push_back({b, leaves, enters});
    joints_[b].push_back({a, enters, leaves});
}

void Wiring::join_cable(const WiringState& state, CableId id) {
    const Cable& cable = lab_->cables[id];
    const Port& first = lab_->ports[cable.first];
    const Port& second = lab_->ports[cable.second];
    if (!state.cable_up[id.row] || !state.works(*lab_, cable.first)
        || !state.works(*lab_, cable.second))
        return;
    if (sends_untagged(state, *lab_, cable.first, first.untagged)
        && sends_untagged(state, *lab_, cable.second, second.untagged))
        join(node(first.owner, first.untagged), node(second.owner, second.untagged), cable.first,
             cable.second, id, first.untagged);
    for (std::uint16_t vlan : first.tagged)
        if (sends_tagged(state, *lab_, cable.first, vlan)
            && sends_tagged(state, *lab_, cable.second, vlan))
            join(node(first.owner, vlan), node(second.owner, vlan), cable.first, cable.second, id,
                 vlan);
}

void Wiring::join_segment(const WiringState& state, PortId id) {
    const Port& port = lab_->ports[id];
    if (port.segment && state.works(*lab_, id) && sends_untagged(state, *lab_, id, port.untagged))
        join(node(port.owner, port.untagged), port.segment.row, id, {}, {}, port.untagged);
}

void Wiring::attach_nics(const WiringState& state) {
    for (NicId nic : lab_->nics.ids())
        nic_nodes_.push_back(lab_->nics[nic].segment.row);
    for (std::uint32_t i = 0; i < lab_->plugs.size(); ++i)
        nic_nodes_[lab_->plugs[i].nic.row] = nowhere;
    for (std::uint32_t i = 0; i < lab_->plugs.size(); ++i) {
        const Plug& plug = lab_->plugs[i];
        Node& at = nic_nodes_[plug.nic.row];
        if (active_.contains(plug.nic) || !state.plug_up[i]
            || (plug.port && !state.works(*lab_, plug.port)))
            continue;
        active_[plug.nic] = i;
        if (!plug.port)
            at = lab_->nics[plug.nic].segment.row;
        else if (std::uint16_t vlan = vlan_at(state, *lab_, plug); vlan != 0)
            at = node(lab_->ports[plug.port].owner, vlan);
    }
    for (NicId nic : lab_->nics.ids()) {
        Node at = nic_nodes_[nic.row];
        // Alone: a number that no node has.
        domains_.push_back(at == nowhere ? nowhere - nic.row : root(at));
    }
    for (Node i = 0; i < parent_.size(); ++i)
        parent_[i] = root(i);
}

std::uint32_t Wiring::domain(SegmentId segment) const {
    return parent_.empty() ? segment.row : parent_[segment.row];
}

const Plug* Wiring::active_plug(NicId nic) const {
    auto found = active_.find(nic);
    return found == active_.end() ? nullptr : &lab_->plugs[found->second];
}

std::vector<PortId> Wiring::path(Node from, Node to) const {
    std::map<Node, std::pair<Node, const Joint*>> came_by{{from, {from, nullptr}}};
    std::vector<Node> queue{from};
    for (std::size_t i = 0; i < queue.size() && !came_by.contains(to); ++i)
        for (const Joint& joint : joints_[queue[i]])
            if (came_by.emplace(joint.to, std::pair(queue[i], &joint)).second)
                queue.push_back(joint.to);
    std::vector<PortId> ports;
    if (!came_by.contains(to))
        return ports;
    while (to != from) {
        auto [before, joint] = came_by[to];
        if (joint->enters)
            ports.push_back(joint->enters);
        if (joint->leaves)
            ports.push_back(joint->leaves);
        to = before;
    }
    std::ranges::reverse(ports);
    return ports;
}

std::vector<PortId> Wiring::way(NicId from, NicId to) const {
    if (domains_.empty() || nic_nodes_[from.row] == nowhere || nic_nodes_[to.row] == nowhere)
        return {};
    std::vector<PortId> ports;
    if (const Plug* plug = active_plug(from); plug != nullptr && plug->port)
        ports.push_back(plug->port);
    for (PortId port : path(nic_nodes_[from.row], nic_nodes_[to.row]))
        ports.push_back(port);
    if (const Plug* plug = active_plug(to); plug != nullptr && plug->port)
        ports.push_back(plug->port);
    return ports;
}

// --- why not -------------------------------------------------------------------------------

std::uint16_t vlan_of(const Lab& lab, SubnetId subnet) {
    if (lab.subnets[subnet].vlan != 0)
        return lab.subnets[subnet].vlan;
    std::map<std::uint16_t, std::size_t> counts;
    for (NicId nic : lab.segments[lab.subnets[subnet].segment].nics)
        for (const Plug& plug : lab.plugs_of(nic))
            if (plug.port)
                ++counts[plug.vlan != 0 ? plug.vlan : lab.ports[plug.port].untagged];
    std::uint16_t most = 0;
    for (auto [vlan, count] : counts)
        if (most == 0 || count > counts[most])
            most = vlan;
    return most;
}

namespace {

using Maybe = std::optional<Apart>;

class Question {
  public:
    Question(const Lab& lab, const WiringState& state, NicId one, NicId other)
        : lab_(lab), state_(state), segment_(lab.nics[one].segment), one_(one), other_(other),
          vlan_(vlan_of(lab, lab.segments[segment_].subnet)) {}

    Apart run() {
        for (NicId nic : {other_, one_})
            if (auto found = own_wire(nic))
                return *found;
        return between();
    }

  private:
    // A switch, or the subnet's own segment: none.
    using Place = SwitchId;

    Apart make(Apart::Kind kind, NicId nic, PortId port = {}, CableId cable = {}) const {
        return {kind, nic, nic == one_ ? other_ : one_, port, cable, vlan_};
    }

    const Plug* plug_of(NicId nic) const {
        auto plugs = lab_.plugs_of(nic);
        for (const Plug& plug : plugs)
            if (state_.plug_up[static_cast<std::size_t>(&plug - lab_.plugs.data())]
                && (!plug.port || state_.works(lab_, plug.port)))
                return &plug;
        return plugs.empty() ? nullptr : plugs.data();
    }

    Maybe off(NicId nic, PortId port) const {
        if (!state_.switch_on[lab_.ports[port].owner.row])
            return make(Apart::Kind::switch_off, nic, port);
        if (!state_.port_up[port.row])
            return make(Apart::Kind::port_down, nic, port);
        return {};
    }

    Maybe own_wire(NicId nic) const {
        const Plug* plug = plug_of(nic);
        if (plug == nullptr)
            return {};
        if (!state_.plug_up[static_cast<std::size_t>(plug - lab_.plugs.data())])
            return make(Apart::Kind::plug_down, nic, plug->port);
        if (!plug->port)
            return {};
        if (auto found = off(nic, plug->port))
            return found;
        std::uint16_t wanted = plug->vlan != 0 ? plug->vlan : lab_.ports[plug->port].untagged;
        if (wanted != vlan_)
            return make(Apart::Kind::wrong_vlan, nic, plug->port);
        if (vlan_at(state_, lab_, *plug) == 0)
            return make(Apart::Kind::not_carried, nic, plug->port);
        return {};
    }

    Place place(NicId nic) const {
        const Plug* plug = plug_of(nic);
        return plug != nullptr && plug->port ? lab_.ports[plug->port].owner : Place{};
    }

    struct Edge {
        PortId leaves; // none from the segment
        PortId enters; // none into it
        CableId cable; // none between switch and segment
    };

    std::multimap<Place, Edge> edges() const {
        std::multimap<Place, Edge> result;
        for (CableId id : lab_.cables.ids()) {
            const Cable& cable = lab_.cables[id];
            result.emplace(lab_.ports[cable.first].owner, Edge{cable.first, cable.second, id});
            result.emplace(lab_.ports[cable.second].owner, Edge{cable.second, cable.first, id});
        }
        for (PortId id : lab_.ports.ids())
            if (lab_.ports[id].segment == segment_) {
                result.emplace(lab_.ports[id].owner, Edge{id, {}, {}});
                result.emplace(Place{}, Edge{{}, id, {}});
            }
        return result;
    }

    // The first thing wrong on the shortest way that cables make, whatever their VLANs.
    Apart between() const {
        Place from = place(one_);
        Place to = place(other_);
        auto edges = this->edges();
        std::map<Place, Edge> came_by{{from, {}}};
        std::vector<Place> queue{from};
        for (std::size_t i = 0; i < queue.size(); ++i) {
            auto [first, last] = edges.equal_range(queue[i]);
            for (auto edge = first; edge != last; ++edge) {
                Place there = edge->second.enters ? lab_.ports[edge->second.enters].owner : Place{};
                if (came_by.emplace(there, edge->second).second)
                    queue.push_back(there);
            }
        }
        if (from == to || !came_by.contains(to))
            return make(Apart::Kind::not_wired, other_);
        std::vector<Edge> way;
        for (Place at = to; at != from;) {
            way.push_back(came_by[at]);
            at = way.back().leaves ? lab_.ports[way.back().leaves].owner : Place{};
        }
        for (const Edge& edge : way)
            if (auto found = wrong_with(edge))
                return *found;
        return make(Apart::Kind::not_wired, other_);
    }

    Maybe wrong_with(const Edge& edge) const {
        if (edge.cable && !state_.cable_up[edge.cable.row])
            return make(Apart::Kind::cable_down, other_, {}, edge.cable);
        for (PortId port : {edge.leaves, edge.enters})
            if (port)
                if (auto found = off(other_, port))
                    return found;
        for (PortId port : {edge.leaves, edge.enters})
            if (port && !sends(state_, lab_, port, vlan_))
                return make(edge.cable && lab_.ports[port].is_trunk ? Apart::Kind::not_carried
                                                                    : Apart::Kind::wrong_vlan,
                            other_, port, edge.cable);
        if (edge.cable
            && sends_tagged(state_, lab_, edge.leaves, vlan_)
                   != sends_tagged(state_, lab_, edge.enters, vlan_))
            return make(Apart::Kind::tag_differs, other_,
                        sends_untagged(state_, lab_, edge.leaves, vlan_) ? edge.leaves
                                                                         : edge.enters,
                        edge.cable);
        return {};
    }

    const Lab& lab_;
    const WiringState& state_;
    SegmentId segment_;
    NicId one_;
    NicId other_;
    std::uint16_t vlan_;
};

} // namespace

Apart why_apart(const Lab& lab, const WiringState& state, NicId one, NicId other) {
    return Question(lab, state, one, other).run();
}

} // namespace jackal::lab
