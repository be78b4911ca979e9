// DHCP, ways outside and names.
#include "lab_of.h"

#include "jackal/lab/start_order.h"
#include "jackal/plan/outside.h"
#include "jackal/probe/question.h"
#include "jackal/reach/check.h"

#include <algorithm>
#include <doctest/doctest.h>
#include <fmt/format.h>
#include <map>
#include <set>

using namespace jackal;

namespace {

std::string address(const lab::Lab& lab, const char* machine, const char* nic = "eth0") {
    const auto* row = lab.first_address(*lab.nic(*lab.machine(machine), nic), net::Family::ipv4);
    return row == nullptr ? "none" : net::to_string(row->address);
}

struct Asked {
    std::string from;
    std::string to;
    std::string gets;
};

} // namespace

TEST_CASE("a chain of routers comes up by itself, each address from the router before") {
    constexpr int length = 12;
    std::string subnets;
    std::string routers;
    for (int i = length - 1; i >= 0; --i) { // the last is written first
        subnets += fmt::format("  n{0}: {{prefix: 10.50.{0}.0/24, dhcp: {{size: 5}}}}\n", i);
        routers +=
            fmt::format("  r{0}: {{nics: [{1}{{subnet: n{0}}}]}}\n", i,
                        i == 0 ? "" : fmt::format("{{subnet: n{}, address: dhcp}}, ", i - 1));
    }
    lab::Lab lab = lab_of("lab: chain\nsubnets:\n" + subnets + "routers:\n" + routers
                          + "guests:\n  end: {nics: [{subnet: n11, address: dhcp}]}\n");
    CHECK(lab.leases.size() == length);
    for (const lab::Lease& lease : lab.leases) {
        CHECK(lease.refusal == lab::Lease::Refusal::none);
        CHECK(lab.subnets[lease.subnet].dhcp->contains(lease.address));
        CHECK(lab.segments[lab.nics[lease.nic].segment].subnet == lease.subnet);
    }
    std::map<lab::MachineId, std::size_t> round;
    for (const lab::Start& start : lab::start_order(lab)) {
        for (lab::MachineId before : start.after)
            CHECK(round.at(before) < start.round);
        round[start.machine] = start.round;
    }
    CHECK(round.size() == lab.machines.size());
    CHECK(round.at(*lab.machine("end")) == length + 1);
}

TEST_CASE("a DHCP server keeps what is reserved, and gives out nothing twice") {
    lab::Lab lab = lab_of(R"(
lab: leases
subnets:
  hall:
    prefix: [10.50.0.0/24, "fd50:0:0:1::/64"]
    dhcp:
      range: +20-+30
      exclude: [+21, +23]
      reservations: {clock: +25, "02:00:5e:10:00:07": +40}
      lease: 30m
      dns: 10.50.0.9
  raft: {prefix: 10.50.1.0/24, dhcp: {size: 3, server: hall-r1, relay: raft-r1, router: none}}
guests:
  desk:  {count: 6, nics: [{subnet: hall, address: dhcp}]}
  clock: {nics: [{subnet: hall, address: dhcp}]}
  gauge: {nics: [{subnet: hall, address: dhcp, mac: "02:00:5e:10:00:07"}]}
  still: {nics: [{subnet: hall, address: 10.50.0.22}]}
  buoy:  {count: 4, nics: [{subnet: raft, address: dhcp}]}
routers:
  hall-r1: {nics: [{subnet: hall}], routes: [{to: raft, via: raft-r1}]}
  raft-r1: {nics: [{subnet: hall}, {subnet: raft}]}
)");
    CHECK(address(lab, "clock") == "10.50.0.25");
    CHECK(address(lab, "gauge") == "10.50.0.40");
    CHECK(address(lab, "desk-1") == "10.50.0.20");
    CHECK(address(lab, "desk-2") == "10.50.0.24"); // 21 and 23 are excluded, 22 is in use
    CHECK(address(lab, "desk-6") == "10.50.0.29");
    std::set<net::Address> seen;
    for (const lab::Lease& lease : lab.leases)
        CHECK(seen.insert(lease.address).second);
    const lab::Lease& first = lab.leases.front();
    CHECK(first.time == std::chrono::minutes(30));
    CHECK(first.dns == std::vector{net::parse_address("10.50.0.9").value()});
    CHECK(first.router == net::parse_address("10.50.0.1"));
    CHECK(lab.addresses_of(first.nic).size() == 2); // and one of the IPv6 prefix
    // By the relay, until the range is dry.
    CHECK(lab.machines[lab.lease_of(*lab.nic(*lab.machine("buoy-1"), "eth0"))->giver].name
          == "hall-r1");
    CHECK(lab.leases.back().refusal == lab::Lease::Refusal::range_dry);
    CHECK(address(lab, "buoy-4").starts_with("169.254."));
    CHECK(outcome(lab, "buoy-4", "still") == "dhcp-range-dry");
    CHECK(outcome(lab, "buoy-1", "still") == "no-route"); // no router comes with that lease
}

