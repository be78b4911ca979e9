// One thing that can be cut: off, down or silenced, on top of what a plan says.
//
//     auto cut = routing::parse_cut(lab, "quay-r1--lamp-r1");
//     condition.apply(*cut);
//     to_string(lab, *cut);                    // "quay-r1--lamp-r1"
//
// | text | what it cuts |
// |---|---|
// | `MACHINE`, `SWITCH` | all of it: it is off |
// | `MACHINE/NIC`, `SWITCH/PORT` | the NIC or port: it is down |
// | `MACHINE/WIRE` | a wire of a bond |
// | `ONE--OTHER` | every link, tunnel or cable between two machines or switches; between sites
// their peering | | `MACHINE/NIC--MACHINE/NIC`, `SWITCH/PORT--SWITCH/PORT` | the one link or cable
// with those two ends | | `SWITCH/PORT:VLAN` | one VLAN of a trunk | | `ospf:ONE--OTHER` (`rip:`,
// `bgp:`) | what two machines tell each other by the protocol |
#pragma once

#include "jackal/api.h"
#include "jackal/lab/lab.h"

#include <optional>
#include <string>
#include <variant>
#include <vector>

namespace jackal::routing {

enum class Protocol : std::uint8_t { ospf, rip, bgp };

/// "ospf", "rip" or "bgp".
JACKAL_API std::string_view to_string(Protocol protocol);

struct MachineCut {
    lab::MachineId machine;
    friend bool operator==(const MachineCut&, const MachineCut&) = default;
};
struct NicCut {
    lab::NicId nic;
    friend bool operator==(const NicCut&, const NicCut&) = default;
};
/// A wire of a bond.
struct WireCut {
    std::uint32_t plug = 0; ///< position in Lab::plugs
    friend bool operator==(const WireCut&, const WireCut&) = default;
};
/// What lies between two ends: links, tunnels and cables.
struct LinkCut {
    std::string ends[2]; ///< as they were named: `quay-r1` or `quay-r1/eth2`
    std::vector<lab::LinkId> links;
    std::vector<lab::CableId> cables;
    /// The same links and cables, in whatever order their ends were named.
    friend bool operator==(const LinkCut& a, const LinkCut& b) {
        return a.links == b.links && a.cables == b.cables;
    }
};
struct SwitchCut {
    lab::SwitchId owner;
    friend bool operator==(const SwitchCut&, const SwitchCut&) = default;
};
struct PortCut {
    lab::PortId port;
    std::optional<std::uint16_t> vlan; ///< unset: all of it
    friend bool operator==(const PortCut&, const PortCut&) = default;
};
struct SessionCut {
    Protocol protocol = Protocol::ospf;
    lab::MachineId ends[2];
    friend bool operator==(const SessionCut&, const SessionCut&) = default;
};

using Cut = std::variant<MachineCut, NicCut, WireCut, LinkCut, SwitchCut, PortCut, SessionCut>;

/// What `text` means in the lab; nothing if the lab has no such thing.
JACKAL_API std::optional<Cut> parse_cut(const lab::Lab& lab, std::string_view text);

/// Why parse_cut() gave nothing: what is missing, and the forms that there are.
JACKAL_API std::string unknown_cut(std::string_view text);

/// As parse_cut() takes it.
JACKAL_API std::string to_string(const lab::Lab& lab, const Cut& cut);

/// Every link and cable, each by itself, one of several by its NICs or ports: not what stands for
/// peerings or for what is outside.
JACKAL_API std::vector<Cut> single_cuts(const lab::Lab& lab);

} // namespace jackal::routing
