// What every single cut would do: which pairs of machines lose their replies, which go another way,
// which expectations hold no more.
//
//     reach::Sweep sweep = reach::sweep(settled, {.what = {reach::CutKind::link}});
//     for (const reach::CutEffect& effect : sweep.cuts) // the worst first
//         if (effect.is_harmless()) …
//
// Each cut is compared with the whole lab: what the routing protocols know under it is worked out
// from what they knew before, and of the matrix (reach/matrix.h) only the cells of machines whose
// next hops are others then, and of those upstream of them. Of a lab of 10,000 subnets that takes
// 40 times less than anew. All pairs are compared, as long as a matrix takes, for cuts of
// switches, of their ports, VLANs, cables and wires, as other machines hear each other then; and
// for those of guests' NICs and guests that are more than one end of packets, as the next hop of
// others.
//
// Of pairs of cuts those are left out of which one is a guest that is but one end of packets, or
// its NIC. It forwards nothing, speaks no protocol, no route and no translation leads to its
// address, so under no other cut does anybody else's packet meet it, nor is a table another one for
// it: both together take just what each takes by itself.
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
    std::uint32_t from = 0; ///< position in Sweep::rows
    std::uint32_t to = 0;   ///< position in Sweep::columns
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
    /// By subnets, where any are lost or moved; most lost first, and no more than are kept (see
    /// limits::cut_losses).
    std::vector<CutLoss> losses;
    std::uint64_t more_losses = 0;         ///< how many there are besides
    std::vector<std::size_t> expectations; ///< that hold in the whole lab, and now do not
    /// How long it takes at most until all machines go by what protocols teach now: so long pairs
    /// that move may be out of reach. Unset if no protocol has to tell anybody.
    std::optional<routing::Duration> settles_after;

    bool is_harmless() const { return lost == 0 && expectations.empty(); }
};

struct Sweep {
    std::vector<std::string> rows;    ///< subnets of those who ask
    std::vector<std::string> columns; ///< subnets of those who are asked
    std::uint64_t pairs = 0;          ///< in the whole lab
    std::uint64_t replies = 0;        ///< in the whole lab
    std::size_t asked = 0;            ///< cuts, or pairs of cuts
    std::size_t independent = 0;      ///< pairs of cuts that are left out (see above)
    std::vector<CutEffect> cuts;      ///< those that were looked into: the worst first
};

/// A sweep in steps, for who shares the work in other ways than sweep() does. Refers to what it is
/// made from; threads may share one.
class JACKAL_API Sweeping {
  public:
    /// Throws std::length_error beyond limits::sweep_cuts and what grid() has, but for its cells.
    Sweeping(const routing::Settled& settled, const SweepQuestion& question);
    ~Sweeping();

    /// Cuts, or pairs of cuts, that are to be looked into; counted from 0.
    std::size_t size() const;
    /// One of them: nothing but the cut.
    const CutEffect& cut(std::size_t number) const;
    /// What comes of one. Of equal labs and questions the same, wherever it is worked out.
    CutEffect effect(std::size_t number) const;
    /// All effects, or those that there are, as sweep() gives them.
    Sweep sum_up(std::vector<std::optional<CutEffect>> effects) const;

  private:
    class Work;
    std::unique_ptr<Work> work_;
};

/// See above. `progress(done, total)` is called now and then, if given; where it returns false no
/// more is looked into. Throws as Sweeping does.
JACKAL_API Sweep sweep(const routing::Settled& settled, const SweepQuestion& question,
                       const std::function<bool(std::size_t, std::size_t)>& progress = {});

} // namespace jackal::reach
