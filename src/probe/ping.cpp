#include "jackal/probe/ping.h"

#include "jackal/lab/finding.h"
#include "jackal/packet/source.h"
#include "probe/explain/explain.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::probe {

using lab::Lab;
using packet::Journey;

namespace {

// SplitMix64 (Steele, Lea, Flood 2014): small, seeded by any number.
class Random {
  public:
    explicit Random(std::uint64_t seed) : state_(seed) {}

    // Uniform in [0, 1).
    double next() {
        std::uint64_t z = state_ += 0x9e3779b97f4a7c15;
        z = (z ^ z >> 30) * 0xbf58476d1ce4e5b9;
        z = (z ^ z >> 27) * 0x94d049bb133111eb;
        return static_cast<double>((z ^ z >> 31) >> 11) * 0x1.0p-53;
    }

  private:
    std::uint64_t state_;
};

constexpr unsigned icmp_header_bytes = 8; // also of udp
constexpr unsigned tcp_header_bytes = 40; // of a SYN, with its options
constexpr unsigned ipv4_header_bytes = 20;
constexpr unsigned ipv6_header_bytes = 40;
constexpr int reply_start_ttl = 64;

// The port that requests are sent from: the first dynamic one (RFC 6335 section 6).
constexpr std::uint16_t asking_port = 49152;

unsigned packet_bytes(net::Family family, net::Protocol protocol, unsigned payload_bytes) {
    unsigned ip = family == net::Family::ipv4 ? ipv4_header_bytes : ipv6_header_bytes;
    return ip
           + (protocol == net::Protocol::tcp ? tcp_header_bytes
                                             : payload_bytes + icmp_header_bytes);
}

// Whether the sender knows an error for one about its packet: pings by their number alone, services
// by addresses and ports.
bool is_about(const Journey& error, const packet::Packet& packet) {
    return !net::has_ports(packet.protocol) || error.told == packet.flow();
}

template <class Use>
void each_link(const Lab& lab, const Journey& journey, Use use) {
    for (const packet::Step& step : journey.steps)
        if (step.out && step.action != packet::Action::drop)
            if (lab::LinkId link = lab.segments[lab.nics[step.out].segment].link)
                use(lab.links[link]);
    for (const packet::Crossing& crossing : journey.crossings)
        if (crossing.works)
            each_link(lab, *crossing.outer, use);
}

class Pinger {
  public:
    Pinger(const routing::Settled& settled, const PingQuestion& question)
        : settled_(settled), lab_(settled.lab()) {
        answer_.question = question;
    }

    PingAnswer run() {
        answer_.sent = std::max(1, answer_.question.count);
        if (!resolve() || !choose_addresses())
            return std::move(answer_);
        if (go_out() && come_back()) {
            answer_.reply_ttl = answer_.back->ttl_left;
            answer_.reaches = is_open();
            if (answer_.reaches)
                sample();
            else
                refuse();
        }
        answer_.outcome = outcome();
        return std::move(answer_);
    }

  private:
    const PingQuestion& question() const { return answer_.question; }

    bool is_open() const {
        return !question().service
               || lab_.listens(answer_.out->last_machine(),
                               {question().service->protocol, answer_.out->flow.destination_port});
    }

    void refuse() {
        net::Service service{question().service->protocol, answer_.out->flow.destination_port};
        lab::MachineId machine = answer_.out->last_machine();
        Diagnosis d;
        d.cause = plan::Cause::nothing_listens;
        d.where = machine;
        d.explanation = fmt::format("nothing on {} listens on {}", lab_.machines[machine].name,
                                    net::to_string(service));
        d.remedy.edits = {plan::AddService{lab_.machines[machine].name, service}};
        d.at = lab_.machines[machine].at;
        answer_.diagnosis = std::move(d);
    }

    Outcome outcome() const {
        if (!answer_.diagnosis)
            return question().service ? Outcome::open : Outcome::reply;
        switch (answer_.diagnosis->cause) {
        case plan::Cause::nothing_listens:
            return answer_.error.error == packet::IcmpError::none || answer_.error.heard
                       ? Outcome::refused
                       : Outcome::unreachable;
        case plan::Cause::filter_denies: return Outcome::dropped;
        case plan::Cause::packets_lost: return Outcome::lost;
        default: return Outcome::unreachable;
        }
    }

