#include "jackal/lab/build.h"
#include "jackal/lab/finding.h"
#include "jackal/lab/usage.h"
#include "jackal/plan/read.h"
#include "lab_of.h"

#include <cmath>
#include <doctest/doctest.h>
#include <random>
#include <set>

using namespace jackal;

namespace {

std::string addresses_of(const lab::Lab& lab, const std::string& machine) {
    std::string text;
    for (lab::NicId nic : lab.nics_of(*lab.machine(machine))) {
        text += (text.empty() ? "" : " ") + lab.nics[nic].name;
        for (lab::AddressId id : lab.addresses_of(nic))
            text += " " + net::to_string(lab.addresses[id].address) + "/"
                    + std::to_string(lab.addresses[id].length);
    }
    return text;
}

} // namespace

TEST_CASE("gateways go to the first router, the rest follow in plan order") {
    lab::Lab lab = lab_of(R"(lab: t
sites: {s: {space: [10.0.0.0/16, "fd00:1::/48"]}}
subnets:
  low:  {prefix: [10.0.1.0/24, "fd00:1:0:1::/64"]}
  high: {prefix: 10.0.2.0/24, gateway: last}
guests:
  a: {nics: [{subnet: low}]}
  b: {nics: [{subnet: low, address: 10.0.1.2}]}
  c: {nics: [{subnet: low}]}
  d: {nics: [{subnet: high, address: 10.0.2.9/16}]}
  e: {nics: [{subnet: low, name: lan, address: none}]}
routers:
  r1: {nics: [{subnet: low}, {subnet: high}]}
  r2: {nics: [{subnet: low}]}
links:
  - {between: [r1, r2]}
)");
    CHECK(addresses_of(lab, "a") == "eth0 10.0.1.3/24 fd00:1:0:1::2/64");
    CHECK(addresses_of(lab, "b") == "eth0 10.0.1.2/24");
    CHECK(addresses_of(lab, "c") == "eth0 10.0.1.4/24 fd00:1:0:1::3/64");
    CHECK(addresses_of(lab, "d") == "eth0 10.0.2.9/16");
    CHECK(addresses_of(lab, "e") == "lan");
    CHECK(addresses_of(lab, "r1")
          == "eth0 10.0.1.1/24 fd00:1:0:1::1/64 eth1 10.0.2.254/24 eth2 10.0.0.0/31 fd00:1::/127");
    CHECK(addresses_of(lab, "r2")
          == "eth0 10.0.1.5/24 fd00:1:0:1::4/64 eth1 10.0.0.1/31 fd00:1::1/127");
}

TEST_CASE("a MAC that is written for one NIC is given to no other") {
    net::Mac taken = net::mac_from_names("b", "eth0");
    lab::Lab lab = lab_of("lab: t\nsubnets: {s: {}}\nguests:\n  a: {nics: [{subnet: s, mac: \""
                          + net::to_string(taken) + "\"}]}\n  b: {nics: [{subnet: s}]}\n");
    CHECK(lab.nics[*lab.nic(*lab.machine("a"), "eth0")].mac == taken);
    net::Mac other = lab.nics[*lab.nic(*lab.machine("b"), "eth0")].mac;
    CHECK(other != taken);
    CHECK_FALSE(other.is_multicast());
}

