#include "plans.h"

#include <fmt/format.h>

namespace jackal::bench {

std::string tree_text(unsigned subnets, unsigned guests, unsigned routers) {
    std::string text = "lab: wide\nsites:\n  all: {space: [10.0.0.0/8, \"fd40::/32\"]}\nsubnets:\n";
    auto add = std::back_inserter(text);
    for (unsigned i = 0; i < subnets; ++i)
        fmt::format_to(add, "  net-{}: {{site: all, hosts: {}}}\n", i, 4 + i % 20);
    text += "guests:\n";
    for (unsigned i = 0; i < guests; ++i)
        fmt::format_to(add, "  guest-{}: {{nics: [{{subnet: net-{}}}]}}\n", i, i % subnets);
    text += "routers:\n";
    for (unsigned r = 0; r < routers; ++r) {
        fmt::format_to(add, "  core-{}:\n    nics:\n", r);
        for (unsigned i = r; i < subnets; i += routers)
            fmt::format_to(add, "      - {{subnet: net-{}}}\n", i);
        if (r > 0)
            fmt::format_to(add, "    routes: [{{to: default, via: core-{}}}]\n", (r - 1) / 2);
    }
    text += "links:\n";
    for (unsigned r = 1; r < routers; ++r)
        fmt::format_to(add, "  - {{between: [core-{}, core-{}], delay: 2ms}}\n", r, (r - 1) / 2);
    return text;
}

namespace {

// The next machine on the way from one router of the tree to another.
unsigned towards(unsigned from, unsigned to) {
    while (to > from) {
        unsigned above = (to - 1) / 2;
        if (above == from)
            return to;
        to = above;
    }
    return (from - 1) / 2;
}

} // namespace

plan::Plan fully_routed(unsigned subnets, unsigned routers) {
    plan::Plan plan{.lab = "full"};
    for (unsigned i = 0; i < subnets; ++i) {
        std::string name = fmt::format("net-{}", i);
        net::Prefix prefix(net::Address::ipv4(10U << 24 | i << 8), 24);
        plan.subnets.push_back({.name = name, .prefixes = {prefix}});
        plan.machines.push_back({.name = fmt::format("guest-{}", i), .nics = {{.subnet = name}}});
    }
    for (unsigned r = 0; r < routers; ++r) {
        plan::Machine router{.kind = plan::MachineKind::router, .name = fmt::format("core-{}", r)};
        for (unsigned i = 0; i < subnets; ++i) {
            if (i % routers == r) {
                router.nics.push_back({.subnet = plan.subnets[i].name});
                continue;
            }
            router.routes.push_back(
                {.to = plan::Route::Target(plan.subnets[i].prefixes[0].value),
                 .via = plan::Route::NextHop(fmt::format("core-{}", towards(r, i % routers)))});
        }
        plan.machines.push_back(std::move(router));
        if (r > 0)
            plan.links.push_back({.first = fmt::format("core-{}", r),
                                  .second = fmt::format("core-{}", (r - 1) / 2),
                                  .prefixes = {net::Prefix(
                                      net::Address::ipv4(172U << 24 | 16U << 16 | r << 1), 31)}});
    }
    return plan;
}

namespace {

// A linear congruential generator (Numerical Recipes, 1992).
class Random {
  public:
    unsigned below(unsigned end) {
        state_ = state_ * 1664525U + 1013904223U;
        return (state_ >> 8) % end;
    }

