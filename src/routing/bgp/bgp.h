// BGP of both address families: sessions, and the paths that each router chooses of what its
// neighbours announce (RFC 4271, RFC 4760).
//
// Prefixes that the same routers announce and that no policy tells apart share one set of paths, so
// the work does not grow with the number of prefixes but with that of such sets.
#pragma once

#include "jackal/routing/learned.h"
#include "routing/prefix_numbers.h"

#include <functional>
#include <map>

namespace jackal::routing {

/// A prefix that a router announces of itself.
struct BgpOrigin {
    std::uint32_t prefix = 0; ///< its number
    lab::MachineId machine;
    std::uint32_t med = 0;
    bool incomplete = false; ///< redistributed

    friend auto operator<=>(const BgpOrigin&, const BgpOrigin&) = default;
};

/// How a machine gets to an address without BGP.
struct BgpWay {
    std::uint32_t cost = 0;
    std::vector<Gate> gates; ///< empty for the machine's own addresses
};

/// What BGP asks of the machines around it.
struct BgpGround {
    /// The way of a machine to an address, or nothing.
    std::function<std::optional<BgpWay>(lab::MachineId, net::Address)> way;
    /// What keeps TCP packets between two addresses from arriving: none, filtered or no_way.
    std::function<Discord(lab::MachineId, const net::Flow&, lab::FilterId&)> reach;
    /// True if the two addresses are of working NICs that hear each other.
    std::function<bool(const lab::BgpEnds&)> is_adjacent;
    /// True if the condition cuts the session of two machines.
    std::function<bool(lab::MachineId, lab::MachineId)> is_cut;
};

/// True if the policy accepts the path to the prefix, which it may change; without a policy all is
/// accepted. `own_as` is what it prepends.
bool apply(const lab::Lab& lab, lab::PolicyId policy, const net::Prefix& to, Path& path,
           std::uint32_t own_as);

class BgpTables {
  public:
    /// No more paths than this are looked at, so that no plan exhausts the computer.
    static constexpr std::size_t most_candidates = 50'000'000;

    BgpTables(const lab::Lab& lab, const PrefixNumbers& numbers);

    void settle(std::vector<BgpOrigin> origins, const BgpGround& ground);

    const std::vector<Gate>& gates() const { return gates_; }
    /// Gates of the lesson count from 0. Nothing for what the machine announces itself.
    std::optional<Lesson> lesson(lab::MachineId machine, std::uint32_t prefix) const;
    /// All paths that the machine has for the prefix, the best first.
    std::vector<Offer> paths(lab::MachineId machine, std::uint32_t prefix) const;
    /// What the machine announces to its neighbour of that position.
    std::vector<Offer> announced(lab::MachineId machine, std::uint32_t neighbour,
                                 net::Family family) const;
    const std::vector<Neighbour>& neighbours() const { return neighbours_; }
    const std::vector<Dispute>& disputes() const { return disputes_; }
    /// True if the lab has more than is worked out; what is left out is missing in all tables.
    bool is_too_large() const { return candidates_ > most_candidates; }

  private:
    static constexpr std::uint32_t none = ~std::uint32_t{0};

    /// One direction of a session that is up: what `from` tells `to`.
    struct Session {
        std::uint32_t from = 0; ///< speakers, by position among those of BGP
        std::uint32_t to = 0;
        std::uint32_t from_neighbour = 0; ///< position among the neighbours of `from`
        std::uint32_t to_neighbour = 0;
        net::Address from_address;
        net::Address to_address;
        bool inner = false; ///< inside one AS
    };
    /// A path at the router that may choose it.
    struct Candidate {
        Path path;
        std::uint32_t session = none; ///< that it came by; none for the router's own
        std::uint32_t cost = 0;       ///< to its next hop
        Decision lost_by = Decision::best;
    };
    struct Choice {
        bool has = false;
        Candidate best;
        std::uint32_t gate_set = none; ///< in sets_
        std::vector<Candidate> all;    ///< the best first
    };
    struct Class {
        std::uint32_t prefix = 0; ///< one of it
        std::vector<BgpOrigin> origins;
        std::vector<Choice> choices; ///< by speaker
    };

    void meet(const BgpGround& ground);
    Neighbour judged(std::uint32_t speaker, std::uint32_t neighbour, net::Family family,
                     const BgpGround& ground, Session& session) const;
    void classify(std::vector<BgpOrigin> origins);
    void converge(Class& group, const BgpGround& ground);
    std::optional<Path> told(const Class& group, const Session& session) const;
    std::vector<Candidate> candidates(const Class& group, std::uint32_t speaker,
                                      const BgpGround& ground);
    void decide(std::vector<Candidate>& candidates) const;
    const std::optional<BgpWay>& way(std::uint32_t speaker, net::Address to,
                                     const BgpGround& ground);
    std::uint32_t gates_of(std::uint32_t speaker, const std::vector<Candidate>& equal,
                           const BgpGround& ground);
    const lab::Speaker& told_of(std::uint32_t speaker) const { return *speakers_[speaker]; }
    std::uint32_t speaker_of(lab::MachineId machine) const;

    const lab::Lab* lab_;
    const PrefixNumbers* numbers_;
    std::vector<const lab::Speaker*> speakers_;
    std::vector<Session> sessions_;            ///< by the one that is told
    std::vector<std::uint32_t> first_session_; ///< by speaker
    std::vector<Class> classes_;
    std::vector<std::uint32_t> class_of_; ///< by prefix, or none
    std::vector<Gate> gates_;
    std::map<Gate, std::uint32_t> gate_numbers_;
    std::vector<std::vector<std::uint32_t>> sets_;
    std::map<std::vector<std::uint32_t>, std::uint32_t> set_numbers_;
    std::map<std::pair<std::uint32_t, net::Address>, std::optional<BgpWay>> ways_;
    std::vector<Neighbour> neighbours_;
    std::vector<Dispute> disputes_;
    std::size_t candidates_ = 0; ///< looked at so far
};

} // namespace jackal::routing
