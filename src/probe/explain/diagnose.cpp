#include "jackal/lab/finding.h"
#include "jackal/probe/diagnosis.h"
#include "probe/explain/explain.h"
#include "probe/explain/paths.h"
#include "probe/links.h"
#include "probe/names.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::probe {

using lab::Lab;

namespace {

std::optional<Diagnosis> diagnose(const Exchange& exchange, Ground& ground);

// --- names of hosts outside ------------------------------------------------------------------

Diagnosis server_silent(const Exchange& exchange, net::Address server, Ground& ground) {
    const PingQuestion& question = exchange.question;
    const routing::Settled& settled = ground.settled();
    Diagnosis d = *diagnose(ask_server(settled, question.from, server), ground);
    d.cause = plan::Cause::name_server_unreachable;
    d.explanation = fmt::format("{} asks {} for the address of {}, and gets no answer: {}",
                                settled.lab().machines[question.from.machine].name,
                                net::to_string(server), question.to.name, d.explanation);
    return d;
}

// The first server outside that would answer is proposed.
Diagnosis no_server(const routing::Settled& settled, const PingQuestion& question) {
    const Lab& lab = settled.lab();
    const lab::Machine& asker = lab.machines[question.from.machine];
    Diagnosis d;
    d.cause = plan::Cause::no_name_server;
    d.where = question.from.machine;
    d.explanation = fmt::format("{} knows no name server to ask for the address of {}", asker.name,
                                question.to.name);
    d.remedy.advice = fmt::format("name one with `dns` at {}", asker.name);
    d.at = asker.at;
    for (lab::MachineId id : lab.machines.ids()) {
        if (!lab.listens(id, {net::Protocol::udp, 53}))
            continue;
        const Endpoint server{
            .name = lab.machines[id].name, .machine = id, .nic = {}, .address = {}};
        const auto* row = address_for(lab, question.from, server, net::Family::ipv4);
        if (row == nullptr)
            continue;
        bool answers = ask_server(settled, question.from, row->address).replied();
        if (answers || d.remedy.edits.empty())
            d.remedy.edits = {plan::add_name_server(lab.plan, asker.name, server.name)};
        if (answers)
            break;
    }
    return d;
}

Diagnosis name_unknown(const Exchange& exchange, Ground& ground) {
    const routing::Settled& settled = ground.settled();
    auto servers = name_servers(settled.lab(), exchange.question.from.machine);
    return servers.empty() ? no_server(settled, exchange.question)
                           : server_silent(exchange, servers.back(), ground);
}

// --- services and chance -----------------------------------------------------------------------

Diagnosis nothing_listens(const Lab& lab, const Exchange& exchange) {
    net::Service service{exchange.question.service->protocol, exchange.out->flow.destination_port};
    lab::MachineId machine = exchange.out->last_machine();
    Diagnosis d;
    d.cause = plan::Cause::nothing_listens;
    d.where = machine;
    d.explanation = fmt::format("nothing on {} listens on {}", lab.machines[machine].name,
                                net::to_string(service));
    d.remedy.edits = {plan::add_service(lab.plan, lab.machines[machine].name, service)};
    d.at = lab.machines[machine].at;
    return d;
}

Diagnosis all_lost(const Lab& lab, const Exchange& exchange) {
    const lab::Link* worst = nullptr;
    auto look = [&](const lab::Link& link) {
        if (worst == nullptr || link.loss > worst->loss)
            worst = &link;
    };
    each_link(lab, *exchange.out, look);
    each_link(lab, *exchange.back, look);
    Diagnosis d;
    d.cause = plan::Cause::packets_lost;
    d.where = lab.nics[worst->first].machine;
    d.explanation = fmt::format("the ways there and back work, but all {} packets were lost by "
                                "chance; {} loses {:g}%",
                                exchange.sent, lab.segment_name(worst->segment), worst->loss * 100);
    d.remedy.advice = "lower the link's loss, or send more packets";
    d.at = worst->at;
    return d;
}

// --- packets that ended on their way -----------------------------------------------------------

// The NIC that has the address, that of `wanted` if several machines do; none if nobody's is meant.
lab::NicId nic_with(const Lab& lab, net::Address address, lab::MachineId wanted) {
    lab::NicId found;
    for (const lab::Owner& owner : lab.owners_of(address))
        if ((wanted && !found) || lab.nics[owner.nic].machine == wanted)
            found = owner.nic;
    return found;
}

Leg lost_leg(const Lab& lab, const Exchange& exchange) {
    bool returning = exchange.gap == Gap::answer_lost;
    const packet::Journey& journey = returning ? *exchange.back : *exchange.out;
    const Endpoint& wanted = returning ? exchange.question.from : exchange.question.to;
    return {&journey, nic_with(lab, journey.flow.destination, wanted.machine), returning,
            returning ? &*exchange.out : nullptr};
}

Diagnosis lost(const Exchange& exchange, Ground& ground) {
    const Lab& lab = ground.settled().lab();
    const Endpoint& from = exchange.question.from;
    const Endpoint& to = exchange.question.to;
    auto is_there = [&](lab::NicId nic) {
        return lab.nics[nic].segment == lab.nics[to.nic].segment;
    };
    if (exchange.gap == Gap::request_lost && to.nic && lab.is_own_way_out(lab.nics[to.nic].segment)
        && std::ranges::none_of(lab.nics_of(from.machine), is_there))
        return explain_own_way_out(lab, from, to);
    Diagnosis d = explain(lost_leg(lab, exchange), ground);
    d.remedy = lab::within(std::move(d.remedy));
    return d;
}

std::optional<Diagnosis> diagnose(const Exchange& exchange, Ground& ground) {
    const routing::Settled& settled = ground.settled();
    const Lab& lab = settled.lab();
    const PingQuestion& question = exchange.question;
    switch (exchange.gap) {
    case Gap::none: break;
    case Gap::name_unknown: return name_unknown(exchange, ground);
    case Gap::no_address: return explain_no_address(lab, question.from, question.to);
    case Gap::nothing_listens: return nothing_listens(lab, exchange);
    case Gap::other_source: return explain_other_source(settled, *exchange.out, *exchange.back);
    case Gap::all_lost: return all_lost(lab, exchange);
    case Gap::request_lost:
    case Gap::answer_lost: return lost(exchange, ground);
    }
    return std::nullopt;
}

lab::MachineId machine_of(const packet::Step* step) {
    return step == nullptr ? lab::MachineId{} : step->machine;
}

} // namespace