  private:
    std::uint32_t state_ = 1;
};

// Link i of a ring of routers with others across it.
std::pair<unsigned, unsigned> ring_link(unsigned i, unsigned routers, Random& random) {
    unsigned one = i < routers ? i : random.below(routers);
    unsigned other = i < routers ? (i + 1) % routers : random.below(routers);
    if (one == other)
        other = (other + 1) % routers;
    return {one, other};
}

} // namespace

std::string whole_text(unsigned subnets, unsigned routers, unsigned links) {
    std::string text = "lab: whole\nsubnets:\n";
    auto add = std::back_inserter(text);
    for (unsigned i = 0; i < subnets; ++i)
        fmt::format_to(add, "  net-{}: {{prefix: 10.{}.{}.0/24}}\n", i, i / 256, i % 256);
    text += "  shore: {prefix: 192.168.7.0/24, uplink: bridge}\nguests:\n";
    for (unsigned i = 0; i < subnets; ++i)
        fmt::format_to(add, "  guest-{}: {{nics: [{{subnet: net-{}}}]}}\n", i, i);
    text += "routers:\n";
    for (unsigned r = 0; r < routers; ++r) {
        fmt::format_to(add, "  r{}:\n    nics:\n", r);
        for (unsigned i = r; i < subnets; i += routers)
            fmt::format_to(add, "      - {{subnet: net-{}}}\n", i);
        if (r == 0)
            text += "      - {name: out, subnet: shore}\n    nat: [{out: out}]\n";
        fmt::format_to(add, "    ospf: {{areas: {{0: all}}{}}}\n", r == 0 ? ", default: true" : "");
        if (r % 5 == 0)
            fmt::format_to(add, "    filter: wall-{}\n", r);
    }
    text += "links:\n";
    Random random;
    for (unsigned i = 0; i < links; ++i) {
        auto [one, other] = ring_link(i, routers, random);
        fmt::format_to(add, "  - {{between: [r{}, r{}], cost: {}}}\n", one, other,
                       1 + random.below(60'000));
    }
    text += "filters:\n";
    for (unsigned r = 0; r < routers; r += 5) {
        fmt::format_to(add, "  wall-{}:\n    default: allow\n    rules:\n", r);
        for (unsigned rule = 0; rule < 20; ++rule)
            if (rule % 2 == 0)
                fmt::format_to(add, "      - {{do: deny, way: through, proto: tcp, port: {}}}\n",
                               8000 + rule);
            else
                fmt::format_to(add,
                               "      - {{do: deny, way: through, from: net-{}, to: net-{}}}\n",
                               random.below(subnets), random.below(subnets));
    }
    return text;
}

plan::Plan ospf_mesh(unsigned routers, unsigned links) {
    plan::Plan plan;
    plan.lab = "mesh";
    for (unsigned i = 0; i < routers; ++i) {
        plan::Machine router;
        router.kind = plan::MachineKind::router;
        router.name = fmt::format("r{}", i);
        router.duties = plan::Duties{};
        plan::Ospf ospf;
        ospf.areas.push_back({.number = 0, .nics = {.all = true, .names = {}}, .at = {}});
        router.duties->protocols = plan::Protocols{};
        router.duties->protocols->ospf = std::move(ospf);
        plan.machines.push_back(std::move(router));
    }
    Random random;
    for (unsigned i = 0; i < links; ++i) {
        auto [one, other] = ring_link(i, routers, random);
        plan::Link link;
        link.first.value = plan.machines[one].name;
        link.second.value = plan.machines[other].name;
        link.prefixes.emplace_back(net::Prefix(net::Address(0, 0xffff0a000000ULL + 2ULL * i), 31));
        link.cost = static_cast<std::uint16_t>(1 + random.below(100));
        plan.links.push_back(std::move(link));
    }
    return plan;
}

plan::Plan bgp_ring(unsigned routers, unsigned prefixes) {
    constexpr std::uint32_t first_as = 4'200'000'000; // RFC 6996
    plan::Plan plan = ospf_mesh(routers, routers);
    for (unsigned i = 0; i < routers; ++i) {
        plan::Bgp bgp;
        bgp.as = first_as + i;
        for (unsigned other : {(i + 1) % routers, (i + routers - 1) % routers}) {
            plan::BgpNeighbour neighbour;
            neighbour.peer.value = plan.machines[other].name;
            neighbour.as = first_as + other;
            bgp.neighbours.push_back(std::move(neighbour));
        }
        bgp.redistribute.push_back({.from = plan::RouteSource::static_routes});
        for (unsigned p = i; p < prefixes; p += routers) {
            plan::Route route; // by way of the next router in the ring
            route.to.value = net::Prefix(net::Address(0, 0xffff14000000ULL + 256ULL * p), 24);
            route.via.value = plan.machines[(i + 1) % routers].name;
            plan.machines[i].routes.push_back(std::move(route));
        }
        plan.machines[i].duties->protocols->ospf.reset();
        plan.machines[i].duties->protocols->bgp = std::move(bgp);
    }
    return plan;
}

} // namespace jackal::bench
