// Which NICs hear each other: broadcast domains, worked out from switches, VLANs and cables.
//
//     lab::Wiring wiring(lab, lab::WiringState(lab));
//     if (wiring.domain(one) != wiring.domain(other))
//         lab::Apart why = lab::why_apart(lab, state, one, other);
//
// A switch keeps its VLANs apart (IEEE 802.1Q); a cable joins those that both its ends carry in the
// same way, tagged or not. There is no spanning tree: a loop is found, and reported.
#pragma once

#include "jackal/api.h"
#include "jackal/lab/lab.h"

#include <map>
#include <set>

namespace jackal::lab {

/// What of the wiring works.
struct JACKAL_API WiringState {
    /// As the plan says.
    explicit WiringState(const Lab& lab);

    bool works(const Lab& lab, PortId port) const;

    std::vector<bool> switch_on;
    std::vector<bool> port_up;
    std::vector<bool> cable_up;
    std::vector<bool> plug_up;
    std::set<std::pair<PortId, std::uint16_t>> barred; ///< VLANs that a port carries no more

    friend bool operator==(const WiringState&, const WiringState&) = default;
};

/// Frames of a VLAN can go round.
struct WiringLoop {
    std::uint16_t vlan = 0;    ///< on the first of its ports
    std::vector<PortId> ports; ///< in the order that a frame passes them
    CableId cable;             ///< one of the loop, or none if only segments close it
};

/// Who hears whom under one state of switches, ports and cables. Refers to its lab, which must
/// outlive it. It never changes, so threads may share one.
class JACKAL_API Wiring {
  public:
    /// Nothing is joined but what stands on the same segment.
    Wiring() = default;
    Wiring(const Lab& lab, const WiringState& state);
    Wiring(const Lab&& lab, const WiringState& state) = delete;

    /// NICs of the same number hear each other. A number without meaning, comparable among NICs.
    std::uint32_t domain(const Lab& lab, NicId nic) const {
        return domains_.empty() ? lab.nics[nic].segment.row : domains_[nic.row];
    }
    /// That of NICs that are directly on the segment.
    std::uint32_t domain(SegmentId segment) const;

    /// The switch ports that frames between two NICs of one domain pass, in their order.
    std::vector<PortId> way(NicId from, NicId to) const;

    const std::vector<WiringLoop>& loops() const { return loops_; }

    /// The wire that the NIC uses: the first that works; or none.
    const Plug* active_plug(NicId nic) const;

  private:
    // A VLAN of a switch, or the segment of a subnet.
    using Node = std::uint32_t;
    struct Joint {
        Node to;
        PortId leaves; // none if it leaves a segment
        PortId enters; // none if it enters a segment
    };

    Node node(SwitchId owner, std::uint16_t vlan);
    Node root(Node node);
    void join(Node a, Node b, PortId leaves, PortId enters, CableId cable, std::uint16_t vlan);
    void join_cable(const WiringState& state, CableId cable);
    void join_segment(const WiringState& state, PortId port);
    void attach_nics(const WiringState& state);
    std::vector<PortId> path(Node from, Node to) const;

    const Lab* lab_ = nullptr;
    std::map<std::pair<SwitchId, std::uint16_t>, Node> nodes_; // after those of the segments
    std::vector<Node> parent_;
    std::vector<std::vector<Joint>> joints_;
    std::vector<std::uint32_t> domains_;    // by NIC
    std::vector<Node> nic_nodes_;           // by NIC; none if it is on no wire that works
    std::map<NicId, std::uint32_t> active_; // of NICs with plugs: which works
    std::set<CableId> looped_;
    std::vector<WiringLoop> loops_;
};

/// What keeps two NICs of one subnet from hearing each other.
struct Apart {
    enum class Kind : std::uint8_t {
        plug_down,   ///< no wire of the bond `nic` is up
        port_down,   ///< `port` is
        switch_off,  ///< that of `port` is
        cable_down,  ///< `cable` is
        wrong_vlan,  ///< `port` is in another VLAN than `vlan`
        not_carried, ///< `port` does not let `vlan` through
        tag_differs, ///< one end of `cable` sends `vlan` tagged, and the other, `port`, untagged
        not_wired,   ///< no cable joins them
    };
    Kind kind = Kind::not_wired;
    NicId nic;
    NicId from; ///< the other of the two
    PortId port;
    CableId cable;
    std::uint16_t vlan = 0; ///< the one that the subnet uses
};

/// The VLAN that a subnet uses: the one it names, or that of most of its NICs on switch ports.
JACKAL_API std::uint16_t vlan_of(const Lab& lab, SubnetId subnet);

/// Why two NICs of one subnet are in different broadcast domains.
JACKAL_API Apart why_apart(const Lab& lab, const WiringState& state, NicId one, NicId other);

} // namespace jackal::lab
