#include "jackal/probe/exchange.h"

#include "jackal/packet/source.h"
#include "probe/chance.h"
#include "probe/names.h"
#include "probe/request.h"

#include <algorithm>

namespace jackal::probe {

using lab::Lab;
using packet::Journey;

std::vector<net::Address> other_destinations(const Lab& lab, const Exchange& exchange) {
    std::vector<net::Address> others;
    const Endpoint& to = exchange.question.to;
    if (!exchange.destination || to.nic || to.address || !to.machine)
        return others;
    for (lab::NicId nic : lab.nics_of(to.machine))
        for (lab::AddressId id : lab.addresses_of(nic))
            if (net::Address address = lab.addresses[id].address;
                address.family() == exchange.destination->family()
                && address != *exchange.destination)
                others.push_back(address);
    return others;
}

namespace {

// Whether the sender knows an error for one about its packet: pings by their number alone, services
// by addresses and ports.
bool is_about(const Journey& error, const packet::Packet& packet) {
    return !net::has_ports(packet.protocol) || error.told == packet.flow();
}

std::optional<net::Address> chosen_destination(const Lab& lab, const PingQuestion& question) {
    if (question.to.address)
        return question.to.address;
    for (net::Family family : net::both_families)
        if ((!question.family || family == *question.family)
            && address_at(lab, question.from, family) != nullptr)
            if (const auto* row = address_for(lab, question.from, question.to, family))
                return row->address;
    return std::nullopt;
}

class Exchanger {
  public:
    Exchanger(const routing::Settled& settled, const PingQuestion& question)
        : settled_(settled), lab_(settled.lab()) {
        answer_.question = question;
    }

    Exchange run() {
        answer_.sent = std::max(1, answer_.question.count);
        if (!resolve() || !choose_addresses())
            return std::move(answer_);
        if (go_out() && come_back()) {
            answer_.reply_ttl = answer_.back->ttl_left;
            answer_.reaches = is_open();
            if (answer_.reaches)
                sample();
            else
                fail(Gap::nothing_listens);
        }
        return std::move(answer_);
    }

  private:
    const PingQuestion& question() const { return answer_.question; }

    // Always false.
    bool fail(Gap gap) {
        answer_.gap = gap;
        return false;
    }

    bool is_open() const {
        return !question().service || question().is_served
               || lab_.listens(answer_.out->last_machine(),
                               {question().service->protocol, answer_.out->flow.destination_port});
    }

    bool resolve() {
        return !needs_name(lab_, question())
               || std::ranges::any_of(
                   name_servers(lab_, question().from.machine),
                   [&](net::Address server) {
                       return ask_server(settled_, question().from, server).replied();
                   })
               || fail(Gap::name_unknown);
    }

    // The address to ask for and the one to ask from; false if there is no such pair.
    bool choose_addresses() {
        Ends ends = chosen_ends(settled_, question());
        if (!ends.destination)
            return fail(Gap::no_address);
        answer_.destination = ends.destination;
        answer_.source = ends.source;
        return true;
    }

    bool go_out() {
        net::Family family = answer_.destination->family();
        packet::Packet request{.source = answer_.source.value_or(net::Address{}),
                               .destination = *answer_.destination,
                               .ttl = question().ttl,
                               .shares = question().shares[0],
                               .records = question().records};
        if (question().service) {
            request.protocol = question().service->protocol;
            request.source_port = asking_port;
            request.destination_port = question().service->port;
        }
        request.size_bytes = packet_bytes(family, request.protocol, question().payload_bytes);
        answer_.out = packet::walk(settled_, question().from.machine, request);
        return arrived(*answer_.out, question().to.machine, false);
    }

    // The echo reply, or what the service or the machine without it says.
    bool come_back() {
        net::Flow flow = answer_.out->flow.reversed();
        bool is_error = flow.protocol == net::Protocol::udp && !is_open();
        if (is_error) {
            answer_.back = packet::walk_error(settled_, *answer_.out, flow.source);
            answer_.error = {.error = packet::IcmpError::port_unreachable,
                             .machine = answer_.out->last_machine(),
                             .from = answer_.back->flow.source};
        } else {
            packet::Packet reply = answer_to(*answer_.out, answer_.out->packet.size_bytes);
            reply.shares = question().shares[1];
            answer_.back =
                packet::walk(settled_, answer_.out->last_machine(), reply, &*answer_.out);
        }
        bool home = arrived(*answer_.back, question().from.machine, true);
        if (home && question().service)
            home = is_recognised();
        answer_.error.heard =
            home && is_error && packet::error_source(settled_, *answer_.out).has_value();
        return home;
    }

    // Whoever asked a service takes an answer only from where it asked.
    bool is_recognised() {
        bool is_error = answer_.error.error != packet::IcmpError::none;
        if (is_error ? is_about(*answer_.back, answer_.out->packet)
                     : answer_.back->flow.source == answer_.out->packet.destination)
            return true;
        return fail(Gap::other_source);
    }

