#include "engine.h"

#include <algorithm>
#include <fmt/format.h>

namespace judge {

using namespace jackal;

namespace {

bool redirects(const lab::Lab& lab, lab::MachineId machine) {
    const lab::Duties* duties = lab.duties_of(machine);
    return duties != nullptr
           && std::ranges::any_of(duties->translations, [](const lab::Translation& translation) {
                  return translation.kind == plan::Translation::Kind::destination;
              });
}

// A machine with two NICs on a broadcast domain answers ARP by both, and gets the packet by
// whichever answer came first: luck, if only one of the NICs has room for it or other filters, or
// translates it.
bool takes_by_luck(const routing::Settled& settled, const packet::Journey& journey) {
    const lab::Lab& lab = settled.lab();
    for (const packet::Step& step : journey.steps)
        for (lab::NicId other : lab.nics_of(step.machine))
            if (step.in && other != step.in && settled.is_usable(other)
                && settled.hears(other, step.in)
                && ((lab.nics[other].mtu_bytes != lab.nics[step.in].mtu_bytes
                     && journey.packet.size_bytes > lab::ipv6_minimum_mtu_bytes / 2)
                    || lab.nics[other].guard != lab.nics[step.in].guard
                    || redirects(lab, step.machine)))
                return true;
    return false;
}

// A host that does not forward leaves an IPv6 next hop that did not answer before for the next best
// route (RFC 4861 section 6.3.6): whether it has found out yet depends on what was asked earlier.
bool may_turn_away(const routing::Settled& settled, const packet::Journey& journey) {
    lab::MachineId at = journey.last_machine();
    net::Address far = journey.packet.destination;
    if (journey.ending != packet::Ending::no_neighbour || far.family() == net::Family::ipv4
        || settled.lab().machines[at].forwards.ipv6
        || settled.route(at, far)->kind != routing::RouteKind::static_route)
        return false;
    return std::ranges::count_if(
               settled.routes(at),
               [&](const routing::Route& route) { return route.to.contains(far); })
           > 1;
}

bool is_luck(const routing::Settled& settled, const std::optional<packet::Journey>& journey) {
    return journey
           && (journey->ending == packet::Ending::which_neighbour
               || may_turn_away(settled, *journey) || takes_by_luck(settled, *journey));
}

// A machine that has translated a flow sees it come by once more, takes it for a second one that
// wants the same ends, and gives it others: errors then tell of a packet that nobody sent.
bool comes_by_again(const std::optional<packet::Journey>& journey) {
    if (!journey)
        return false;
    return std::ranges::any_of(journey->rewrites, [&](const packet::Rewrite& rewrite) {
        return std::ranges::count(journey->steps, journey->steps[rewrite.step].machine,
                                  &packet::Step::machine)
               > 1;
    });
}

// Two machines in a row have one address. Which error comes of it, if any, depends on what the
// machines have learned of each other before.
bool is_no_reply(const routing::Settled& settled, const std::optional<packet::Journey>& journey) {
    if (!journey)
        return false;
    // Nor is it told alike by all sockets that a broadcast address is none to connect to.
    bool to_broadcast = journey->ending == packet::Ending::to_broadcast
                        && journey->packet.protocol == net::Protocol::tcp;
    bool own_filtered =
        journey->ending == packet::Ending::filtered
        && settled.is_local(journey->last_machine(), settled.aim(journey->flow.source));
    return to_broadcast || own_filtered || journey->ending == packet::Ending::own_source
           || journey->ending == packet::Ending::shared_source;
}

// Whether a router took the packet for its Subnet-Router anycast address (RFC 4291 section 2.6.1):
// the packet was meant for another machine, and answers to such packets have rules of their own.
bool is_anycast(const lab::Lab& lab, const packet::Journey& journey) {
    if (journey.ending != packet::Ending::delivered)
        return false;
    for (lab::NicId nic : lab.nics_of(journey.last_machine()))
        for (lab::AddressId row : lab.addresses_of(nic))
            if (lab.addresses[row].address == journey.packet.destination)
                return false;
    return true;
}

// Whether the error found its way back only by chance.
bool is_lucky_error(const routing::Settled& settled, const probe::PingAnswer& answer) {
    if (answer.error.error == packet::IcmpError::none || answer.out->steps.size() == 1)
        return false;
    auto from = packet::error_source(settled, *answer.out);
    if (!from)
        return false;
    packet::Journey error = packet::walk_error(settled, *answer.out, *from);
    return !error.forks.empty() || is_luck(settled, error);
}

Answer answer_of(const routing::Settled& settled, const probe::PingAnswer& ping) {
    Answer answer;
    if (ping.diagnosis)
        answer.cause = plan::slug(ping.diagnosis->cause);
    if ((ping.out && is_anycast(settled.lab(), *ping.out)) || is_luck(settled, ping.out)
        || is_luck(settled, ping.back) || is_lucky_error(settled, ping)) {
        answer.kind = Answer::Kind::luck;
    } else if (ping.outcome() == probe::Outcome::open) {
        answer.kind = Answer::Kind::open;
    } else if (ping.outcome() == probe::Outcome::refused) {
        answer.kind = Answer::Kind::refused;
    } else if (ping.reaches) {
        answer.kind = Answer::Kind::reply;
        answer.ttl = ping.back->ttl_left;
    } else if (is_no_reply(settled, ping.out) || is_no_reply(settled, ping.back)
               || comes_by_again(ping.out)) {
        answer.kind = Answer::Kind::no_reply;
    } else if (ping.error.heard) {
        answer.kind = Answer::Kind::error;
        answer.error = ping.error.error;
        bool at_once = ping.out->steps.size() == 1;
        if (!at_once || ping.error.error == packet::IcmpError::host_unreachable)
            answer.error_from = ping.error.from;
    }
    return answer;
}

} // namespace

Answers ask_walk(const routing::Settled& settled, const std::vector<Question>& questions) {
    const lab::Lab& lab = settled.lab();
    Answers answers;
    for (const Question& question : questions) {
        probe::Endpoint from{.name = lab.machines[question.from].name,
                             .machine = question.from,
                             .nic = {},
                             .address = {}};
        // A kernel does not know which machine was meant: whoever has the address may answer.
        probe::Endpoint to{.name = net::to_string(question.destination),
                           .machine = {},
                           .nic = {},
                           .address = question.destination};
        // Which of equal next hops a kernel takes is its own affair. A packet that goes round in a
        // loop has more ways than can be tried.
        constexpr std::size_t most_ways = 256;
        std::vector<probe::PingAnswer> ways =
            probe::ping_every_way(settled,
                                  {.from = from,
                                   .to = to,
                                   .service = question.service,
                                   .family = {},
                                   .source = question.source,
                                   .count = 1,
                                   .ttl = question.ttl,
                                   .payload_bytes = question.payload_bytes,
                                   .shares = {},
                                   .records = {}},
                                  most_ways);
        answers.push_back(answer_of(settled, ways.front()));
        if (ways.size() == most_ways)
            answers.back().kind = Answer::Kind::luck;
        for (const probe::PingAnswer& way : ways)
            if (Answer other = answer_of(settled, way); !answers.back().same(other))
                answers.back().kind = Answer::Kind::luck;
    }
    return answers;
}

std::string to_string(const Answer& answer) {
    switch (answer.kind) {
    case Answer::Kind::reply: return fmt::format("reply, TTL {}", answer.ttl);
    case Answer::Kind::open: return "open";
    case Answer::Kind::refused: return "refused";
    case Answer::Kind::silence: return "silence";
    case Answer::Kind::luck: return "luck";
    case Answer::Kind::answered: return "an answer";
    case Answer::Kind::no_reply: return "no reply";
    case Answer::Kind::not_asked: return "nothing";
    case Answer::Kind::error: break;
    }
    return fmt::format("{} from {}", packet::to_string(answer.error),
                       answer.error_from ? net::to_string(*answer.error_from) : "its own kernel");
}

std::vector<Engine> engines() {
    return {{"walk", ask_walk}, {"matrix", ask_matrix}, {"wire", ask_wire}, {"kernel", ask_kernel}};
}

} // namespace judge
