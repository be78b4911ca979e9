// The check of a random lab: that no ping without a reply goes untold, and no error is one that
// nothing bears out.
#include "../sanitized.h"
#include "jackal/jackal.h"
#include "random_lab.h"
#include "seeds.h"

#include <algorithm>
#include <doctest/doctest.h>
#include <set>

using namespace jackal;

namespace {

// A finding of the same cause, about the same place, or one that names who is concerned.
bool is_told(const lab::Lab& lab, const std::vector<lab::Finding>& findings,
             const probe::Exchange& exchange, const probe::Diagnosis& diagnosis) {
    std::vector<std::string> ends; // subnets and sites
    for (lab::MachineId machine : {exchange.question.from.machine, exchange.question.to.machine}) {
        if (lab::SiteId site = lab.site_of(machine))
            ends.push_back(lab.sites[site].name);
        for (lab::NicId nic : lab.nics_of(machine))
            ends.push_back(lab.segment_name(lab.nics[nic].segment));
    }
    auto is_named = [](const std::string& sentence, const std::string& name) {
        return !name.empty() && sentence.find(name) != sentence.npos;
    };
    return std::ranges::any_of(findings, [&](const lab::Finding& finding) {
        bool is_same = finding.cause == diagnosis.cause
                       || (finding.cause == plan::Cause::no_return_route
                           && diagnosis.cause == plan::Cause::no_route);
        return is_same
               && ((finding.at && finding.at == diagnosis.at)
                   || is_named(diagnosis.explanation,
                               finding.subject.substr(0, finding.subject.find('/')))
                   || is_named(finding.message, lab.machines[diagnosis.where].name)
                   || std::ranges::any_of(ends, [&](const std::string& name) {
                          return is_named(finding.message, name);
                      }));
    });
}

} // namespace

TEST_CASE("check tells of every ping without a reply, and of no error that none bears out") {
    std::size_t failing = 0;
    std::size_t errors = 0;
    std::size_t untold = 0;
    for (std::uint64_t seed : judge::seeds(150, 6)) {
        CAPTURE(seed);
        judge::Json text = judge::random_any(seed);
        if (seed % 2 == 0) { // some isolation is meant
            auto& subnets = text["subnets"];
            text["expect"] = {{{"apart", {subnets.begin().key(), (--subnets.end()).key()}}}};
        }
        lab::Lab lab = lab::build(*plan::read(text.dump(), "made-up.yaml").plan);
        routing::Settled settled = routing::settle(lab);
        reach::Check check = reach::check(settled);
        CHECK(check.answered + check.stated + check.outside + check.explained + check.unexplained
              == check.pairs_asked);
        CHECK(check.pairs_asked == check.pairs);
        std::set<std::pair<lab::MachineId, lab::MachineId>> stated;
        for (const plan::Expectation& wanted : lab.expectations)
            for (const probe::Endpoint& one : probe::endpoints(lab, wanted.from.value))
                for (const probe::Endpoint& other : probe::endpoints(lab, wanted.to.value)) {
                    stated.emplace(one.machine, other.machine);
                    stated.emplace(other.machine, one.machine);
                }
        probe::Diagnoser diagnoser(settled);
        std::size_t answered = 0;
        std::set<lab::MachineId> touched;     // by pings that fail
        std::vector<probe::Endpoint> targets; // by name, and on every subnet
        for (lab::MachineId id : lab.machines.ids())
            if (lab.machines[id].nic_count != 0)
                targets.push_back({.name = lab.machines[id].name, .machine = id});
        for (lab::NicId nic : lab.nics.ids())
            if (lab.segments[lab.nics[nic].segment].subnet
                && !lab.is_own_way_out(lab.nics[nic].segment))
                targets.push_back(
                    {.name = lab.nic_name(nic), .machine = lab.nics[nic].machine, .nic = nic});
        for (lab::MachineId from : lab.machines.ids())
            for (const probe::Endpoint& to : targets) {
                if (from == to.machine || lab.machines[from].outside
                    || lab.machines[from].nic_count == 0)
                    continue;
                probe::Exchange exchange = probe::exchange(
                    settled, {.from = {.name = lab.machines[from].name, .machine = from},
                              .to = to,
                              .count = 1});
                answered +=
                    exchange.replied() && (!to.nic || lab.machines[to.machine].nic_count > 1);
                if (exchange.replied() || (to.nic && exchange.gap == probe::Gap::no_address))
                    continue;
                touched.insert(from);
                touched.insert(to.machine);
                const probe::Diagnosis& diagnosis = diagnoser.of(exchange);
                touched.insert(diagnosis.where);
                if (lab.machines[to.machine].outside || stated.contains({from, to.machine}))
                    continue;
                ++failing;
                if (!is_told(lab, check.findings, exchange, diagnosis) && untold++ < 20)
                    MESSAGE("seed ", seed, ": ", lab.machines[from].name, " to ", to.name, ": ",
                            plan::slug(diagnosis.cause), ": ", diagnosis.explanation);
            }
        if (std::ranges::none_of(lab.machines, [](const auto& machine) { return machine.outside; }))
            CHECK(check.answered == answered);
        for (const lab::Finding& finding : check.findings) {
            if (finding.severity != lab::Severity::error)
                continue;
            ++errors;
            auto machine = lab.machine(finding.subject.substr(0, finding.subject.find('/')));
            bool is_of_packets = finding.cause >= plan::Cause::gateway_off_subnet
                                 && finding.cause <= plan::Cause::no_router_between;
            if (machine && is_of_packets) {
                CAPTURE(finding.message);
                CHECK(touched.contains(*machine));
            }
            if (!finding.from.empty()) {
                CAPTURE(finding.message);
                auto question = probe::question(lab, finding.from, finding.to);
                REQUIRE(question);
                CHECK_FALSE(probe::exchange(settled, *question).replied());
            }
        }
    }
    MESSAGE(failing, " pings without a reply, ", errors, " errors, ", untold, " untold");
    CHECK(untold == 0);
    CHECK(failing > 100);
    CHECK(errors > 0);
}
