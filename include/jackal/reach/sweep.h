// What every single cut would do: which pairs of machines lose their replies, which go another way,
// which expectations hold no more.
//
//     reach::Sweep sweep = reach::sweep(settled, {.what = {reach::CutKind::link}});
//     for (const reach::CutEffect& effect : sweep.cuts) // the worst first
//         if (effect.is_harmless()) …
//
// Each cut is compared with the whole lab pair by pair (reach/matrix.h gives the verdicts under
// both). What the routing protocols know under a cut is worked out from what they knew before.
#pragma once

#include "jackal/api.h"
#include "jackal/reach/grid.h"
#include "jackal/routing/convergence.h"

namespace jackal::reach {

enum class CutKind : std::uint8_t {
    link,    ///< wires between two machines or two switches, one by one
    tunnel,  ///< one by one
    peering, ///< between two sites; it is gone whichever side takes its consent back
    nic,     ///< of machines of the lab
    wire,    ///< of bonds
    machine, ///< of the lab
    switch_, ///< with all its ports
    port,    ///< of switches
    vlan,    ///< one of those that a port carries tagged
    session, ///< what two neighbours tell each other by a protocol
};

/// "link", "tunnel", "peering", "nic", "wire", "machine", "switch", "port", "vlan" or "session".
JACKAL_API std::string_view to_string(CutKind kind);
/// All kinds, in that order.
JACKAL_API std::span<const CutKind> all_cut_kinds();

/// All of a kind that can be cut under the condition of `settled`.
JACKAL_API std::vector<routing::Cut> cuts(const routing::Settled& settled, CutKind kind);

struct SweepQuestion {
    std::vector<CutKind> what;           ///< none: all kinds
    int at_once = 1;                     ///< cut together: 1 or 2
    Kind kind = Kind::guests;            ///< who asks and is asked; and hosts outside are asked
    std::optional<net::Family> family;   ///< unset: IPv4 where both have it, else IPv6
    std::optional<net::Service> service; ///< unset: an echo request
    unsigned threads = 1;
};

/// Pairs of one subnet with another.
struct CutLoss {
    std::string from;
    std::string to;
    std::uint64_t lost = 0;
    std::uint64_t moved = 0;

    friend bool operator==(const CutLoss&, const CutLoss&) = default;
};

/// What comes of cuts made at once. Pairs are ordered: a machine that asks, and a NIC that is to
/// answer; those of a machine that is itself cut off are not counted.
struct JACKAL_API CutEffect {
    std::vector<routing::Cut> cut; ///< as many as are made at once
    CutKind kind = CutKind::link;  ///< of the first
    std::uint64_t lost = 0;        ///< pairs that get no reply any more
    std::uint64_t own = 0;         ///< those of them that are pairs of a machine whose NIC is cut
    std::uint64_t gained = 0;      ///< pairs that get one now, and did not before
    std::uint64_t moved = 0;       ///< pairs whose packets go another way (Matrix::way)
    std::vector<CutLoss> losses;   ///< by subnets, where any are lost or moved; most lost first
    std::vector<std::size_t> expectations; ///< that hold in the whole lab, and now do not
    /// How long it takes at most until all machines go by what protocols teach now: so long pairs
    /// that move may be out of reach. Unset if no protocol has to tell anybody.
    std::optional<routing::Duration> settles_after;

    bool is_harmless() const { return lost == 0 && expectations.empty(); }
};

struct Sweep {
    std::uint64_t pairs = 0;     ///< in the whole lab
    std::uint64_t replies = 0;   ///< in the whole lab
    std::size_t asked = 0;       ///< cuts, or pairs of cuts
    std::vector<CutEffect> cuts; ///< those that were looked into: the worst first
};

/// See above. `progress(done, total)` is called now and then, if given; where it returns false no
/// more is looked into. Throws std::length_error beyond limits::sweep_cuts and what grid() has.
JACKAL_API Sweep sweep(const routing::Settled& settled, const SweepQuestion& question,
                       const std::function<bool(std::size_t, std::size_t)>& progress = {});

} // namespace jackal::reach
