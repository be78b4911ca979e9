// Filters, translations and services.
#include "jackal/probe/ping.h"
#include "lab_of.h"

#include <algorithm>
#include <doctest/doctest.h>
#include <fmt/format.h>
#include <random>

using namespace jackal;
using net::Protocol;
using packet::Ending;

namespace {

// --- an oracle: rules tried one after another, and all flows of a small world ---------------

bool covers(const lab::FilterRule& rule, plan::Way way, const net::Flow& flow) {
    auto holds = [](bool any, const std::vector<net::Prefix>& prefixes, net::Address address) {
        return any || std::ranges::any_of(prefixes, [&](const net::Prefix& prefix) {
                   return prefix.contains(address);
               });
    };
    bool port =
        rule.ports.empty()
        || (net::has_ports(flow.protocol) && std::ranges::any_of(rule.ports, [&](net::Ports ports) {
                return ports.first <= flow.destination_port && flow.destination_port <= ports.last;
            }));
    return (!rule.way || *rule.way == way)
           && (rule.protocol == Protocol::any || rule.protocol == flow.protocol) && port
           && holds(rule.any_from, rule.from, flow.source)
           && holds(rule.any_to, rule.to, flow.destination);
}

std::uint32_t first_by_trial(const lab::Filter& filter, plan::Way way, const net::Flow& flow) {
    for (std::uint32_t i = 0; i < filter.rules.size(); ++i)
        if (covers(filter.rules[i], way, flow))
            return i;
    return lab::RuleIndex::none;
}

class World {
  public:
    explicit World(unsigned seed) : random_(seed) {}

    net::Address address(net::Family family) {
        std::uint32_t host = static_cast<std::uint32_t>(random_() % 8);
        return family == net::Family::ipv4 ? net::Address::ipv4(10U << 24 | host)
                                           : net::Address(0xfd00ULL << 48, host);
    }
    lab::Filter filter() {
        lab::Filter filter{.allows = coin()};
        for (std::size_t n = random_() % 12; n > 0; --n)
            filter.rules.push_back(rule());
        std::size_t entries_left = random_() % 4 == 0 ? 40 : lab::RuleIndex::most_entries;
        filter.index = lab::RuleIndex(filter.rules, entries_left);
        return filter;
    }
    template <class Use>
    void each_flow(Use use) {
        constexpr std::array<std::uint16_t, 5> ports{1, 5, 6, 9, 65535};
        for (net::Family family : net::both_families)
            for (std::uint32_t a = 0; a < 8; a += 3)
                for (std::uint32_t b = 0; b < 8; ++b)
                    for (plan::Way way : {plan::Way::in, plan::Way::out, plan::Way::through})
                        for (Protocol protocol : {Protocol::icmp, Protocol::tcp, Protocol::udp})
                            for (std::uint16_t port : ports) {
                                auto at = [&](std::uint32_t host) {
                                    return family == net::Family::ipv4
                                               ? net::Address::ipv4(10U << 24 | host)
                                               : net::Address(0xfd00ULL << 48, host);
                                };
                                if (net::has_ports(protocol) || port == 1)
                                    use(way,
                                        net::Flow{at(a), at(b), protocol, 50000,
                                                  net::has_ports(protocol) ? port
                                                                           : std::uint16_t{0}});
                            }
    }

  private:
    bool coin() { return random_() % 2 == 0; }