std::optional<Diagnosis> diagnose(const routing::Settled& settled, const Exchange& exchange) {
    Ground ground(settled);
    return diagnose(exchange, ground);
}

GapKind kind_of(const routing::Settled& settled, const Exchange& exchange) {
    const Lab& lab = settled.lab();
    GapKind kind{.gap = exchange.gap};
    if (exchange.gap != Gap::request_lost && exchange.gap != Gap::answer_lost) {
        kind.where = exchange.question.to.machine;
        kind.sender = exchange.question.from.machine;
        return kind;
    }
    const Leg leg = lost_leg(lab, exchange);
    const packet::Journey& journey = *leg.journey;
    kind.ending = journey.ending;
    kind.family = journey.flow.destination.family();
    kind.where = journey.last_machine();
    kind.target = leg.target;
    lab::MachineId sender = journey.steps.front().machine;
    kind.from = lab.site_of(sender);
    if (std::size_t start = loop_start(journey); start != journey.steps.size())
        kind.circle = journey.steps[start].machine;
    kind.left_by = machine_of(leaving(lab, journey));
    kind.by_default = machine_of(by_one_default(settled, journey));
    if (leg.request != nullptr)
        kind.request_left_by = machine_of(leaving(lab, *leg.request));
    if (!lab.leases.empty())
        kind.sender = sender;
    return kind;
}

Diagnoser::Diagnoser(const routing::Settled& settled)
    : ground_(std::make_shared<Ground>(settled)) {}

bool Diagnoser::knows(const Exchange& exchange) const {
    return known_.contains(kind_of(ground_->settled(), exchange));
}

const Diagnosis& Diagnoser::of(const Exchange& exchange) {
    auto [known, is_new] = known_.try_emplace(kind_of(ground_->settled(), exchange));
    if (is_new)
        known->second = *diagnose(exchange, *ground_);
    return known->second;
}

} // namespace jackal::probe
