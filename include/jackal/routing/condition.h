// What is off, down or cut in a lab, on top of what its plan says.
#pragma once

#include "jackal/api.h"
#include "jackal/lab/lab.h"
#include "jackal/lab/wiring.h"
#include "jackal/routing/cut.h"

#include <set>

namespace jackal::routing {

/// What is off, down or cut, on top of what the plan itself says. Threads may share one that none
/// of them changes.
class JACKAL_API Condition {
  public:
    /// The condition that the plan describes.
    explicit Condition(const lab::Lab& lab);

    /// Cuts one thing more.
    void apply(const Cut& cut);
    /// The same by its text. Throws std::invalid_argument if the lab has no such thing (see
    /// parse_cut).
    void cut(const lab::Lab& lab, std::string_view what);

    /// True if nothing works here that does not work under the other, and the wiring is the same.
    bool only_takes_from(const Condition& other) const;

    /// What is on or up under one of two conditions only, ascending.
    struct Difference {
        std::vector<lab::MachineId> machines;
        std::vector<lab::NicId> nics;
        std::vector<lab::LinkId> links;
    };
    Difference difference(const Condition& other) const;

    /// True if the two tell each other nothing by the protocol.
    bool is_silenced(Protocol protocol, lab::MachineId one, lab::MachineId other) const {
        return !silenced_.empty()
               && silenced_.contains({protocol, std::min(one, other), std::max(one, other)});
    }

    bool machine_on(lab::MachineId id) const { return machine_on_[id.row] != 0; }
    bool nic_up(lab::NicId id) const { return nic_up_[id.row] != 0; }
    bool link_up(lab::LinkId id) const { return link_up_[id.row] != 0; }
    const lab::WiringState& wiring() const { return wiring_; }
    /// True if the NIC is up and speaks the family: IPv6 needs an MTU of 1280 (RFC 8200 section 5).
    bool carries(const lab::Lab& lab, lab::NicId nic, net::Family family) const;

    friend bool operator==(const Condition&, const Condition&) = default;

  private:
    using Flags = std::vector<std::uint8_t>; // 0 or 1; whole conditions are compared often

    Flags machine_on_;
    Flags nic_up_;
    Flags link_up_;
    lab::WiringState wiring_;
    std::set<std::tuple<Protocol, lab::MachineId, lab::MachineId>> silenced_; // the lower one first
};

/// True if the plan itself holds that down, so that a cut of it changes nothing, and no end of a
/// cut brings it back.
JACKAL_API bool is_held_down(const lab::Lab& lab, const Cut& what);

} // namespace jackal::routing