TEST_CASE("every address is whose a plain search says, and every free place is free") {
    std::mt19937_64 random(17);
    for (int round = 0; round < 40; ++round) {
        std::string text = "lab: t\nsites: {s: {space: [10.9.0.0/21, \"fd09::/58\"]}}\nsubnets:\n";
        std::string guests = "guests:\n";
        for (unsigned i = 0; i < 1 + random() % 8; ++i) {
            std::string name = "s" + std::to_string(i);
            text += "  " + name + ": {size: /" + std::to_string(25 + random() % 6) + "}\n";
            guests += "  g" + std::to_string(i) + ": {nics: [{subnet: " + name + "}]}\n";
        }
        lab::Lab lab = lab_of(text + guests);
        lab::AddressMap map(lab);
        net::Prefix space = lab.sites[lab::SiteId{0}].space.front();
        for (std::uint64_t k = 0; k < space.size() + 200; ++k) {
            net::Address asked = space.first().plus(k);
            const lab::InterfaceAddress* owner = nullptr;
            for (const lab::InterfaceAddress& row : lab.addresses)
                if (row.address == asked)
                    owner = &row;
            lab::SegmentId segment;
            for (lab::SegmentId id : lab.segments.ids())
                if (lab.segments[id].prefix.ipv4 && lab.segments[id].prefix.ipv4->contains(asked))
                    segment = id;
            lab::Whose whose = map.whose(asked);
            REQUIRE((whose.kind == lab::Whose::Kind::machine) == (owner != nullptr));
            REQUIRE(whose.segment == segment);
            REQUIRE((whose.kind == lab::Whose::Kind::outside) == !space.contains(asked));
        }

        for (const lab::SpaceUsage& row : lab::space_usage(lab)) {
            double used = 0;
            for (const lab::PrefixUsage& prefix : lab::usage(lab))
                if (row.space.contains(prefix.prefix))
                    used += std::ldexp(1.0, row.space.length() - prefix.prefix.length());
            CHECK(row.used_share == doctest::Approx(used));
            double parts = 0;
            for (double part : row.parts)
                parts += part / static_cast<double>(row.parts.size());
            CHECK(parts == doctest::Approx(used));
        }
        for (auto [family, length] : {std::pair(net::Family::ipv4, 27), {net::Family::ipv6, 64}})
            for (const lab::Room& room : lab::rooms(lab, family, length)) {
                REQUIRE(room.first.length() == length);
                REQUIRE(room.block.contains(room.first));
                for (const lab::PrefixUsage& row : lab::usage(lab))
                    REQUIRE_FALSE(row.prefix.overlaps(room.block));
            }
    }
}

TEST_CASE("hosts, growth and size become the smallest prefix that holds them") {
    lab::Lab lab = lab_of(R"(lab: t
subnets:
  a: {hosts: 60, growth: 50%}
  b: {hosts: 6}
  c: {hosts: 6, gateway: none}
  d: {size: /20}
  e: {}
)");
    std::vector<int> lengths;
    for (const lab::PrefixUsage& row : lab::usage(lab))
        if (row.prefix.family() == net::Family::ipv4)
            lengths.push_back(row.prefix.length());
    CHECK(lengths == std::vector<int>{25, 28, 29, 20, 24});
}

TEST_CASE("random plans are placed without overlap, inside their site, the same each time") {
    std::mt19937_64 random(3);
    for (int round = 0; round < 60; ++round) {
        std::string text = "lab: t\nsites: {s: {space: [10.7.0.0/20, \"fd00:7::/48\"]}}\nsubnets:\n"
                           "  fixed: {prefix: 10.7.5.64/26}\n";
        unsigned subnets = 1 + static_cast<unsigned>(random() % 12);
        unsigned wanted = 64;
        for (unsigned i = 0; i < subnets; ++i) {
            unsigned length = 23 + static_cast<unsigned>(random() % 8);
            wanted += 1U << (32 - length);
            text += "  s" + std::to_string(i) + ": {size: /" + std::to_string(length) + "}\n";
        }
        lab::Lab lab = lab_of(text);
        std::vector<lab::PrefixUsage> rows = lab::usage(lab);
        if (wanted <= 2048) // half of the space: the fixed block cannot stand in the way
            CHECK(lab.unplaced.empty());
        net::Prefix ipv4 = *net::parse_prefix("10.7.0.0/20");
        net::Prefix ipv6 = *net::parse_prefix("fd00:7::/48");
        for (std::size_t i = 0; i < rows.size(); ++i) {
            REQUIRE((ipv4.contains(rows[i].prefix) || ipv6.contains(rows[i].prefix)));
            for (std::size_t j = 0; j < i; ++j)
                REQUIRE_FALSE(rows[i].prefix.overlaps(rows[j].prefix));
        }
        std::vector<lab::PrefixUsage> again = lab::usage(lab_of(text));
        REQUIRE(again.size() == rows.size());
        for (std::size_t i = 0; i < rows.size(); ++i)
            REQUIRE(again[i].prefix == rows[i].prefix);
    }
}

TEST_CASE("what finds no room is said, with the room there is") {
    lab::Lab lab = lab_of(R"(lab: t
sites: {s: {space: [10.0.0.0/26]}}
subnets: {big: {hosts: 30}, bigger: {hosts: 40}, tiny: {prefix: 192.0.2.0/30}}
guests:
  a: {nics: [{subnet: tiny}]}
  b: {nics: [{subnet: tiny}]}
)");
    REQUIRE(lab.unplaced.size() == 2);
    CHECK(lab.unplaced[0].what == "subnet bigger wants a /26 for 40 hosts");
    CHECK(lab.unplaced[0].why == "site s has no address space left");
    CHECK(lab.unplaced[1].why == "all 2 usable addresses of 192.0.2.0/30 are taken");
}

