// One ping, or one connection to a service: does the far end answer, by which way there and back,
// and if not, why not.
//
//     probe::PingQuestion question{.from = *probe::endpoint(lab, "chart-desk-1"),
//                                  .to = *probe::endpoint(lab, "tide-gauge")};
//     probe::PingAnswer answer = probe::ping(settled, question);
//     if (!answer.reaches)
//         std::cout << plan::slug(answer.diagnosis->cause) << ": "
//                   << answer.diagnosis->explanation << '\n';
#pragma once

#include "jackal/api.h"
#include "jackal/lab/finding.h"
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

/// Why a ping gets no reply.
struct Diagnosis {
    plan::Cause cause = plan::Cause::no_route;
    lab::MachineId where; ///< the machine that must change, or where the packet was lost
    std::string explanation;
    /// The first change that mends it; more may be needed behind it, see mend.h.
    lab::Remedy remedy;
    plan::Mark at;
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

struct PingAnswer {
    PingQuestion question;
    Outcome outcome = Outcome::unreachable;
    std::optional<net::Address> source; ///< unset if the sender has none to send from
    std::optional<net::Address> destination;
    int sent = 0;
    int received = 0;
    std::optional<packet::Journey> out;
    std::optional<packet::Journey> back; ///< set if the request arrived
    std::optional<Diagnosis> diagnosis;  ///< unset if and only if something was received
    SeenError error;
    int reply_ttl = 0; ///< as the sender sees it
    RoundTrip round_trip;
    bool reaches = false; ///< the ways there and back both work, whatever is lost by chance
};

/// The answer to `question` in the lab and condition of `settled`, which must outlive it.
JACKAL_API PingAnswer ping(const routing::Settled& settled, const PingQuestion& question);

/// The answers by all combinations of equal next hops, that of ping() first; at most `most`.
JACKAL_API std::vector<PingAnswer> ping_every_way(const routing::Settled& settled,
                                                  const PingQuestion& question,
                                                  std::size_t most = 256);

/// The error that reaches the source of a journey that ended at some machine.
JACKAL_API SeenError seen_error(const routing::Settled& settled, const packet::Journey& journey);

/// True if two journeys went the same way to the same end, or neither took place.
JACKAL_API bool same_way(const std::optional<packet::Journey>& one,
                         const std::optional<packet::Journey>& other);

/// The time a packet takes by the journey's links and machines, without jitter.
JACKAL_API Microseconds travel_time(const lab::Lab& lab, const packet::Journey& journey);

/// Why nothing that enters a tunnel at `end` comes out of it; nothing if it works, or is switched
/// off.
JACKAL_API std::optional<Diagnosis> explain_tunnel(const routing::Settled& settled, lab::NicId end);

} // namespace jackal::probe