    // Lab names are known everywhere; those of hosts outside must be asked for (RFC 1035). False if
    // nobody tells the name.
    bool resolve() {
        const Endpoint& to = question().to;
        const Endpoint& from = question().from;
        if (!to.machine || to.nic || to.address || !lab_.machines[to.machine].outside
            || lab_.machines[to.machine].kind == plan::MachineKind::router
            || lab_.machines[from.machine].outside)
            return true;
        const lab::Duties* duties = lab_.duties_of(from.machine);
        std::optional<PingAnswer> failed;
        for (net::Address server : duties == nullptr ? std::vector<net::Address>{} : duties->dns) {
            PingAnswer answer = ask_server(server);
            if (!answer.diagnosis)
                return true;
            failed = std::move(answer);
        }
        answer_.diagnosis = failed ? server_silent(*failed) : no_server();
        return false;
    }

    PingAnswer ask_server(net::Address address) const {
        constexpr net::Service name_service{net::Protocol::udp, 53};
        return ping(settled_, {.from = question().from,
                               .to = *endpoint(lab_, net::to_string(address)),
                               .service = name_service,
                               .count = 1});
    }

    Diagnosis server_silent(const PingAnswer& failed) const {
        Diagnosis d = *failed.diagnosis;
        d.cause = plan::Cause::name_server_unreachable;
        d.explanation =
            fmt::format("{} asks {} for the address of {}, and gets no answer: {}",
                        lab_.machines[question().from.machine].name,
                        net::to_string(*failed.destination), question().to.name, d.explanation);
        return d;
    }

    // The first server outside that would answer is proposed.
    Diagnosis no_server() const {
        const lab::Machine& asker = lab_.machines[question().from.machine];
        Diagnosis d;
        d.cause = plan::Cause::no_name_server;
        d.where = question().from.machine;
        d.explanation = fmt::format("{} knows no name server to ask for the address of {}",
                                    asker.name, question().to.name);
        d.remedy.advice = fmt::format("name one with `dns` at {}", asker.name);
        d.at = asker.at;
        for (lab::MachineId id : lab_.machines.ids()) {
            if (!lab_.listens(id, {net::Protocol::udp, 53}))
                continue;
            const Endpoint server{
                .name = lab_.machines[id].name, .machine = id, .nic = {}, .address = {}};
            const auto* row = address_at(lab_, server, net::Family::ipv4);
            if (row == nullptr)
                continue;
            bool answers = !ask_server(row->address).diagnosis;
            if (answers || d.remedy.edits.empty())
                d.remedy.edits = {plan::AddNameServer{asker.name, server.name}};
            if (answers)
                break;
        }
        return d;
    }

    // The address to ask for and the one to ask from; false if there is no such pair.
    bool choose_addresses() {
        auto family = choose_family();
        if (!family) {
            answer_.diagnosis = explain_no_address(lab_, question().from, question().to);
            return false;
        }
        if (question().to.address)
            answer_.destination = question().to.address;
        else
            answer_.destination = address_at(lab_, question().to, *family)->address;
        answer_.source = question().source;
        if (!answer_.source && question().from.nic)
            if (const auto* row = address_at(lab_, question().from, *family))
                answer_.source = row->address;
        if (!answer_.source)
            answer_.source =
                packet::source_address(settled_, question().from.machine, *answer_.destination,
                                       question().shares[0].empty() ? 0 : question().shares[0][0]);
        if (!answer_.source)
            if (const auto* row = address_at(lab_, question().from, *family))
                answer_.source = row->address;
        return true;
    }

    std::optional<net::Family> choose_family() const {
        if (question().to.address)
            return question().to.address->family();
        for (net::Family family : net::both_families)
            if ((!question().family || family == *question().family)
                && address_at(lab_, question().from, family) != nullptr
                && address_at(lab_, question().to, family) != nullptr)
                return family;
        return std::nullopt;
    }

    // The NIC that has the address, that of `wanted` if several machines do.
    lab::NicId nic_with(net::Address address, lab::MachineId wanted) const {
        lab::NicId found;
        for (const lab::Owner& owner : lab_.owners_of(address))
            if (!found || lab_.nics[owner.nic].machine == wanted)
                found = owner.nic;
        return found;
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
            packet::Packet reply{.source = flow.source,
                                 .destination = flow.destination,
                                 .ttl = reply_start_ttl,
                                 .size_bytes = answer_.out->packet.size_bytes,
                                 .is_reply = flow.protocol == net::Protocol::icmp,
                                 .asked_by = question().service ? lab::NicId{}
                                                                : answer_.out->steps.back().in,
                                 .protocol = flow.protocol,
                                 .source_port = flow.source_port,
                                 .destination_port = flow.destination_port,
                                 .shares = question().shares[1]};
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
        answer_.diagnosis = explain_other_source(settled_, *answer_.out, *answer_.back);
        return false;
    }