    std::vector<net::Prefix> prefixes() {
        std::vector<net::Prefix> result;
        for (std::size_t n = 1 + random_() % 2; n > 0; --n) {
            net::Family family = coin() ? net::Family::ipv4 : net::Family::ipv6;
            int bits = net::address_bits(family);
            int length = random_() % 6 == 0 ? 0 : bits - static_cast<int>(random_() % 4);
            result.emplace_back(address(family), length);
        }
        return result;
    }
    lab::FilterRule rule() {
        lab::FilterRule rule{.allows = coin()};
        constexpr std::array ways{plan::Way::in, plan::Way::out, plan::Way::through};
        constexpr std::array protocols{Protocol::any, Protocol::icmp, Protocol::tcp, Protocol::udp};
        if (coin())
            rule.way = ways.at(random_() % ways.size());
        rule.protocol = protocols.at(random_() % protocols.size());
        rule.any_from = coin();
        if (!rule.any_from)
            rule.from = prefixes();
        rule.any_to = coin();
        if (!rule.any_to)
            rule.to = prefixes();
        if (rule.protocol != Protocol::icmp && coin())
            rule.ports = {{1, static_cast<std::uint16_t>(1 + random_() % 7)},
                          {5, coin() ? std::uint16_t{6} : std::uint16_t{65535}}};
        return rule;
    }

    std::mt19937 random_;
};

// A guest behind a translating gateway, a server behind a filter.
constexpr const char* hall = R"(lab: hall
subnets:
  desks:  {prefix: [10.1.0.0/24, "fd01::/64"]}
  middle: {prefix: [10.2.0.0/24, "fd02::/64"]}
  racks:  {prefix: [10.3.0.0/24, "fd03::/64"], filter: guarded}
filters:
  guarded:
    default: deny
    rules:
      - {do: deny, way: in, proto: tcp, port: 23}
      - {do: allow, way: in, proto: tcp, from: middle}
      - {do: allow, way: in, proto: icmp}
  open: {default: allow}
guests:
  desk:   {nics: [{subnet: desks}]}
  server: {nics: [{subnet: racks}], listens: [tcp/80, udp/53]}
  spy:    {nics: [{subnet: middle}], gateway: 10.2.0.2, listens: tcp/9}
routers:
  r1:
    nics: [{subnet: desks}, {subnet: middle}]
    routes: [{to: racks, via: r2}]
    nat:
      - {out: eth1, from: 10.1.0.0/25}
      - {in: eth1, proto: tcp, port: 2000, to: desk, to-port: 9}
  r2:
    nics: [{subnet: middle}, {subnet: racks}]
    routes: [{to: desks, via: r1}]
)";

struct Hall {
    probe::PingAnswer ask(const char* from, const char* to, const char* service,
                          std::optional<net::Family> family = net::Family::ipv4) const {
        return probe::ping(settled, {.from = *probe::endpoint(lab, from),
                                     .to = *probe::endpoint(lab, to),
                                     .service = net::parse_service(service),
                                     .family = family});
    }

    lab::Lab lab = lab_of(hall);
    routing::Settled settled = routing::settle(lab);
};

} // namespace

TEST_CASE("the index finds the rule that trying one after another finds") {
    for (unsigned seed = 0; seed < 200; ++seed) {
        World world(seed);
        lab::Filter filter = world.filter();
        std::size_t wrong = 0;
        world.each_flow([&](plan::Way way, const net::Flow& flow) {
            wrong += filter.index.first(way, flow) != first_by_trial(filter, way, flow) ? 1 : 0;
        });
        CAPTURE(seed);
        CHECK(wrong == 0);
    }
}

std::vector<std::uint32_t> shadowed_in(const lab::Filter& filter) {
    std::size_t comparisons_left = 1'000'000;
    return lab::shadowed_rules(filter, comparisons_left);
}

TEST_CASE("a shadowed rule decides nothing, and taking it out changes nothing") {
    std::size_t found = 0;
    for (unsigned seed = 0; seed < 300; ++seed) {
        World world(seed);
        lab::Filter filter = world.filter();
        std::vector<std::uint32_t> shadowed = shadowed_in(filter);
        found += shadowed.size();
        std::size_t decided = 0;
        world.each_flow([&](plan::Way way, const net::Flow& flow) {
            std::uint32_t rule = first_by_trial(filter, way, flow);
            decided += std::ranges::count(shadowed, rule);
        });
        CAPTURE(seed);
        CHECK(decided == 0);
    }
    CHECK(found > 50);
    // Several rules together can leave one nothing to decide.
    lab::Filter halves;
    for (const char* prefix : {"10.0.0.0/9", "10.128.0.0/9", "10.0.0.0/8", "10.0.0.0/7"})
        halves.rules.push_back({.from = {*net::parse_prefix(prefix)}, .any_from = false});
    CHECK(shadowed_in(halves) == std::vector<std::uint32_t>{2});
}