TEST_CASE("overlap and duplicates matter only where machines can meet") {
    const char* apart = R"(lab: t
subnets: {a: {prefix: 10.0.0.0/24}, b: {prefix: 10.0.0.0/24}}
guests:
  x: {nics: [{subnet: a, address: 10.0.0.5}]}
  y: {nics: [{subnet: b, address: 10.0.0.5}]}
)";
    auto slugs = [](const lab::Lab& lab) {
        std::set<std::string_view> found;
        for (const lab::Finding& f : lab::findings(lab))
            found.insert(plan::slug(f.cause));
        return found;
    };
    CHECK(slugs(lab_of(apart)) == std::set<std::string_view>{"no-router-between"});
    std::string joined = std::string(apart) + "routers: {r: {nics: [{subnet: a}, {subnet: b}]}}\n";
    CHECK(slugs(lab_of(joined))
          == std::set<std::string_view>{"duplicate-address", "subnets-overlap"});
}

TEST_CASE("a plan built in code is refused where a file would be") {
    plan::Plan plan{.lab = "t"};
    plan.machines.push_back({.name = "a", .nics = {{.subnet = "nowhere"}}});
    CHECK_THROWS_AS(lab::build(plan), std::invalid_argument);
}

TEST_CASE("no two remedies propose one address or range, and none leaves ranges behind") {
    const lab::Lab twice = lab_of("lab: t\nsubnets: {a: {prefix: 10.50.1.0/24}}\nguests:\n"
                                  "  d: {count: 4, nics: [{subnet: a, address: 10.50.1.9}]}\n");
    std::set<net::Address> proposed;
    for (const lab::Finding& finding : lab::findings(twice))
        for (const plan::Edit& edit : finding.remedy.edits)
            if (edit.move == plan::Move::set_nic_address)
                CHECK(proposed.insert(net::parse_address(edit.changes[0].value).value()).second);
    CHECK(proposed.size() == 3);

    const lab::Lab overlapping =
        lab_of("lab: t\nsites: {s: {space: 10.0.0.0/8}}\nsubnets:\n"
               "  a: {site: s, prefix: 10.1.0.0/24}\n  b: {site: s, prefix: 10.1.0.0/24}\n"
               "  c: {site: s, prefix: 10.1.0.0/24, dhcp: {range: 10.1.0.100-10.1.0.200}}\n"
               "routers: {r: {nics: [{subnet: a}, {subnet: b}, {subnet: c}]}}\n");
    std::set<net::Prefix> ranges;
    for (const lab::Finding& finding : lab::findings(overlapping))
        for (const plan::Edit& edit : finding.remedy.edits)
            if (edit.move == plan::Move::set_subnet_prefix)
                CHECK(ranges.insert(net::parse_prefix(edit.changes[0].value).value()).second);
    CHECK(ranges.size() >= 2);

    auto plan_of = [](const char* text) { return plan::read(text, "t").plan->written(); };
    const plan::Plan still =
        plan_of("lab: t\nsubnets:\n  c: {prefix: 10.1.0.0/24, reserve: 10.1.0.9, "
                "dhcp: {range: 10.1.0.100-10.1.0.200, router: 10.1.0.7}}\n");
    const plan::Plan moved =
        plan::apply(still, {plan::set_subnet_prefix(still, "c", *net::parse_prefix("10.2.0.0/24"))})
            .plan.value();
    CHECK((moved
           == plan_of("lab: t\nsubnets:\n  c: {prefix: 10.2.0.0/24, reserve: 10.2.0.9, "
                      "dhcp: {range: 10.2.0.100-10.2.0.200, router: 10.2.0.7}}\n")));
}

TEST_CASE("a guest on one segment is not made to forward") {
    const lab::Lab lab = lab_of(
        "lab: t\nsubnets: {a: {prefix: 10.50.1.0/24}}\nguests:\n  g: {nics: [{subnet: a, address: "
        "10.50.1.9}]}\nrouters: {r: {nics: [{subnet: a}], gateway: 10.50.1.9}}\n");
    bool found = false;
    for (const lab::Finding& finding : lab::findings(lab))
        if (finding.cause == plan::Cause::next_hop_does_not_forward) {
            found = true;
            CHECK(finding.remedy.edits.empty());
            CHECK(finding.remedy.advice == "name a router as the next hop instead of g");
        }
    CHECK(found);
}