    // True if the journey ended where it should; else the diagnosis is made.
    bool arrived(const Journey& journey, lab::MachineId wanted, bool returning) {
        bool right =
            !wanted || journey.last_machine() == wanted || (!returning && journey.redirected());
        if (journey.ending == packet::Ending::delivered && right)
            return true;
        answer_.diagnosis = explain(settled_, {&journey, nic_with(journey.flow.destination, wanted),
                                               returning, returning ? &*answer_.out : nullptr});
        lab::Remedy& remedy = answer_.diagnosis->remedy;
        remedy = lab::within(lab_, std::move(remedy));
        if (!returning)
            answer_.error = seen_error(settled_, journey);
        return false;
    }

    void sample() {
        Random random(question().seed);
        Microseconds fixed = travel_time(lab_, *answer_.out) + travel_time(lab_, *answer_.back);
        Microseconds total{0};
        for (int i = 0; i < answer_.sent; ++i) {
            Microseconds time = fixed;
            bool lost = false;
            auto cross = [&](const lab::Link& link) {
                lost |= random.next() < link.loss;
                time += Microseconds(link.jitter) * random.next();
            };
            each_link(lab_, *answer_.out, cross);
            each_link(lab_, *answer_.back, cross);
            if (lost)
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
            answer_.diagnosis = all_lost();
    }

    Diagnosis all_lost() const {
        const lab::Link* worst = nullptr;
        auto look = [&](const lab::Link& link) {
            if (worst == nullptr || link.loss > worst->loss)
                worst = &link;
        };
        each_link(lab_, *answer_.out, look);
        each_link(lab_, *answer_.back, look);
        Diagnosis d;
        d.cause = plan::Cause::packets_lost;
        d.where = lab_.nics[worst->first].machine;
        d.explanation =
            fmt::format("the ways there and back work, but all {} packets were lost by "
                        "chance; {} loses {:g}%",
                        answer_.sent, lab_.segment_name(worst->segment), worst->loss * 100);
        d.remedy.advice = "lower the link's loss, or send more packets";
        d.at = worst->at;
        return d;
    }

    const routing::Settled& settled_;
    const Lab& lab_;
    PingAnswer answer_;
};

} // namespace

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

PingAnswer ping(const routing::Settled& settled, const PingQuestion& question) {
    return Pinger(settled, question).run();
}

std::vector<PingAnswer> ping_every_way(const routing::Settled& settled,
                                       const PingQuestion& question, std::size_t most) {
    static constexpr std::size_t most_forks = 64;
    // Counts through the combinations: the last fork of a journey that can turn, turns, and those
    // behind it start again. False, and back to the start, when all have been.
    auto advance = [](const std::optional<Journey>& journey, std::vector<std::uint32_t>& shares) {
        shares.assign(most_forks, 0);
        if (!journey)
            return false;
        const auto& forks = journey->forks;
        for (std::size_t i = std::min(forks.size(), most_forks); i-- > 0;)
            if (forks[i].taken + 1 < forks[i].ways) {
                for (std::size_t j = 0; j < i; ++j)
                    shares[j] = forks[j].taken;
                shares[i] = forks[i].taken + 1;
                return true;
            }
        return false;
    };
    auto forks = [](const std::optional<Journey>& journey) {
        return journey && !journey->forks.empty();
    };
    std::vector<PingAnswer> answers{ping(settled, question)};
    if (!forks(answers[0].out) && !forks(answers[0].back))
        return answers;
    PingQuestion next = question;
    next.shares[0].assign(most_forks, 0);
    next.shares[1].assign(most_forks, 0);
    while (answers.size() < most) {
        answers.push_back(ping(settled, next));
        const PingAnswer& last = answers.back();
        if (!advance(last.back, next.shares[1]) && !advance(last.out, next.shares[0]))
            break;
    }
    return answers;
}

} // namespace jackal::probe
