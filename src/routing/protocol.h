// The contract between a routing protocol and the rest: each protocol has one home, a folder beside
// this file, and nobody else asks which protocol it is.
//
// A SpokenProtocol tells what does not depend on a condition: its name, what a plan tells a speaker
// of it, how long news take. ProtocolTables are what it taught every machine under one condition.
// To add a protocol, write both in a folder of its own and enter the first in protocol.cpp.
#pragma once

#include "jackal/routing/condition.h"
#include "jackal/routing/convergence.h"
#include "jackal/routing/learned.h"
#include "routing/prefix_numbers.h"

#include <functional>
#include <memory>
#include <span>

namespace jackal::routing {

/// A route that a machine brings into a protocol from elsewhere.
struct Injection {
    std::uint32_t prefix = 0; ///< its number
    lab::MachineId machine;
    std::uint32_t metric = 0;
    std::uint8_t type = 2;      ///< OSPF: of an external route
    bool redistributed = false; ///< else of the machine's `networks`, or its default route
    bool is_own = false;        ///< redistributed: a route of the machine's own, not learned
    /// BGP: of the route by which the machine itself goes; none of a default route that it
    /// announces whether or not it has one.
    std::optional<unsigned> distance{};
    /// BGP and OSPF: its one next hop, if others may be told of it; else an address 0.
    Gate gate{};

    friend auto operator<=>(const Injection&, const Injection&) = default;
};

/// How a machine gets to an address by its own routes and interior protocols.
struct InteriorWay {
    std::uint32_t cost = 0;
    std::vector<Gate> gates; ///< empty for the machine's own addresses
    int length = 128;        ///< of the prefix that leads there

    friend bool operator==(const InteriorWay&, const InteriorWay&) = default;
};

/// What a protocol can ask of the machines around it, while all are worked out.
struct Surroundings {
    /// The way of a machine to an address, or nothing.
    std::function<std::optional<InteriorWay>(lab::MachineId, net::Address)> way;
    /// What keeps TCP packets of one machine from arriving at another: none, filtered or no_way.
    std::function<Discord(lab::MachineId, lab::MachineId, const net::Flow&, lab::FilterId&)> reach;
    /// True if the two addresses are of working NICs that hear each other.
    std::function<bool(const lab::BgpEnds&)> is_adjacent;
    /// True if the condition cuts what two machines tell each other.
    std::function<bool(Protocol, lab::MachineId, lab::MachineId)> is_cut;
};

/// What a protocol taught every machine, under one condition.
class ProtocolTables {
  public:
    virtual ~ProtocolTables() = default;

    virtual Protocol protocol() const = 0;
    /// True if these tables are about that family.
    virtual bool serves(net::Family family) const = 0;

    /// Works out what is known with those routes brought in, sorted.
    virtual void settle(std::vector<Injection> injections, const Surroundings& surroundings) = 0;
    /// True if there is nothing to settle without injections: it is worked out already.
    virtual bool is_settled_alone() const { return false; }
    /// The same under a condition in which less works; null if that is no quicker than from
    /// nothing.
    virtual std::unique_ptr<ProtocolTables> reduced(const Condition& /*condition*/) const {
        return nullptr;
    }

    virtual const std::vector<Gate>& gates() const = 0;
    /// Gates of the lesson count from 0. Nothing for what the machine announces itself.
    virtual std::optional<Lesson> lesson(lab::MachineId machine, std::uint32_t prefix) const = 0;
    /// What tells the prefix from others for which some machine has a lesson with other gates, or
    /// of another kind.
    virtual void add_traits(std::uint32_t prefix, std::vector<std::uint64_t>& into) const {
        into.push_back(prefix);
    }
    /// Adds machines and prefixes for which lessons may differ from those `before`, in tables of
    /// the same protocol and lab. False if that is not known, and any may.
    virtual bool add_changes(const ProtocolTables& /*before*/,
                             std::vector<LessonChange>& /*into*/) const {
        return false;
    }
    /// All that the machine has for the prefix, the best first.
    virtual std::vector<Offer> offers(lab::MachineId machine, std::uint32_t prefix) const = 0;
    /// What the neighbour's machine announces to it.
    virtual std::vector<Offer> announced(const Neighbour& /*neighbour*/) const { return {}; }
    virtual void add_neighbours(std::vector<Neighbour>& into) const = 0;
    /// Adds those of `before`, tables of the same protocol and lab, that are none any more. False
    /// if that is not known, or there may be others instead.
    virtual bool add_lost_neighbours(const ProtocolTables& /*before*/,
                                     std::vector<Neighbour>& /*into*/) const {
        return false;
    }
    virtual void add_link_states(lab::MachineId /*machine*/,
                                 std::vector<LinkState>& /*into*/) const {}
    virtual std::span<const Dispute> disputes() const { return {}; }
    /// True if the lab has more than is worked out; what is left out is missing in all tables.
    virtual bool is_too_large() const = 0;

  protected:
    /// The lesson as an offer, without who announced it.
    Offer offer_of(const Lesson& lesson, const net::Prefix& to) const;
};

/// What a speaker of a protocol is told to bring into it.
struct Exports {
    const std::vector<lab::Redistribution>& redistribute;
    plan::DefaultRoute default_route = plan::DefaultRoute::none;
    std::uint32_t metric = 0;         ///< of what is redistributed, unless told
    std::uint32_t default_metric = 0; ///< of the default route
    std::span<const net::Prefix> networks = {};
};

/// What does not depend on a condition.
class SpokenProtocol {
  public:
    virtual ~SpokenProtocol() = default;

    virtual Protocol protocol() const = 0;
    /// "OSPF", "RIP" or "BGP".
    virtual std::string_view title() const = 0;
    virtual plan::RouteSource source() const = 0;
    /// True for protocols that find the ways that others' sessions go.
    virtual bool is_interior() const = 0;
    /// What its packets are, for a filter: TCP or UDP with a port of the destination, or neither.
    virtual net::Protocol carrier() const = 0;
    virtual std::uint16_t port(net::Family family) const = 0;

    /// What the speaker is told of it; nothing if it does not speak it.
    virtual std::optional<Exports> exports(const lab::Speaker& speaker) const = 0;
    /// Empty tables that know who hears whom; none for a family that nobody needs.
    virtual void make_tables(const lab::Lab& lab, const PrefixNumbers& numbers,
                             const Condition& condition, const lab::Wiring& wiring,
                             std::vector<std::unique_ptr<ProtocolTables>>& into) const = 0;

    /// See routing::state_name.
    virtual std::string_view state_name(const Neighbour& neighbour) const = 0;

    /// When a machine misses a neighbour that says nothing any more, on average.
    virtual Duration silence_time(const lab::Lab& lab, const Neighbour& neighbour) const = 0;
    /// When two machines that come together exchange routes.
    virtual Duration meeting_time(const lab::Lab& lab, const Neighbour& neighbour) const = 0;
    /// How long news take from the neighbour to the machine, without the delay of the wire.
    virtual Duration news_time() const = 0;
    /// True if news travel by a wire that both are on, and take its delay.
    virtual bool is_on_wire() const { return true; }
};

/// All, in the order of the enumeration.
std::span<const SpokenProtocol* const> protocols();

/// True if a route of that kind is of that source.
bool is_from(RouteKind kind, plan::RouteSource source);

const SpokenProtocol& spoken(Protocol protocol);
const SpokenProtocol& ospf_protocol();
const SpokenProtocol& rip_protocol();
const SpokenProtocol& bgp_protocol();

} // namespace jackal::routing
