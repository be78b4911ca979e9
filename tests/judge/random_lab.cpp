#include "random_lab.h"

#include "lab_maker.h"

#include <fmt/format.h>

namespace judge {

LabMaker::LabMaker(std::uint64_t seed) : random(seed) {
    plan["lab"] = fmt::format("made-up-{}", seed);
    for (const char* section : {"subnets", "guests", "routers"})
        plan[section] = Json::object();
    plan["links"] = Json::array();
}

Json random_lab(std::uint64_t seed, bool with_protocols) {
    LabMaker m(seed);
    m.router_count = m.random.between(1, 7);
    m.mostly_dual = m.random.percent(60);
    for (int i = 0; i < m.router_count; ++i)
        m.plan["routers"][m.router(i)] = {{"nics", Json::array()}, {"routes", Json::array()}};
    add_own_subnets(m);
    join_routers(m);
    bool protocols = m.random.percent(35) || with_protocols;
    if (!protocols || m.random.percent(20))
        add_routes(m);
    if (protocols)
        add_protocols(m.plan, m.random, with_protocols);
    add_guests(m);
    add_loopbacks(m);
    add_services(m);
    if (m.random.percent(50))
        add_filters(m);
    if (m.random.percent(40))
        add_translations(m);
    int mistakes = m.random.below(8);
    for (int i = 0; i < mistakes; ++i)
        make_mistake(m);
    if (m.random.percent(40))
        add_uplinks(m);
    if (m.random.percent(40))
        add_dhcp(m);
    if (m.random.percent(40))
        add_switches(m);
    if (m.plan.contains("outside"))
        add_ways_out(m);
    return std::move(m.plan);
}

Json random_any(std::uint64_t seed) {
    Json plan = seed % 3 == 0 ? random_sites(seed) : random_lab(seed, seed % 3 == 1);
    if (seed % 4 == 0)
        for (const auto& [name, subnet] : plan["subnets"].items())
            plan["guests"]["more-" + name] = {{"count", 3}, {"nics", {{{"subnet", name}}}}};
    return plan;
}

} // namespace judge