    // True if the journey ended where it should.
    bool arrived(const Journey& journey, lab::MachineId wanted, bool returning) {
        bool right =
            !wanted || journey.last_machine() == wanted || (!returning && journey.redirected());
        if (journey.ending == packet::Ending::delivered && right)
            return true;
        if (!returning)
            answer_.error = seen_error(settled_, journey);
        return fail(returning ? Gap::answer_lost : Gap::request_lost);
    }

    void sample() {
        Chance chance(question().seed);
        Microseconds fixed = travel_time(lab_, *answer_.out) + travel_time(lab_, *answer_.back);
        Microseconds total{0};
        for (int i = 0; i < answer_.sent; ++i) {
            Microseconds time = fixed;
            const bool asked = chance.pass(lab_, *answer_.out, time);
            const bool answered = chance.pass(lab_, *answer_.back, time);
            if (!asked || !answered)
                continue;
            RoundTrip& trip = answer_.round_trip;
            trip.min = answer_.received == 0 ? time : std::min(trip.min, time);
            trip.max = std::max(trip.max, time);
            total += time;
            ++answer_.received;
        }
        if (answer_.received != 0)
            answer_.round_trip.mean = total / answer_.received;
        else
            fail(Gap::all_lost);
    }

    const routing::Settled& settled_;
    const Lab& lab_;
    Exchange answer_;
};

} // namespace

Ends chosen_ends(const routing::Settled& settled, const PingQuestion& question) {
    const Lab& lab = settled.lab();
    Ends ends;
    ends.destination = chosen_destination(lab, question);
    if (!ends.destination)
        return ends;
    const lab::InterfaceAddress* own = address_at(lab, question.from, ends.destination->family());
    ends.source = question.source;
    if (!ends.source && question.from.nic && own != nullptr)
        ends.source = own->address;
    if (!ends.source)
        ends.source =
            packet::source_address(settled, question.from.machine, *ends.destination,
                                   question.shares[0].empty() ? 0 : question.shares[0][0]);
    if (!ends.source && own != nullptr)
        ends.source = own->address;
    return ends;
}

Outcome Exchange::outcome() const {
    auto is_filtered = [](const packet::Journey& journey) {
        return journey.ending == packet::Ending::filtered;
    };
    switch (gap) {
    case Gap::none: return question.service ? Outcome::open : Outcome::reply;
    case Gap::all_lost: return Outcome::lost;
    case Gap::nothing_listens:
        return error.error == packet::IcmpError::none || error.heard ? Outcome::refused
                                                                     : Outcome::unreachable;
    case Gap::request_lost: return is_filtered(*out) ? Outcome::dropped : Outcome::unreachable;
    case Gap::answer_lost: return is_filtered(*back) ? Outcome::dropped : Outcome::unreachable;
    case Gap::name_unknown:
    case Gap::no_address:
    case Gap::other_source: break;
    }
    return Outcome::unreachable;
}

std::string_view to_string(Outcome outcome) {
    switch (outcome) {
    case Outcome::reply: return "reply";
    case Outcome::open: return "open";
    case Outcome::refused: return "refused";
    case Outcome::dropped: return "dropped";
    case Outcome::lost: return "lost";
    case Outcome::unreachable: break;
    }
    return "unreachable";
}

bool same_way(const std::optional<packet::Journey>& one,
              const std::optional<packet::Journey>& other) {
    if (!one || !other)
        return !one && !other;
    return std::ranges::equal(one->steps, other->steps, [](const auto& s, const auto& t) {
        return s.machine == t.machine && s.out == t.out && s.action == t.action;
    });
}

Microseconds travel_time(const Lab& lab, const Journey& journey) {
    Microseconds time = time_per_machine * static_cast<double>(journey.steps.size() - 1);
    for (const packet::Crossing& crossing : journey.crossings)
        if (crossing.works) // machines that pass the outer packet on; links are below
            time += time_per_machine * static_cast<double>(crossing.outer->steps.size() - 2);
    each_link(lab, journey, [&](const lab::Link& link) { time += Microseconds(link.delay); });
    return time;
}

SeenError seen_error(const routing::Settled& settled, const Journey& journey) {
    SeenError seen;
    seen.error = packet::icmp_error(journey.ending);
    if (seen.error == packet::IcmpError::none)
        return seen;
    seen.machine = journey.last_machine();
    auto from = packet::error_source(settled, journey);
    if (journey.steps.size() == 1) { // the sender's own kernel says it
        seen.from = from.value_or(journey.packet.source);
        seen.heard = true;
        return seen;
    }
    if (!from)
        return seen;
    Journey way = packet::walk_error(settled, journey, *from);
    seen.from = way.flow.source;
    seen.heard = way.ending == packet::Ending::delivered
                 && way.last_machine() == journey.steps.front().machine
                 && is_about(way, journey.packet);
    return seen;
}

Exchange exchange(const routing::Settled& settled, const PingQuestion& question) {
    return Exchanger(settled, question).run();
}

} // namespace jackal::probe