TEST_CASE("each uplink lets through what it is for") {
    lab::Lab lab = lab_of(R"(
lab: ways-out
subnets:
  alone:  {prefix: 10.50.0.0/24}
  beside: {prefix: 10.50.1.0/24, uplink: host}
  behind: {prefix: 10.50.2.0/24, uplink: nat}
  pier:   {uplink: bridge}
  inner:  {prefix: 10.50.3.0/24}
guests:
  hermit: {nics: [{subnet: alone}]}
  bench:  {nics: [{subnet: beside}]}
  desk:   {nics: [{subnet: behind, address: dhcp}]}
  crate:  {nics: [{subnet: pier, address: dhcp}], listens: tcp/22}
  gauge:  {nics: [{subnet: inner}], dns: [10.50.9.9, lan-gateway]}
routers:
  gate: {nics: [{subnet: pier, address: dhcp}, {subnet: inner}], nat: [{out: eth0}]}
outside:
  lan: 192.168.60.0/24
  hosts:
    office: {address: [198.51.100.10, "2001:db8:1::10"], listens: tcp/443}
    depot:  {address: 198.51.100.254}
    tower:  {address: 203.0.113.5}
)");
    const Asked table[] = {
        {"hermit", "198.51.100.10", "no-router-between"},
        {"bench", "workstation", "reply"},
        {"bench", "198.51.100.10", "no-route"},
        {"desk", "workstation", "reply"},
        {"desk", "office", "reply"},
        {"desk", "depot", "reply"},
        {"desk", "tower", "reply"},
        {"crate", "office", "reply"},
        {"crate", "workstation/lan", "reply"},
        {"workstation", "crate", "reply"},
        {"workstation", "bench", "reply"},
        {"workstation", "desk", "reply"},
        {"gauge", "tower", "reply"},
        {"gauge", "crate", "reply"},
        {"crate", "gauge", "no-route"},
        {"hermit", "office", "no-name-server"},
        {"office", "desk", "behind-translation"},
        {"office", "gauge", "behind-translation"},
        {"office", "depot", "reply"},
        {"lan-gateway", "crate", "reply"},
    };
    for (const Asked& asked : table) {
        CAPTURE(asked.from);
        CAPTURE(asked.to);
        CHECK(outcome(lab, asked.from, asked.to) == asked.gets);
    }
    net::Service https{net::Protocol::tcp, 443};
    CHECK(outcome(lab, "gauge", "office", https) == "open");
    CHECK(outcome(lab, "gauge", "tower", https) == "nothing-listens");
    CHECK(lab.subnets[*lab.subnet("pier")].gateway.ipv4
          == lab.first_address(*lab.nic(*lab.machine("lan-gateway"), "eth0"), net::Family::ipv4)
                 ->address);
}

TEST_CASE("what stands for the outside is made anew with every change") {
    const char* text = "lab: again\nsites: {shore: {space: 10.50.0.0/16}}\n"
                       "subnets: {behind: {site: shore, size: /26, uplink: nat}}\n"
                       "guests: {desk: {nics: [{subnet: behind, address: dhcp}]}}\n"
                       "outside: {hosts: {office: {address: 192.0.2.9}}}\n";
    plan::Plan plan = plan::read(text, "t").plan->written();
    lab::Lab once = lab::build(plan);
    lab::Lab twice = lab::build(plan::Complete(plan::Complete(plan).written()));
    CHECK(once.machines.size() == twice.machines.size());
    CHECK(once.addresses.size() == twice.addresses.size());
    CHECK(address(once, "desk") == address(twice, "desk"));
    CHECK(once.sites.size() == 2);
    plan.subnet("behind")->uplink = plan::Uplink::none;
    plan.outside.hosts.clear();
    lab::Lab none = lab::build(plan);
    CHECK(none.machines.size() == 1);
    CHECK(none.leases.front().refusal == lab::Lease::Refusal::no_server);
}

TEST_CASE("as many machines as there are have ways out of their own") {
    const lab::Lab lab = lab_of("lab: many\nsubnets: {a: {prefix: 10.0.0.0/22, gateway: none}}\n"
                                "guests: {g: {count: 300, nics: [{subnet: a}, {way-out: auto}]}}\n"
                                "outside: {hosts: {h: {address: 198.51.100.1}}}\n");
    const reach::Check check = reach::check(routing::settle(lab));
    CHECK(check.findings.empty());
    CHECK(check.answered == check.pairs);
}

TEST_CASE("without uplinks the names of what is outside are like any other") {
    lab::Lab lab = lab_of("lab: plain\nsubnets: {hall: {prefix: 10.50.0.0/24}}\n"
                          "routers: {workstation: {nics: [{subnet: hall}]}}\n");
    CHECK(address(lab, "workstation") == "10.50.0.1");
}
