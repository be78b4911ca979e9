// A ping, or a connection to a service: the way there and back, and what the sender sees of it.
//
//     probe::Exchange exchange = probe::exchange(settled, question);
//     if (!exchange.replied()) …               // diagnosis.h says why
//
// An exchange costs two packet walks. It says what happens; why is another question, and dearer.
#pragma once

#include "jackal/api.h"
#include "jackal/packet/icmp.h"
#include "jackal/packet/walk.h"
#include "jackal/probe/endpoint.h"

#include <chrono>

namespace jackal::probe {

using Microseconds = std::chrono::duration<double, std::micro>;

/// What a machine adds to the round-trip time when a packet passes it.
constexpr Microseconds time_per_machine{20};

struct PingQuestion {
    Endpoint from; ///< must have a machine
    Endpoint to;
    std::optional<net::Service> service; ///< unset: an echo request
    bool is_served = false;              ///< takes it that something listens wherever it is asked
    std::optional<net::Family> family;   ///< unset: IPv4 where both ends have it, else IPv6
    std::optional<net::Address> source;  ///< unset: chosen by the route, or by from.nic
    int count = 4;
    int ttl = 64;                ///< of the request; replies start at 64
    unsigned payload_bytes = 56; ///< behind the ICMP header
    std::uint64_t seed = 1;      ///< of jitter and loss
    /// Which of equal next hops the packets take there and back, see packet::Packet::shares.
    std::vector<std::uint32_t> shares[2];
    /// What machines keep of earlier pings that were the same flow.
    std::vector<packet::Record> records;
};

/// The ICMP error that the sender sees.
struct SeenError {
    packet::IcmpError error = packet::IcmpError::none;
    lab::MachineId machine; ///< which machine sends it
    net::Address from;
    bool heard = false; ///< it comes back to the sender
};

/// What the sender sees.
enum class Outcome : std::uint8_t {
    reply,       ///< an echo reply
    open,        ///< the service answers
    refused,     ///< the machine answers that nothing listens (RFC 9293 section 3.5.2; RFC 1122)
    dropped,     ///< a filter drops the request or what answers it
    lost,        ///< by chance
    unreachable, ///< anything else
};

/// "reply", "open", "refused", "dropped", "lost" or "unreachable".
JACKAL_API std::string_view to_string(Outcome outcome);

struct RoundTrip {
    Microseconds min{0};
    Microseconds mean{0};
    Microseconds max{0};
};

/// Where an exchange came to its end.
enum class Gap : std::uint8_t {
    none,            ///< something was received
    name_unknown,    ///< nobody tells the sender the address of a host outside
    no_address,      ///< the ends have no addresses of one family
    request_lost,    ///< the request did not get to the other end: see `out`
    nothing_listens, ///< no service there: the machine says so, see `back`
    answer_lost,     ///< what comes back did not get home: see `back`
    other_source,    ///< it came from another address than the sender had asked
    all_lost,        ///< the ways work, but all packets were lost by chance
};

struct JACKAL_API Exchange {
    PingQuestion question;
    Gap gap = Gap::none;
    std::optional<net::Address> source; ///< unset if the sender has none to send from
    std::optional<net::Address> destination;
    int sent = 0;
    int received = 0;
    std::optional<packet::Journey> out;
    std::optional<packet::Journey> back; ///< set if the request arrived
    SeenError error;
    int reply_ttl = 0; ///< as the sender sees it
    RoundTrip round_trip;
    bool reaches = false; ///< the ways there and back both work, whatever is lost by chance

    bool replied() const { return gap == Gap::none; }
    Outcome outcome() const;
};

/// What comes of `question` in the lab and condition of `settled`, which must outlive it.
JACKAL_API Exchange exchange(const routing::Settled& settled, const PingQuestion& question);

/// The other addresses of the family that the end had, where the question names a machine that has
/// several: in the order of its NICs.
JACKAL_API std::vector<net::Address> other_destinations(const lab::Lab& lab,
                                                        const Exchange& exchange);

/// The error that reaches the source of a journey that ended at some machine.
JACKAL_API SeenError seen_error(const routing::Settled& settled, const packet::Journey& journey);

/// True if two journeys went the same way to the same end, or neither took place.
JACKAL_API bool same_way(const std::optional<packet::Journey>& one,
                         const std::optional<packet::Journey>& other);

/// The time a packet takes by the journey's links and machines, without jitter.
JACKAL_API Microseconds travel_time(const lab::Lab& lab, const packet::Journey& journey);

} // namespace jackal::probe
