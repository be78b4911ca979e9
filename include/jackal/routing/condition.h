// What is off, down or cut in a lab, on top of what its plan says.
#pragma once

#include "jackal/api.h"
#include "jackal/lab/lab.h"
#include "jackal/lab/wiring.h"

#include <set>

namespace jackal::routing {

enum class Protocol : std::uint8_t { ospf, rip, bgp };

/// "ospf", "rip" or "bgp".
JACKAL_API std::string_view to_string(Protocol protocol);

/// What is off, down or cut, on top of what the plan itself says. Threads may share one that none
/// of them changes.
class JACKAL_API Condition {
  public:
    /// The condition that the plan describes.
    explicit Condition(const lab::Lab& lab);

    /// Cuts `MACHINE` (off), `MACHINE/NIC` (down) or `MACHINE--MACHINE` (every link between the
    /// two down, tunnels too) or `SITE--SITE` (their peering); with a switch for a machine the
    /// same, `SWITCH/PORT:VLAN` for one VLAN of a trunk, `MACHINE/WIRE` for a wire of a bond, and
    /// `ospf:`, `rip:` or `bgp:MACHINE--MACHINE` for what two machines tell each other by it.
    /// False, and no change, if the lab has no such thing.
    bool cut(const lab::Lab& lab, std::string_view what);

    /// True if nothing works here that does not work under the other, and the wiring is the same.
    bool only_takes_from(const Condition& other) const;

    /// True if the two tell each other nothing by the protocol.
    bool is_silenced(Protocol protocol, lab::MachineId one, lab::MachineId other) const {
        return !silenced_.empty()
               && silenced_.contains({protocol, std::min(one, other), std::max(one, other)});
    }

    bool machine_on(lab::MachineId id) const { return machine_on_[id.row]; }
    bool nic_up(lab::NicId id) const { return nic_up_[id.row]; }
    bool link_up(lab::LinkId id) const { return link_up_[id.row]; }
    const lab::WiringState& wiring() const { return wiring_; }
    /// True if the NIC is up and speaks the family: IPv6 needs an MTU of 1280 (RFC 8200 section 5).
    bool carries(const lab::Lab& lab, lab::NicId nic, net::Family family) const;

  private:
    bool cut_links(const lab::Lab& lab, std::string_view one, std::string_view other);
    bool cut_switch(const lab::Lab& lab, lab::SwitchId owner, std::string_view port);
    bool cut_session(const lab::Lab& lab, Protocol protocol, std::string_view ends);
    bool cut_wire(const lab::Lab& lab, lab::MachineId machine, std::string_view wire);

    std::vector<bool> machine_on_;
    std::vector<bool> nic_up_;
    std::vector<bool> link_up_;
    lab::WiringState wiring_;
    std::set<std::tuple<Protocol, lab::MachineId, lab::MachineId>> silenced_; // the lower one first
};

} // namespace jackal::routing