TEST_CASE("what a sender sees of a service") {
    Hall h;
    using probe::Outcome;
    struct Case {
        const char* from;
        const char* to;
        const char* service;
        Outcome outcome;
    };
    for (const Case& c : {
             Case{"desk", "server", "tcp/80", Outcome::open},      // as r1, on middle
             Case{"desk", "server", "tcp/81", Outcome::refused},   //
             Case{"desk", "server", "tcp/23", Outcome::dropped},   // rule 1
             Case{"desk", "server", "udp/53", Outcome::dropped},   // the default
             Case{"server", "desk", "tcp/9", Outcome::dropped},    // nothing goes out
             Case{"spy", "r1/eth1", "tcp/2000", Outcome::refused}, // sent on to desk, port 9
             Case{"spy", "r1/eth1", "tcp/2001", Outcome::refused}, // r1 itself
             Case{"desk", "spy", "udp/9", Outcome::refused},       // by port unreachable
             Case{"desk", "spy", "tcp/9", Outcome::open},          //
             Case{"desk", "10.9.9.9", "tcp/9", Outcome::unreachable},
         }) {
        CAPTURE(c.from);
        CAPTURE(c.service);
        CHECK(h.ask(c.from, c.to, c.service).outcome() == c.outcome);
    }
    // IPv6 is not translated, so the filter sees the desk itself.
    CHECK(h.ask("desk", "server", "tcp/80", net::Family::ipv6).outcome() == Outcome::dropped);
    CHECK(h.ask("desk", "server", "", net::Family::ipv6).outcome() == Outcome::reply);
}

TEST_CASE("a journey tells what was translated where, and answers are turned back") {
    Hall h;
    probe::PingAnswer answer = h.ask("desk", "server", "tcp/80");
    REQUIRE(answer.reaches);
    auto address = [](const char* text) { return *net::parse_address(text); };
    REQUIRE(answer.out->rewrites.size() == 1);
    CHECK(h.lab.machines[answer.out->steps[answer.out->rewrites[0].step].machine].name == "r1");
    CHECK(answer.out->flow_at(0).source == address("10.1.0.2"));
    CHECK(answer.out->flow_at(1).source == address("10.2.0.1"));
    CHECK(answer.out->flow.source == address("10.2.0.1"));
    REQUIRE(answer.back->rewrites.size() == 1);
    CHECK(answer.back->packet.destination == address("10.2.0.1"));
    CHECK(answer.back->flow == answer.out->packet.flow().reversed());

    probe::PingAnswer inwards = h.ask("spy", "r1/eth1", "tcp/2000");
    CHECK(inwards.out->redirected());
    CHECK(inwards.out->flow.destination_port == 9);
    CHECK(h.lab.machines[inwards.out->last_machine()].name == "desk");
    CHECK(inwards.back->flow == inwards.out->packet.flow().reversed());
}

TEST_CASE("a denied packet names the filter, its place and the least rule") {
    Hall h;
    probe::PingAnswer answer = h.ask("desk", "server", "tcp/23");
    REQUIRE(answer.out->ending == Ending::filtered);
    const packet::Denial& denial = answer.out->denial;
    CHECK(h.lab.filters[denial.filter].name == "guarded");
    CHECK(denial.rule == 0);
    CHECK(h.lab.nic_name(denial.nic) == "server/eth0");
    CHECK(answer.diagnosis->at.line == 10);
    const auto edit = plan::added_rule(answer.diagnosis->remedy.edits.at(0)).value();
    CHECK(edit.position == 0);
    CHECK(plan::to_string(edit.rule)
          == "{do: allow, way: in, proto: tcp, port: 23, from: r1, to: server}");
}
