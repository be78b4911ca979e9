// What a packet tool would have seen of a question, at every NIC and switch port on the way.
//
//     probe::Sightings sightings;
//     sightings.add(settled, exchange, std::chrono::seconds(1));
//     for (const probe::Sighting& s : sightings.all())
//         … s.at, s.nic, s.frame
//
// It follows the journeys of an exchange, which are those that its answer was worked out from, and
// costs about as much as they did. Neighbours are looked for once, in the second before.
#pragma once

#include "jackal/api.h"
#include "jackal/probe/exchange.h"

#include <map>
#include <memory>
#include <set>
#include <tuple>

namespace jackal::probe {

/// What a frame bears.
enum class Bears : std::uint8_t {
    echo_request, ///< RFC 792, RFC 4443
    echo_reply,
    error,         ///< of ICMP
    tcp,           ///< RFC 9293
    udp,           ///< RFC 768
    neighbour_ask, ///< an ARP request (RFC 826), or a Neighbour Solicitation (RFC 4861)
    neighbour_answer,
};

/// The parts of a connection that is opened and closed at once.
enum class TcpPart : std::uint8_t { syn, syn_ack, ack, client_fin, server_fin, last_ack, reset };

/// A question for the IPv4 address of a name (RFC 1035), or its answer.
struct NameTalk {
    std::string name;
    bool is_answer = false;
    std::optional<net::Address> address; ///< of the answer; unset: the name is not known
};

/// The four messages of a lease (RFC 2131).
enum class LeasePart : std::uint8_t { discover, offer, request, ack };
struct LeaseTalk {
    LeasePart part = LeasePart::discover;
    lab::NicId client;
    net::Address server;
    std::optional<net::Address> relay; ///< that has passed it on
};

/// A piece of a packet that was too large (RFC 791 section 3.2, RFC 8200 section 4.5).
struct Fragment {
    unsigned first_byte = 0; ///< of what the IP header is followed by
    unsigned bytes = 0;
    unsigned whole_bytes = 0; ///< of the packet that it is a piece of
    bool is_last = false;
};
/// So many of at most `most_bytes`; all but the last of a packet have a multiple of eight.
JACKAL_API std::vector<Fragment> pieces_of(const Fragment& whole, unsigned most_bytes);

/// An Ethernet frame with an IP packet in it, or the question for a neighbour.
struct Frame {
    net::Mac from;
    net::Mac to;
    std::uint16_t vlan = 0; ///< that it is tagged with (IEEE 802.1Q), or 0
    Bears bears = Bears::echo_request;
    /// Of what asks for a neighbour: who asks, and for whom; of the answer who answers, and whom.
    net::Flow flow;
    int ttl = 64;
    unsigned size_bytes = 84; ///< of the whole IP packet
    bool may_be_fragmented = false;
    std::optional<Fragment> fragment;
    std::uint16_t number = 1; ///< of the exchange, from 1
    TcpPart tcp = TcpPart::syn;
    packet::IcmpError error = packet::IcmpError::none;
    unsigned mtu_bytes = 0;              ///< of packet_too_big
    std::shared_ptr<const Frame> told;   ///< of an error: the packet that it tells of
    std::shared_ptr<const Frame> inside; ///< of a tunnel's outer packet (RFC 7348)
    std::uint32_t vni = 0;               ///< the same
    std::optional<NameTalk> name;
    std::optional<LeaseTalk> lease;
    bool is_router = false; ///< of who answers (RFC 4861 section 4.4)
};

/// A frame that passes a NIC, or a switch port.
struct Sighting {
    Microseconds at{0};
    lab::NicId nic;      ///< or none
    lab::PortId port;    ///< or none
    bool leaves = false; ///< the machine or the switch
    Frame frame;
};

/// Packets that a machine treated alike.
struct SeenFlow {
    lab::MachineId machine;
    lab::NicId in;  ///< none: it sent them
    lab::NicId out; ///< none: it took or dropped them
    net::Flow came; ///< as they came
    net::Flow left; ///< as they left, or were taken
    bool is_dropped = false;
    std::uint64_t packets = 0;
    std::uint64_t bytes = 0; ///< of IP packets
    Microseconds first{0};
    Microseconds last{0};
};

/// A NIC or a switch port.
struct Spot {
    lab::NicId nic;
    lab::PortId port;

    friend auto operator<=>(const Spot&, const Spot&) = default;
};

/// The spots that `text` means: all NICs of a machine, `MACHINE/NIC` or `SWITCH/PORT`. Empty if
/// there is none of that name.
JACKAL_API std::vector<Spot> spots(const lab::Lab& lab, std::string_view text);
/// `kettle/eth0`, `hall-sw/p3`.
JACKAL_API std::string name_of(const lab::Lab& lab, const Spot& spot);

class JACKAL_API Sightings {
  public:
    /// Of these spots alone, or of all on the way.
    explicit Sightings(const std::vector<Spot>& only = {});

    /// What is seen of an exchange whose first packet is sent at `start`. Pings follow each other
    /// after `interval`, the first one has the number `first`.
    void add(const routing::Settled& settled, const Exchange& exchange, Microseconds start,
             Microseconds interval = std::chrono::seconds(1), int first = 1);

    /// What passed a machine so far, by the time of the first packet.
    std::vector<SeenFlow> flows(lab::MachineId machine) const;

    /// By time; nothing is left.
    std::vector<Sighting> take();
    /// There was more than is kept.
    bool is_full() const { return seen_.size() >= most; }
    static constexpr std::size_t most = 400'000;

  private:
    class Follower;

    std::set<Spot> only_;
    std::vector<Sighting> seen_;
    using FlowKey = std::tuple<lab::MachineId, lab::NicId, lab::NicId, net::Flow, net::Flow>;
    std::map<FlowKey, SeenFlow> flows_;
    std::set<std::pair<lab::NicId, net::Address>> neighbours_; ///< that are known by a NIC
    std::set<lab::NicId> leased_;                              ///< whose lease was shown
};

} // namespace jackal::probe
