// BGP of both address families: sessions, and the paths that each router chooses of what its
// neighbours announce (RFC 4271, RFC 4760).
//
// Prefixes that the same routers announce and that no policy tells apart share one set of paths, so
// the work does not grow with the number of prefixes but with that of such sets.
#pragma once

#include "jackal/limits.h"
#include "routing/protocol.h"

#include <map>

namespace jackal::routing {

/// Where speakers listen (RFC 4271 section 8.2.1).
constexpr std::uint16_t bgp_port = 179;

/// Its id as a reflector (RFC 4456 section 7).
net::Address cluster_id(const lab::Speaker& speaker);
/// True if the path was where the speaker is already (RFC 4271 section 9.1.2, RFC 4456 section 8).
bool is_loop(const Path& path, const lab::Speaker& speaker);

class BgpTables final : public ProtocolTables {
  public:
    /// No more paths than this are looked at, so that no plan exhausts the computer.
    static constexpr std::size_t most_candidates = limits::bgp_paths;

    BgpTables(const lab::Lab& lab, const PrefixNumbers& numbers);

    Protocol protocol() const override { return Protocol::bgp; }
    bool serves(net::Family /*family*/) const override { return true; }
    /// Prefixes that routers announce of themselves.
    void settle(std::vector<Injection> origins, const Surroundings& ground) override;

    const std::vector<Gate>& gates() const override { return gates_; }
    std::optional<Lesson> lesson(lab::MachineId machine, std::uint32_t prefix) const override;
    /// All paths that others gave the machine for the prefix.
    std::vector<Offer> offers(lab::MachineId machine, std::uint32_t prefix) const override;
    /// All paths that the machine has for the prefix, the best first.
    std::vector<Offer> paths(lab::MachineId machine, std::uint32_t prefix) const;
    /// What the machine announces to its neighbour of that position.
    std::vector<Offer> announced(lab::MachineId machine, std::uint32_t neighbour,
                                 net::Family family) const;
    std::vector<Offer> announced(const Neighbour& neighbour) const override {
        return announced(neighbour.machine, neighbour.configured, neighbour.family);
    }

    void add_neighbours(std::vector<Neighbour>& into) const override {
        into.insert(into.end(), neighbours_.begin(), neighbours_.end());
    }
    std::span<const Dispute> disputes() const override { return disputes_; }
    /// True if the lab has more than is worked out; what is left out is missing in all tables.
    bool is_too_large() const override { return candidates_ > most_candidates; }

  private:
    static constexpr std::uint32_t none = ~std::uint32_t{0};
    using Ways = std::map<std::pair<std::uint32_t, net::Address>, std::optional<InteriorWay>>;

    /// One direction of a session that is up: what `from` tells `to`.
    struct Session {
        std::uint32_t from = 0; ///< speakers, by position among those of BGP
        std::uint32_t to = 0;
        std::uint32_t from_neighbour = 0; ///< position among the neighbours of `from`
        std::uint32_t to_neighbour = 0;
        net::Address from_address;
        net::Address to_address;
        bool inner = false; ///< inside one AS
        /// The NIC of `from` by which it speaks, if that leads to `to` directly and in another AS.
        lab::NicId direct_from;
    };
    /// A path at the router that may choose it.
    struct Candidate {
        Path path;
        std::uint32_t session = none;     ///< that it came by; none for the router's own
        std::uint32_t cost = 0;           ///< to its next hop
        std::optional<unsigned> distance; ///< of the machine's own: see Injection
        lab::NicId out;                   ///< of the machine's own: where its next hop is, or none
        Decision lost_by = Decision::best;
    };
    struct Choice {
        bool has = false;
        Candidate best;                ///< of which others are told
        std::optional<Candidate> used; ///< by the machine itself, if another one told of it
        std::uint32_t gate_set = none; ///< in sets_
        std::vector<Candidate> all;    ///< the best first
    };
    struct Class {
        std::uint32_t prefix = 0; ///< one of it
        std::vector<Injection> origins;
        std::vector<Choice> choices; ///< by speaker
    };

    void meet(const Surroundings& ground);
    Neighbour judged(std::uint32_t speaker, std::uint32_t neighbour, net::Family family,
                     const Surroundings& ground, Session& session) const;
    void classify(std::vector<Injection> origins);
    unsigned distance(const Candidate& candidate) const;
    void choose_for_table(Choice& choice) const;
    bool settle_choices(Class& group, const Surroundings& ground, bool backwards);
    void converge(Class& group, const Surroundings& ground);
    void tell_apart(const Class& one, const Class& other);
    lab::NicId nic_with(lab::MachineId machine, net::Address address, net::Address peer) const;
    bool may_name_third_party(const Candidate& best, const Session& session) const;
    std::optional<net::Address> gate_towards(const Candidate& best, const Session& session) const;
    std::optional<Path> told(const Class& group, const Session& session) const;
    std::optional<Gate> direct_gate(const Session& session, net::Address to) const;
    std::vector<Candidate> candidates(const Class& group, std::uint32_t speaker,
                                      const Surroundings& ground);
    void decide(std::vector<Candidate>& candidates) const;
    Ways find_own_ways() const;
    void find_taken_sessions(const Surroundings& ground);
    bool leads_elsewhere(std::uint32_t speaker, std::uint32_t prefix, net::Address to) const;
    const std::optional<InteriorWay>& way(std::uint32_t speaker, net::Address to,
                                          const Surroundings& ground);
    std::uint32_t gates_of(std::uint32_t speaker, const std::vector<Candidate>& equal,
                           const Surroundings& ground);
    const lab::Speaker& told_of(std::uint32_t speaker) const { return *speakers_[speaker]; }
    std::uint32_t speaker_of(lab::MachineId machine) const;

    const lab::Lab* lab_;
    const PrefixNumbers* numbers_;
    std::vector<const lab::Speaker*> speakers_;
    bool prefers_by_policy_ = false;                    ///< some policy sets a local preference
    std::vector<Session> sessions_;                     ///< by the one that is told
    std::vector<std::uint32_t> first_session_;          ///< by speaker
    std::vector<std::vector<std::uint32_t>> listeners_; ///< by speaker: whom it tells
    std::vector<Class> classes_;
    std::vector<std::uint32_t> class_of_; ///< by prefix, or none
    std::vector<Gate> gates_;
    std::map<Gate, std::uint32_t> gate_numbers_;
    std::vector<std::vector<std::uint32_t>> sets_;
    std::map<std::vector<std::uint32_t>, std::uint32_t> set_numbers_;
    Ways ways_;     ///< by speaker and next hop
    Ways interior_; ///< of those, by routes that are not of BGP
    Ways own_ways_; ///< those of them that BGP itself found in the round before
    std::vector<Neighbour> neighbours_;
    std::vector<Dispute> disputes_;
    std::size_t candidates_ = 0; ///< looked at so far
};

} // namespace jackal::routing
