// RIP of both address families: what each router hears of its neighbours, hop by hop (RFC 2453,
// RFC 2080).
#pragma once

#include "jackal/limits.h"
#include "routing/protocol.h"

namespace jackal::routing {

class RipTables final : public ProtocolTables {
  public:
    static constexpr std::uint8_t infinity = 16; ///< RFC 2453 section 3.4
    /// No more than this is worked out, so that no plan exhausts the computer: machines on one
    /// segment that hear each other, pairs of neighbours, and times that one hears of a prefix.
    static constexpr std::size_t most_on_segment = limits::speakers_on_segment;
    static constexpr std::size_t most_hearings = limits::rip_pairs;
    static constexpr std::size_t most_news = limits::rip_news;

    RipTables(const lab::Lab& lab, const PrefixNumbers& numbers, const Condition& condition,
              const lab::Wiring& wiring);

    Protocol protocol() const override { return Protocol::rip; }
    bool serves(net::Family /*family*/) const override { return true; }
    /// Routes that a router starts to announce, besides the prefixes of its NICs.
    void settle(std::vector<Injection> origins, const Surroundings& surroundings) override;

    const std::vector<Gate>& gates() const override { return gates_; }
    std::optional<Lesson> lesson(lab::MachineId machine, std::uint32_t prefix) const override;
    std::vector<Offer> offers(lab::MachineId machine, std::uint32_t prefix) const override;
    /// What the machine says to whoever is on the neighbour's segment: prefixes and hops.
    std::vector<Offer> announced(const Neighbour& neighbour) const override;

    void add_neighbours(std::vector<Neighbour>& into) const override {
        into.insert(into.end(), neighbours_.begin(), neighbours_.end());
    }
    /// True if the lab has more than is worked out; what is left out is missing in all tables.
    bool is_too_large() const override { return too_large_; }

  private:
    static constexpr std::uint32_t none = ~std::uint32_t{0};

    struct Interface {
        lab::MachineId machine;
        const lab::RipNic* told = nullptr;
        net::Address address;
        std::uint32_t domain = 0;
    };
    struct Hearing { ///< what a router says comes to another, by this gate of that one
        lab::MachineId from;
        lab::MachineId to;
        std::uint32_t domain = 0;
        std::uint32_t gate = 0;
        std::uint16_t cost = 1;
    };
    struct Best {
        std::uint8_t metric = infinity;
        bool is_own = false;       ///< a route of the machine's own: it goes by no other
        bool is_late = false;      ///< it was brought in from elsewhere, after others were heard
        std::uint32_t gate = none; ///< none for its own
    };

    void judge(const Interface& from, const Interface& to, const Condition& condition);

    const lab::Lab* lab_;
    const PrefixNumbers* numbers_;
    std::vector<Interface> interfaces_;
    std::vector<Hearing> hearings_;    ///< by the one that speaks
    std::vector<std::uint32_t> first_; ///< by machine, in hearings_
    std::vector<Gate> gates_;
    std::vector<lab::MachineId> gate_from_; ///< whose address the gate is
    std::vector<std::uint32_t> gate_domain_;
    std::vector<std::vector<std::pair<lab::MachineId, Best>>> table_; ///< by prefix, by machine
    std::vector<Neighbour> neighbours_;
    bool too_large_ = false;
};

} // namespace jackal::routing
