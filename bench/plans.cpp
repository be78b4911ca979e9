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

} // namespace jackal::bench
